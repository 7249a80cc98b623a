package survey

import (
	"encoding/binary"
	"math/rand/v2"
	"net/netip"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/acd"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/wsd"
	"janustat/internal/wire"
)

const pair = `
site: Pair
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2}
`

func cameras(found []device.Device) (n int) {
	for _, d := range found {
		if d.Kind == device.Camera && d.Access == device.Fresh && d.Make == "Verrine" {
			n++
		}
	}
	return n
}

// A host that floods with garbage neither stops the survey nor hides a device.
func TestGarbageDoesNotHideDevices(t *testing.T) {
	n, logs, socket := reachtest.WithSocket(t, pair)
	chance := rand.New(rand.NewPCG(1, 9))
	probe := wsd.Probe("urn:uuid:x", wsd.Transmitter)
	var sent atomic.Int64
	reachtest.PlugIn(t, socket, func(w *wire.Frames, seen []byte) {
		// For every frame heard, a few of its own: noise, broken ARP, broken
		// datagrams to the port that answers come to, and Hellos of nobody.
		for range 3 {
			f := make([]byte, 14+chance.IntN(1400))
			for i := range f {
				f[i] = byte(chance.Uint32())
			}
			copy(f, device.Broadcast[:])
			copy(f[6:], reachtest.Villain[:])
			switch chance.IntN(6) {
			case 0:
				binary.BigEndian.PutUint16(f[12:], 0x0806)
			case 1:
				binary.BigEndian.PutUint16(f[12:], 0x0800)
			case 2:
				binary.BigEndian.PutUint16(f[12:], 0x86dd)
			case 3:
				binary.BigEndian.PutUint16(f[12:], 0x8100)
			case 4: // to a port that somebody listens on
				port := []string{"68", "1900", "3702", "5353", "41702", "41703"}[chance.IntN(6)]
				f = reachtest.UDP(reachtest.Villain, device.Broadcast, "10.61.8.66:"+[]string{"67", "5353", "53", "1900"}[chance.IntN(4)], "10.61.8.255:"+port, f[14:])
			}
			if sent.Add(1) < 60_000 {
				_ = w.Write(f)
			}
		}
		if len(seen) > 60 && sent.Load() < 60_000 {
			broken := append([]byte(nil), seen...)
			copy(broken[6:12], reachtest.Villain[:])
			broken[chance.IntN(len(broken)-14)+14] ^= byte(1 + chance.IntN(255))
			_ = w.Write(append(broken, probe[:chance.IntN(len(probe))]...))
		}
	})
	assert.Equal(t, 2, cameras(surveyed(t, n)))
	assert.Greater(t, sent.Load(), int64(10_000), "the flood was no flood")
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrite, e.What)
	}
}

// A host that claims every address leaves no address to visit from: the survey
// says so, names the host, and borrows none all the same.
func TestAHostThatClaimsEveryAddressIsNamed(t *testing.T) {
	n, _, socket := reachtest.WithSocket(t, pair)
	reachtest.PlugIn(t, socket, func(w *wire.Frames, frame []byte) {
		if p, err := arp.Parse(frame); err == nil && p.Op == arp.Request && p.SenderMAC != reachtest.Villain {
			_ = w.Write(arp.ReplyTo(p, reachtest.Villain).Frame())
		}
	})
	f := findings(t, n)
	require.NotEmpty(t, f.Unvisited)
	for subnet, err := range f.Unvisited {
		var conflict *acd.ConflictError
		if assert.ErrorAs(t, err, &conflict, subnet) {
			assert.Equal(t, reachtest.Villain, conflict.Holder)
		}
	}
	clash := 0
	for _, d := range device.Merge(f.Sightings) {
		if d.MAC != reachtest.Villain && len(d.Clashing) > 0 {
			assert.Contains(t, d.Clashing, reachtest.Villain)
			clash++
		}
	}
	assert.Positive(t, clash, "the devices it claims to be are told apart from it")
}

// A host that says it is another: its frames carry its own MAC, so what it says
// of the other's identity is held against that.
func TestALieAboutAnothersMACChangesNothing(t *testing.T) {
	n, _, socket := reachtest.WithSocket(t, pair)
	theirs := device.MAC{2, 0xe4, 0x42, 0, 1, 1}
	reachtest.PlugIn(t, socket, func(w *wire.Frames, _ []byte) {
		lie := arp.Announce(theirs, netip.MustParseAddr("192.168.77.99"))
		lie.From = reachtest.Villain
		_ = w.Write(lie.Frame())
	})
	found := surveyed(t, n)
	require.Equal(t, 2, cameras(found))
	for _, d := range found {
		if d.MAC == theirs {
			assert.NotContains(t, d.Addresses, netip.MustParseAddr("192.168.77.99"))
		}
	}
}
