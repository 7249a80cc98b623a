package hail

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

func TestADeviceIsClaimedOnceAndThenEnteredByItsPassword(t *testing.T) {
	inEach(t, claimedOnce)
}

func claimedOnce(t *testing.T, version int) {
	y := newToyOf(t, version).claimed()
	ctx := t.Context()
	c := y.dial()
	about, by := c.About()
	assert.False(t, about.Fresh)
	assert.False(t, by.Stands(), "it is only heard")
	assert.Empty(t, c.Pin(), "nobody has proved anything")
	var refusal *RefusalError
	require.ErrorAs(t, c.Claim(ctx), &refusal)
	assert.Equal(t, NotFresh, refusal.Reason)

	fits, err := c.Enter(ctx, "admin", secret.New("Harbour-Light-43"))
	require.NoError(t, err)
	assert.False(t, fits)
	assert.Equal(t, version == Version2, c.Word().Stands(), "whose refusal it is")
	assert.Equal(t, 1, y.wrong)
	fits, err = c.Enter(ctx, "root", secret.New(first))
	require.NoError(t, err)
	assert.False(t, fits, "the user is in the key")
	fits, err = c.Enter(ctx, "admin", secret.New(first))
	require.NoError(t, err)
	assert.True(t, fits)
	assert.True(t, c.Word().Stands())
	assert.NotEmpty(t, c.Pin())
	_, err = c.Call(ctx, Request{Do: DoClaim, User: "admin", Password: "Another-9"})
	require.ErrorContains(t, err, "not in this conversation")
	a, err := c.Call(ctx, Request{Do: DoRead})
	require.NoError(t, err)
	assert.Equal(t, "Gate", a.State.Name)

	// A conversation that was begun by the old password ends with it.
	other := y.dial()
	_, err = other.Enter(ctx, "admin", secret.New(first))
	require.NoError(t, err)
	_, err = c.Call(ctx, Request{Do: DoPassword, Password: "Quay-side-77"})
	require.NoError(t, err)
	_, err = other.Call(ctx, Request{Do: DoName, Name: "x"})
	require.Error(t, err)
	assert.Equal(t, "Quay-side-77", y.pass)
	assert.NotContains(t, y.did, DoName)

	// And nobody on the LAN has seen a password.
	for _, m := range append(y.sent, y.told...) {
		for _, p := range []string{first, "Harbour-Light-43", "Quay-side-77", "Another-9"} {
			assert.NotContains(t, string(m), p)
		}
	}
	y.shut = time.Minute
	_, err = y.dial().Enter(ctx, "admin", secret.New("Quay-side-77"))
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, Locked, refusal.Reason)
	assert.Equal(t, uint32(60), refusal.Seconds)
	assert.Equal(t, version == Version2, refusal.By.Stands())
}

// Everything that was ever said to a device is said to it again, altered in each byte, and
// under other headers: it changes nothing, whatever the kind of message.
func TestAReplayedAlteredOrForgedMessageChangesNothing(t *testing.T) {
	y := newToy(t).claimed()
	c := y.dial()
	_, err := c.Enter(t.Context(), "admin", secret.New(first))
	require.NoError(t, err)
	for _, do := range []string{DoClock, DoName, DoAddress, DoGateway, DoServer, DoPair, DoPassword, DoRestart, DoReset} {
		_, err := c.Call(t.Context(), Request{Do: do, Password: first})
		require.NoError(t, err)
	}
	said, did := append(y.sent[:len(y.sent):len(y.sent)], y.told...), len(y.did)
	kinds := map[Kind]int{}
	for _, m := range said {
		p, err := Parse(m)
		require.NoError(t, err)
		kinds[p.Kind]++
		y.station.Take(m, y.hear)
		for i := range m {
			altered := bytes.Clone(m)
			altered[i] ^= 0x01
			y.station.Take(altered, y.hear)
		}
		for k := Seek; k <= Refusal; k++ {
			forged := p
			forged.Kind = k
			y.station.Take(forged.Encode(), y.hear)
			forged.Seq++
			y.station.Take(forged.Encode(), y.hear)
		}
		y.station.Take(m[:len(m)-1], y.hear)
	}
	for k := Seek; k <= Reply; k++ {
		assert.Positive(t, kinds[k], "kind %d was said", k)
	}
	assert.Len(t, y.did, did, "%v", y.did[did:])
	assert.Equal(t, first, y.pass)
}

