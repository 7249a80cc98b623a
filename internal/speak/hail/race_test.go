package hail

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

// thief answers for a device with a key of its own, and forges what it cannot prove.
type thief struct {
	*toy
	own *toy // what it claims to be, with its own key
}

func newThief(t *testing.T, y *toy, fresh bool) *thief {
	own := newToyOf(t, y.speaks...)
	key, err := NewKey(bytes.NewReader(bytes.Repeat([]byte{44}, 64)))
	require.NoError(t, err)
	own.station.own = key
	if !fresh {
		own.user, own.pass = "admin", "guess-me-1"
	}
	return &thief{y, own}
}

// forged gives a message that the device did not send.
func forged(k Kind, x Exchange, seq uint32, version int, body []byte) []byte {
	m := Message{Version: byte(version), Kind: k, Device: mac, Exchange: x, Seq: seq, Body: body}
	return m.Encode()
}

// Whoever has another key than the one that a conversation is with gets nothing, whenever
// it speaks: before the device, after it, or instead of it, with announcements between the
// comparison and the handshake.
func TestAThiefThatRacesGetsNothing(t *testing.T) {
	for _, fresh := range []bool{true, false} {
		for _, when := range []string{"before", "after", "announced in between", "instead"} {
			inEach(t, func(t *testing.T, version int) {
				name := fmt.Sprintf("%s, fresh %v", when, fresh)
				y := newToyOf(t, version)
				var claimed Exchange
				if !fresh {
					y.claimed()
					for _, m := range y.sent {
						if p, err := Parse(m); err == nil && p.Kind == Proof {
							claimed = p.Exchange
						}
					}
				}
				pin := MakePin(byte(version), y.station.own.Public, nil)
				th := newThief(t, y, fresh)
				y.bend = func(m []byte) [][]byte {
					p, err := Parse(m)
					require.NoError(t, err)
					answer := func() { th.own.station.Take(m, y.hear) }
					switch {
					case when == "instead" && p.Kind != Seek:
						answer()
						return nil
					case when == "after":
						defer func() { go answer() }()
					case when == "announced in between" && p.Kind == Begin:
						th.own.station.Announce(y.hear)
						answer()
					case when == "before":
						answer()
					}
					return [][]byte{m}
				}
				c, err := Dial(t.Context(), y, mac, pin, hurried)
				require.NoError(t, err, name)
				defer c.Close()
				if fresh {
					if err = c.Claim(t.Context()); err == nil {
						_, err = c.Call(t.Context(), Request{Do: DoClaim, User: "admin", Password: first})
					}
				} else {
					_, err = c.Enter(t.Context(), "admin", secret.New(first))
				}
				if when == "instead" {
					require.Error(t, err, name)
				} else {
					require.NoError(t, err, name)
					assert.Equal(t, first, y.pass, name)
				}
				assert.NotContains(t, th.own.did, DoClaim, name)
				for _, m := range y.sent {
					p, err := Parse(m)
					require.NoError(t, err)
					// A Proof for the device's own key is of no use to anybody else.
					assert.False(t, when == "instead" && p.Kind == Proof && p.Exchange != claimed, "%s: it was given something to guess against", name)
				}
			})
		}
	}
}

// A refusal in the open is not believed where the device itself takes what it was sent; in
// version 2 it is not even heard. A salt that was forged is not worked with.
func TestForgedRefusalsAndSalts(t *testing.T) {
	reasons := []Reason{NotFresh, IsFresh, WrongKey, Locked, NoSuch}
	if testing.Short() { // with the race detector, which takes ten times as long over a key
		reasons = reasons[2:3]
	}
	for _, reason := range reasons {
		inEach(t, func(t *testing.T, version int) {
			y := newToyOf(t, version).claimed()
			c := y.dial()
			_, err := c.Enter(t.Context(), "admin", secret.New(first))
			require.NoError(t, err)
			pin := c.Pin()
			y.bend = func(m []byte) [][]byte {
				p, err := Parse(m)
				require.NoError(t, err)
				if p.Kind == Seek { // its own key, with another salt
					d := y.Describe()
					d.Key, d.Salt, d.Speaks = y.station.own.Public, bytes.Repeat([]byte{66}, SaltLen), y.speaks
					body, err := json.Marshal(d)
					require.NoError(t, err)
					y.hear(forged(Here, p.Exchange, 0, Meeting, body))
				} else {
					body := append(refusalBody(reason, 1<<32-1), make([]byte, markLen)...)
					y.hear(forged(Refusal, p.Exchange, p.Seq, version, body))
					y.hear(forged(Refusal, p.Exchange, p.Seq, version, body[:refusalLen]))
				}
				return [][]byte{m}
			}
			c, err = Dial(t.Context(), y, mac, pin, hurried)
			require.NoError(t, err)
			fits, err := c.Enter(t.Context(), "admin", secret.New(first))
			require.NoError(t, err, "reason %d", reason)
			assert.True(t, fits)
			assert.Zero(t, y.wrong)
			_, err = c.Call(t.Context(), Request{Do: DoRead})
			require.NoError(t, err)
		})
	}
}

