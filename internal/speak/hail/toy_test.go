package hail

import (
	"bytes"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/secret"
)

var mac = device.MAC{0x02, 0x7a, 0x11, 0, 6, 1}

// toy is a device and the LAN that it is on: every message is kept, as a listener would.
type toy struct {
	t       testing.TB
	station *Station
	mu      sync.Mutex
	user    string
	pass    string
	salt    []byte
	key     []byte // of the password that keyOf tells
	keyOf   string
	did     []string
	wrong   int
	shut    time.Duration
	ears    map[int]func([]byte)
	next    int
	sent    [][]byte              // by controllers
	told    [][]byte              // by the device
	bend    func([]byte) [][]byte // what becomes of a message on its way to the device
	speaks  []int
	pairs   []Pair
}

func newToy(t testing.TB) *toy { return newToyOf(t, Version2) }

func newToyOf(t testing.TB, versions ...int) *toy {
	y := &toy{t: t, speaks: versions, salt: bytes.Repeat([]byte{7}, SaltLen), ears: map[int]func([]byte){}}
	key, err := NewKey(bytes.NewReader(bytes.Repeat([]byte{3}, 64)))
	require.NoError(t, err)
	y.station = NewStation(mac, key, y, nil, time.Now)
	return y
}

func (y *toy) Describe() Description {
	return Description{Make: "Tallow & Pike", Model: "Gatehouse H", Serial: "GH1", Kind: "panel", Fresh: y.pass == "", Salt: y.salt, Does: []string{DoRead, DoServer}, Speaks: y.speaks}
}

func (y *toy) PasswordKey(version int) []byte {
	if y.pass == "" {
		return nil
	}
	if of := fmt.Sprintf("%d\x00%s\x00%s", version, y.user, y.pass); of != y.keyOf {
		k, err := PasswordKey(version, y.user, secret.New(y.pass), y.salt)
		require.NoError(y.t, err)
		y.key, y.keyOf = k, of
	}
	return y.key
}

func (y *toy) Wrong() { y.wrong++ }

func (y *toy) Fits() { y.wrong = 0 }

func (y *toy) Shut() time.Duration { return y.shut }

func (y *toy) Carry(r Request) (Response, func()) {
	y.did = append(y.did, r.Do)
	switch r.Do {
	case DoClaim:
		y.user, y.pass = r.User, r.Password
	case DoPassword:
		y.pass = r.Password
	case DoRead:
		return Response{OK: true, State: &State{Name: "Gate"}}, nil
	case DoPairs:
		return Response{OK: true, Pairs: y.pairs}, nil
	}
	return Response{OK: true}, nil
}

func (y *toy) Send(payload []byte) error {
	y.mu.Lock()
	y.sent = append(y.sent, bytes.Clone(payload))
	bend := y.bend
	y.mu.Unlock()
	list := [][]byte{payload}
	if bend != nil {
		list = bend(payload)
	}
	for _, p := range list {
		y.station.Take(p, y.hear)
	}
	return nil
}

func (y *toy) hear(answer []byte) {
	y.mu.Lock()
	y.told = append(y.told, bytes.Clone(answer))
	ears := make([]func([]byte), 0, len(y.ears))
	for _, f := range y.ears {
		ears = append(ears, f)
	}
	y.mu.Unlock()
	for _, f := range ears {
		f(answer)
	}
}

func (y *toy) Hear(_ device.MAC, f func([]byte)) func() {
	y.mu.Lock()
	defer y.mu.Unlock()
	id := y.next
	y.next++
	y.ears[id] = f
	return func() {
		y.mu.Lock()
		defer y.mu.Unlock()
		delete(y.ears, id)
	}
}

// hurried is the pace of tests: a question is sent again after 8 ms.
const hurried = 50

func (y *toy) dial() *Client {
	c, err := Dial(y.t.Context(), y, mac, "", hurried)
	require.NoError(y.t, err)
	y.t.Cleanup(c.Close)
	return c
}

const first = "Harbour-Light-42"

func (y *toy) claimed() *toy {
	c := y.dial()
	require.NoError(y.t, c.Claim(y.t.Context()))
	_, err := c.Call(y.t.Context(), Request{Do: DoClaim, User: "admin", Password: first})
	require.NoError(y.t, err)
	return y
}

// in both versions, the test is played.
func inEach(t *testing.T, f func(t *testing.T, version int)) {
	for _, v := range Speaks {
		t.Run(fmt.Sprintf("version %d", v), func(t *testing.T) { f(t, v) })
	}
}
