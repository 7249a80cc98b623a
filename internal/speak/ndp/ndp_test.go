package ndp

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

var (
	ours   = device.MAC{2, 0x1a, 0x70, 0, 0, 1}
	theirs = device.MAC{2, 0xe4, 0x42, 0, 1, 1}
	us     = netip.MustParseAddr("fe80::1a")
	them   = netip.MustParseAddr("fe80::e4:42ff:fe00:101")
)

func TestGroups(t *testing.T) {
	assert.Equal(t, netip.MustParseAddr("ff02::1:ff00:101"), solicitedNode(them))
	assert.Equal(t, device.MAC{0x33, 0x33, 0xff, 0, 1, 1}, Group(solicitedNode(them)))
	assert.Equal(t, device.MAC{0x33, 0x33, 0, 0, 0, 1}, Group(AllNodes))
}

func TestMessagesComeBackAsTheyWere(t *testing.T) {
	ask := Solicit(ours, us, them)
	probe := Solicit(ours, netip.IPv6Unspecified(), them)
	for name, p := range map[string]Packet{
		"question": ask, "probe for a duplicate": probe, "answer": Answer(ask, theirs),
		"answer to a probe": Answer(probe, theirs), "echo": EchoAll(ours, us, 7, 1),
	} {
		got, err := Parse(p.Frame())
		require.NoError(t, err, name)
		assert.Equal(t, p, got, name)
	}
	assert.Equal(t, us, Answer(ask, theirs).Destination)
	assert.Equal(t, AllNodes, Answer(probe, theirs).Destination, "nobody has the unspecified address")
}

func TestParseRefuses(t *testing.T) {
	good := Solicit(ours, us, them).Frame()
	for name, spoil := range map[string]func([]byte) []byte{
		"cut short":          func(f []byte) []byte { return f[:60] },
		"another EtherType":  func(f []byte) []byte { f[12] = 8; return f },
		"not from this link": func(f []byte) []byte { f[21] = 64; return f },
		"another type":       func(f []byte) []byte { f[54] = 1; return f },
		"a group as target":  func(f []byte) []byte { f[62] = 0xff; return f },
		"nothing":            func([]byte) []byte { return nil },
	} {
		_, err := Parse(spoil(append([]byte(nil), good...)))
		assert.ErrorIs(t, err, ErrNotND, name)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(Solicit(ours, us, them).Frame())
	f.Add(Answer(Solicit(ours, us, them), theirs).Frame())
	f.Add(EchoAll(ours, us, 7, 1).Frame())
	f.Fuzz(func(t *testing.T, frame []byte) {
		p, err := Parse(frame)
		if err != nil || p.Kind == RouterAsk || p.Kind == RouterSays {
			return
		}
		again, err := Parse(p.Frame())
		require.NoError(t, err)
		require.Equal(t, p, again)
	})
}