// Where nothing but a forged refusal comes, it is told, and known for one that anybody may
// have sent.
func TestARefusalInTheOpenHasNoWitness(t *testing.T) {
	inEach(t, func(t *testing.T, version int) {
		y := newToyOf(t, version).claimed()
		c := y.dial()
		y.bend = func(m []byte) [][]byte {
			p, err := Parse(m)
			require.NoError(t, err)
			y.hear(forged(Refusal, p.Exchange, p.Seq, version, refusalBody(Locked, 1<<32-1)))
			return nil
		}
		_, err := c.Enter(t.Context(), "admin", secret.New(first))
		var refusal *RefusalError
		require.ErrorAs(t, err, &refusal)
		assert.Equal(t, Locked, refusal.Reason)
		assert.False(t, refusal.By.Stands())
		assert.False(t, c.Word().Stands())
	})
}

// Two that answer for one MAC with different keys, where none is on record: nobody is chosen.
func TestTwoKeysForOneMAC(t *testing.T) {
	y := newToy(t)
	th := newThief(t, y, true)
	y.bend = func(m []byte) [][]byte {
		th.own.station.Take(m, y.hear)
		return [][]byte{m}
	}
	_, err := Dial(t.Context(), y, mac, "", hurried)
	require.ErrorIs(t, err, ErrTwoKeys)
}

// One that was met in version 2 is not spoken to in version 1 because an announcement says so.
func TestNoWayBackToAnOlderVersion(t *testing.T) {
	y := newToyOf(t, Version1, Version2)
	pin := MakePin(Version2, y.station.own.Public, nil)
	y.speaks = []int{Version1}
	var other *KeyError
	_, err := Dial(t.Context(), y, mac, pin, hurried)
	require.ErrorAs(t, err, &other)
	// The other way is an update of its firmware.
	assert.True(t, MakePin(Version1, y.station.own.Public, y.salt).SameKey(pin))
	assert.False(t, pin.SameKey(MakePin(Version1, y.station.own.Public, nil)))
}

// What a device says of itself to a claim is said under its key.
func TestFreshIsProved(t *testing.T) {
	inEach(t, func(t *testing.T, version int) {
		y := newToyOf(t, version).claimed()
		c := y.dial()
		fresh, err := c.Fresh(t.Context())
		require.NoError(t, err)
		assert.False(t, fresh)
		y.pass = ""
		c = y.dial()
		fresh, err = c.Fresh(t.Context())
		require.NoError(t, err)
		assert.True(t, fresh)
		require.NoError(t, c.Claim(t.Context()), "the claim that was begun goes on")
		assert.True(t, c.Entered())
	})
}

// Everything at its documented maximum goes over the wire: a description, and the pairs of
// a door station in parts.
func TestTheLargestThatIsDocumented(t *testing.T) {
	y := newToy(t)
	text := strings.Repeat("W", MaxText)
	for i := range 64 {
		y.pairs = append(y.pairs, Pair{
			Serial: fmt.Sprintf("%s%02d", text[:62], i), Address: netip.MustParseAddr("255.255.255.255"), Door: true, Floor: -100, Flat: text[:32],
			Mark: SecretMark(secret.New("x")), Registered: true, Why: text,
		})
	}
	y.claimed()
	c := y.dial()
	_, err := c.Enter(t.Context(), "admin", secret.New(first))
	require.NoError(t, err)
	var all []Pair
	for from, messages := 0, 0; ; messages++ {
		a, err := c.Call(t.Context(), Request{Do: DoPairs, From: from})
		require.NoError(t, err)
		all = append(all, a.Pairs...)
		if from = a.Next; from == 0 {
			assert.Greater(t, messages, 3)
			break
		}
	}
	assert.Equal(t, y.pairs, all)
	for _, m := range append(y.sent, y.told...) {
		assert.LessOrEqual(t, len(m), MaxMessage)
	}
	// A description with every text at its longest, and all calls.
	d := Description{
		Make: text, Model: text, Serial: text, Firmware: text, Name: text, Kind: text, Fresh: true, DHCP: true,
		Address: netip.MustParsePrefix("255.255.255.255/32"), Gateway: netip.MustParseAddr("255.255.255.255"), Salt: make([]byte, SaltLen),
		Does:  []string{DoRead, DoClock, DoName, DoAddress, DoGateway, DoPassword, DoServer, DoPair, DoPairs, DoUnpair, DoWink, DoRestart, DoReset},
		Rules: &Rules{64, 64, 64, 64, 64, 64, true, true, text}, Locked: 1<<32 - 1, Refusal: make([]byte, refusalKeyLen), Speaks: []int{1, 2},
	}
	b, err := json.Marshal(d)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(b)+HeaderLen+2*keyLen+2*16, MaxMessage, "an Answer")
	d.Key, d.Rules = make([]byte, keyLen), nil
	b, err = json.Marshal(d)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(b)+HeaderLen, MaxMessage, "a Here")
}

// A refused Proof that is sent again gets the same refusal, byte for byte, and counts once.
func TestAWrongProofTwice(t *testing.T) {
	y := newToy(t).claimed()
	y.bend = func(m []byte) [][]byte { return [][]byte{m, m} }
	c := y.dial()
	fits, err := c.Enter(t.Context(), "admin", secret.New("Wrong-word-77"))
	require.NoError(t, err)
	assert.False(t, fits)
	assert.Equal(t, 1, y.wrong)
}

// An answer to a Seek for everyone waits at random.
func TestTheAnswerToEveryoneWaits(t *testing.T) {
	y := newToy(t)
	y.station.Spread = 20 * time.Millisecond
	got := make(chan struct{}, 2)
	m := Message{Kind: Seek, Device: Everyone, Exchange: Exchange{1}}
	y.station.Take(m.Encode(), func([]byte) { got <- struct{}{} })
	select {
	case <-got:
	case <-t.Context().Done():
	}
}