// What is altered or forged on its way to a controller is not taken for the device's word;
// what is lost is asked for again, and carried out once.
func TestAControllerBelievesNothingForged(t *testing.T) {
	y := newToy(t).claimed()
	lose := 0
	y.bend = func(m []byte) [][]byte {
		if lose++; lose%2 == 1 {
			return nil // the first of each is lost
		}
		return [][]byte{m, m}
	}
	c := y.dial()
	fits, err := c.Enter(t.Context(), "admin", secret.New(first))
	require.NoError(t, err)
	assert.True(t, fits)
	y.mu.Lock()
	for id, f := range y.ears {
		y.ears[id] = func(m []byte) {
			if p, err := Parse(m); err == nil && p.Kind == Reply {
				forged := bytes.Clone(m)
				forged[len(forged)-1] ^= 1
				f(forged)
			}
			f(m)
		}
	}
	y.mu.Unlock()
	_, err = c.Call(t.Context(), Request{Do: DoServer, Server: &Server{Address: netip.MustParseAddr("10.61.8.6"), Port: 7700}})
	require.NoError(t, err)
	n := 0
	for _, d := range y.did {
		if d == DoServer {
			n++
		}
	}
	assert.Equal(t, 1, n)
}

// Who plays a device without its key is found out before anything of a password is sent.
func TestWhoHasNotTheKeyIsFoundOut(t *testing.T) {
	inEach(t, func(t *testing.T, version int) {
		y := newToyOf(t, version).claimed()
		sent := len(y.sent)
		var other *KeyError
		_, err := Dial(t.Context(), y, mac, MakePin(byte(version), bytes.Repeat([]byte{9}, keyLen), nil), hurried)
		require.ErrorAs(t, err, &other)
		for _, m := range y.sent[sent:] {
			p, err := Parse(m)
			require.NoError(t, err)
			assert.Equal(t, Seek, p.Kind)
		}
	})
}

// A flood of begun handshakes pushes out no conversation that is open.
func TestAFloodOfHandshakes(t *testing.T) {
	y := newToy(t).claimed()
	c := y.dial()
	_, err := c.Enter(t.Context(), "admin", secret.New(first))
	require.NoError(t, err)
	for i := range 200 {
		m := Message{Kind: Begin, Device: mac, Exchange: Exchange{byte(i)}, Body: append([]byte{byte(Enter)}, bytes.Repeat([]byte{byte(i)}, 32)...)}
		y.station.Take(m.Encode(), y.hear)
	}
	assert.LessOrEqual(t, len(y.station.exchanges), maxExchanges)
	_, err = c.Call(t.Context(), Request{Do: DoRead})
	require.NoError(t, err)
}

func TestALaterVersionIsKnownForOne(t *testing.T) {
	m := Message{Kind: Here, Device: mac}
	b := m.Encode()
	b[4] = 3
	got, err := Parse(b)
	require.ErrorIs(t, err, ErrVersion)
	assert.Equal(t, mac, got.Device)
	assert.Equal(t, Here, got.Kind)
	_, err = Dial(t.Context(), newToyOf(t, 3), mac, "", hurried)
	require.ErrorIs(t, err, ErrLater)
	b = m.Encode()
	for _, bad := range [][]byte{nil, b[:23], bytes.Repeat([]byte{'H'}, MaxMessage+1), append([]byte("HAIL\x01\x09"), make([]byte, 18)...)} {
		_, err := Parse(bad)
		require.ErrorIs(t, err, ErrNotHail)
	}
}

// vectors are those of docs/hail.md: every kind of message, in hexadecimal.
type vectors struct {
	User, Password                string
	Salt, PasswordKey             string
	DeviceKey, DevicePublic       string
	ControllerKey                 string
	DeviceRandom, ControllerBytes string
	Seek, Here                    string
	Messages                      []string // of an enter and a read: Begin, Answer, Proof, Reply, Call, Reply
	Claim                         []string // likewise, of a claim and its call
	Wrong                         []string // of an enter by Harbour-Light-43: Begin, Answer, Proof, Refusal
	PairSecret, PairMark          string
}

// The randomness of the vectors.
var (
	ofDevice     = bytes.Repeat([]byte{5}, 96)
	ofController = append(append(bytes.Repeat([]byte{1}, 32), 8, 7, 6, 5, 4, 3, 2, 1), bytes.Repeat([]byte{2}, 64)...)
)

