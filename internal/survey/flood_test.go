package survey

import (
	"fmt"
	"net/netip"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

// flooded surveys the pair of devices while a stranger does its worst: frames come as
// fast as a survey's own, and the devices must be found and described all the same.
func flooded(t *testing.T, frames func(yield func([]byte) bool)) *Findings {
	if testing.Short() { // with the race detector, which takes ten times as long
		t.Skip("floods take long")
	}
	n, _, socket := reachtest.WithSocket(t, pair)
	w := reachtest.PlugIn(t, socket, nil)
	var sent atomic.Int64
	stop := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for f := range frames {
			if w.Write(f) != nil {
				return
			}
			if sent.Add(1)%64 == 0 {
				select {
				case <-stop:
					return
				case <-time.After(4 * time.Millisecond): // some 15,000 a second
				}
			}
		}
	}()
	f := findings(t, n)
	close(stop)
	<-ended
	assert.Greater(t, sent.Load(), int64(3000), "the flood was no flood")
	assert.Equal(t, 2, cameras(device.Merge(f.Sightings)))
	return f
}

// announced is the announcement of a MAC that it has an address.
func announced(n int, a netip.Addr) []byte {
	return arp.Announce(device.MAC{2, 0x66, 0, byte(n >> 16), byte(n >> 8), byte(n)}, a).Frame()
}

func TestFiftyThousandHostsHideNobody(t *testing.T) {
	f := flooded(t, func(yield func([]byte) bool) {
		for i := range 50_000 {
			if !yield(announced(i, netip.AddrFrom4([4]byte{10, 61, byte(i >> 8), byte(i)}))) {
				return
			}
		}
	})
	assert.LessOrEqual(t, len(f.Sightings), maxSightings+1000)
	var m runtime.MemStats
	runtime.GC() // what others beside this one have left lying about does not count
	runtime.ReadMemStats(&m)
	assert.Less(t, m.HeapAlloc, uint64(400<<20))
}

func TestOneMACThatClaimsEverySubnetIsNamed(t *testing.T) {
	f := flooded(t, func(yield func([]byte) bool) {
		for i := range 20_000 {
			if !yield(announced(1, netip.AddrFrom4([4]byte{10, byte(i >> 8), byte(i), 9}))) {
				return
			}
		}
	})
	require.NotEmpty(t, f.Floods)
	assert.Equal(t, device.MAC{2, 0x66, 0, 0, 0, 1}, f.Floods[0].MAC)
	assert.Contains(t, f.Floods[0].What, "subnets")
	assert.LessOrEqual(t, len(f.Unvisited), maxSubnetsOf)
}

func TestAnAddressThatThousandsClaimIsNamed(t *testing.T) {
	theirs := netip.MustParseAddr("192.168.77.20")
	f := flooded(t, func(yield func([]byte) bool) {
		for i := range 6_000 {
			if !yield(announced(i, theirs)) {
				return
			}
		}
	})
	require.NotEmpty(t, f.Floods)
	assert.Equal(t, theirs, f.Floods[0].Address)
	for _, d := range device.Merge(f.Sightings) {
		if d.Make == "Verrine" {
			assert.NotEmpty(t, d.Clashing)
		}
	}
}

// Cartons of new devices share the address that their maker gave them: that is no flood.
func TestManyNewDevicesAtOneAddressAreNoFlood(t *testing.T) {
	if testing.Short() {
		t.Skip("with the race detector, 70 hosts answer too late")
	}
	n, _, _ := reachtest.WithSocket(t, `site: Quillmere Ferry Terminal
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD420-77, count: 70}
`)
	f := findingsWith(t, n, Survey{Listen: 30 * time.Second, Enough: func(f *Findings) bool { return described(f) == 70 }})
	assert.True(t, f.Enough)
	assert.Empty(t, f.Floods)
}

// described counts the devices whose service was read.
func described(f *Findings) int {
	macs := map[device.MAC]bool{}
	for _, s := range f.Sightings {
		if s.By == device.ByService {
			macs[s.MAC] = true
		}
	}
	return len(macs)
}

func TestTensOfThousandsOfRecordsAreNotAllRead(t *testing.T) {
	var records []byte
	m := new(dns.Msg)
	m.Response = true
	for i := range 500 {
		rr, err := dns.NewRR(fmt.Sprintf("_s%d._tcp.local. 120 IN PTR host%d._s%d._tcp.local.", i, i, i))
		require.NoError(t, err)
		m.Answer = append(m.Answer, rr)
	}
	m.Compress = true
	records, err := m.Pack()
	require.NoError(t, err)
	records = records[:min(len(records), 8000)]
	frame := reachtest.UDP(reachtest.Villain, device.MAC{1, 0, 0x5e, 0, 0, 0xfb}, "10.61.8.66:5353", "224.0.0.251:5353", records)
	f := flooded(t, func(yield func([]byte) bool) {
		for range 24_000 {
			if !yield(frame) {
				return
			}
		}
	})
	require.NotEmpty(t, f.Floods)
	assert.Equal(t, reachtest.Villain, f.Floods[0].MAC)
}

// Hosts that answer a byte now and then hold nobody up but themselves.
func TestSlowHostsHoldNobodyUp(t *testing.T) {
	if testing.Short() {
		t.Skip("what it races is raced by others, and the detector makes it slow")
	}
	n, _, _ := reachtest.WithSocket(t, pair+`  - {id: slow, model: tallow-cube, mac: "02:7a:11:01:00:01", serial: S, count: 150, dribble: 1s, address: 192.168.10.20/24}
`)
	f := findingsWith(t, n, Survey{Enough: func(f *Findings) bool { return cameras(device.Merge(f.Sightings)) == 2 }})
	assert.True(t, f.Enough, "both real devices are described while the slow ones go on")
}

// A host that claims each visitor of ours as soon as it is announced is believed twice,
// and not any more.
func TestAHostThatClaimsEveryVisitor(t *testing.T) {
	n, _, socket := reachtest.WithSocket(t, pair)
	ours := n.Facts().MAC
	var claimed atomic.Int64
	reachtest.PlugIn(t, socket, func(w *wire.Frames, frame []byte) {
		if p, err := arp.Parse(frame); err == nil && p.SenderMAC == ours && p.Sender == p.Target && !p.Sender.IsUnspecified() {
			claimed.Add(1)
			_ = w.Write(arp.Announce(reachtest.Villain, p.Sender).Frame())
		}
	})
	f := findings(t, n)
	assert.Equal(t, 2, cameras(device.Merge(f.Sightings)))
	assert.Positive(t, claimed.Load())
}