// recorded gives what is said in a conversation with everything random given.
func recorded(t *testing.T, version int, fresh bool, talk func(c *Client)) (v *toy, messages []string) {
	y := newToyOf(t, version)
	if !fresh {
		y.user, y.pass = "admin", first
	}
	y.station.rand = bytes.NewReader(bytes.Clone(ofDevice))
	c := y.dial()
	c.random = bytes.NewReader(bytes.Clone(ofController))
	from, heard := len(y.sent), len(y.told)
	talk(c)
	sent, told := y.sent[from:], y.told[heard:]
	for i := range told {
		messages = append(messages, hex.EncodeToString(sent[i]), hex.EncodeToString(told[i]))
	}
	return y, messages
}

// replayed makes the vectors of a version.
func replayed(t *testing.T, version int) vectors {
	h := hex.EncodeToString
	y, enter := recorded(t, version, false, func(c *Client) {
		fits, err := c.Enter(t.Context(), "admin", secret.New(first))
		require.NoError(t, err)
		require.True(t, fits)
		_, err = c.Call(t.Context(), Request{Do: DoRead})
		require.NoError(t, err)
	})
	_, claim := recorded(t, version, true, func(c *Client) {
		require.NoError(t, c.Claim(t.Context()))
		key, err := c.PasswordKey("admin", secret.New(first))
		require.NoError(t, err)
		_, err = c.Call(t.Context(), Request{Do: DoClaim, User: "admin", Password: first, Key: key})
		require.NoError(t, err)
	})
	_, wrong := recorded(t, version, false, func(c *Client) {
		fits, err := c.Enter(t.Context(), "admin", secret.New("Harbour-Light-43"))
		require.NoError(t, err)
		require.False(t, fits)
	})
	key, err := PasswordKey(version, "admin", secret.New(first), y.salt)
	require.NoError(t, err)
	v := vectors{
		User: "admin", Password: first, Salt: h(y.salt), PasswordKey: h(key), DeviceKey: h(y.station.own.Private), DevicePublic: h(y.station.own.Public),
		ControllerKey: h(ofController[:32]), DeviceRandom: h(ofDevice[:32]), ControllerBytes: h(ofController[40:72]),
		Messages: enter, Claim: claim, Wrong: wrong[:4], PairSecret: "ring-the-bell", PairMark: SecretMark(secret.New("ring-the-bell")),
	}
	seek := Message{Kind: Seek, Device: mac, Exchange: Exchange(ofController[32:40])}
	v.Seek = h(seek.Encode())
	y.station.Take(seek.Encode(), func(b []byte) { v.Here = h(b) })
	return v
}

func TestVectors(t *testing.T) {
	if testing.Short() { // one conversation after another, with nothing to race
		t.Skip("derives many keys")
	}
	inEach(t, func(t *testing.T, version int) {
		got, err := json.MarshalIndent(replayed(t, version), "", "  ")
		require.NoError(t, err)
		file := fmt.Sprintf("testdata/vectors%d.json", version)
		if os.Getenv("WRITE_VECTORS") != "" {
			require.NoError(t, os.MkdirAll("testdata", 0o755))
			require.NoError(t, os.WriteFile(file, append(got, '\n'), 0o644))
		}
		want, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.JSONEq(t, string(want), string(got))
		// And the paper has those of the newest version.
		if version == Version2 {
			paper, err := os.ReadFile("../../../docs/hail.md")
			require.NoError(t, err)
			flat := strings.Join(strings.Fields(string(paper)), "")
			v := replayed(t, version)
			for _, m := range slices.Concat([]string{v.Seek, v.Here, v.PasswordKey, v.PairMark}, v.Messages, v.Claim, v.Wrong) {
				assert.Contains(t, flat, m)
			}
		}
	})
}

func FuzzStation(f *testing.F) {
	y := newToy(f)
	m := Message{Kind: Seek, Device: Everyone}
	f.Add(m.Encode())
	m = Message{Kind: Begin, Device: mac, Body: make([]byte, 33)}
	f.Add(m.Encode())
	m.Kind = Call
	f.Add(m.Encode())
	f.Fuzz(func(t *testing.T, data []byte) {
		did := len(y.did)
		y.station.Take(data, func(answer []byte) {
			if p, err := Parse(answer); err != nil || p.Device != mac {
				t.Fatalf("%x", answer)
			}
		})
		if len(y.did) != did || len(y.station.exchanges) > maxExchanges {
			t.Fatal("a stranger had something done")
		}
	})
}

func FuzzReadDescription(f *testing.F) {
	f.Add([]byte(`{"make":"x","key":"AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=","address":"10.0.0.1/24"}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := ReadDescription(data)
		if err == nil && len(d.Key) != keyLen {
			t.Fatal("no key")
		}
	})
}
