package survey

import (
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/reach"
	"janustat/internal/reach/reachtest"
	"janustat/internal/speak/arp"
	"janustat/internal/wire"
)

// forty are 40 fresh devices of five models on five factory subnets, eight of
// them on one address in each, and two bystanders.
const forty = `
site: Forty
seed: %d
loss: 0.02
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: a, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 8}
  - {id: b, model: oakhollow-eye, mac: "02:0a:c0:00:02:01", serial: B, count: 8}
  - {id: c, model: tallow-cube, mac: "02:7a:11:00:03:01", serial: C, count: 8}
  - {id: d, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: D, count: 8}
  - {id: e, model: tallow-panel, mac: "02:7a:11:00:05:01", serial: E, count: 8}
others:
  - {id: router, role: router, mac: "02:5c:00:00:00:01", address: 10.61.8.1/23}
  - {id: printer, role: printer, mac: "02:9d:00:00:00:30", address: 10.61.8.41/23}
`

// surveyed surveys a site; its log is shown when the test fails.
func surveyed(t testing.TB, n *reach.Net) []device.Device {
	return device.Merge(findings(t, n).Sightings)
}

func findings(t testing.TB, n *reach.Net) *Findings { return findingsWith(t, n, Survey{}) }

// findingsWith surveys with what s says beside the usual.
func findingsWith(t testing.TB, n *reach.Net, s Survey) *Findings {
	s.Net, s.Subnets, s.Listen, s.Rate = n, NewSubnets(n.Facts().Addresses, netip.Prefix{}, nil, nil), max(s.Listen, DefaultListen), arp.DefaultRate
	s.Log, s.Tell = slog.New(slog.NewTextHandler(t.Output(), &slog.HandlerOptions{Level: slog.LevelDebug})), func(string) {}
	f, err := s.Run(t.Context())
	require.NoError(t, err)
	return f
}

func TestSurveyFindsFortyOfFortyDespiteLoss(t *testing.T) {
	// A few at a time: each is a site of 42 hosts, and the machine has two cores.
	seeds, atOnce := 20, 4
	if testing.Short() { // with the race detector, which takes ten times as long
		seeds, atOnce = 2, 1
	}
	places := make(chan struct{}, atOnce)
	var wait sync.WaitGroup
	for seed := range seeds {
		wait.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			t.Run(fmt.Sprint("seed ", seed+1), func(t *testing.T) {
				n, logs := reachtest.Site(t, fmt.Sprintf(forty, seed+1))
				found := surveyed(t, n)
				kinds := map[device.Kind]int{}
				for _, d := range found {
					kinds[d.Kind]++
					if d.Kind == device.Camera || d.Kind == device.Recorder || d.Kind == device.Panel {
						assert.Equal(t, device.Fresh, d.Access, d.MAC)
						assert.Len(t, d.Clashing, 7, "%s shares its address with seven others", d.MAC)
					}
				}
				assert.Equal(t, map[device.Kind]int{device.Camera: 24, device.Recorder: 8, device.Panel: 8, device.Kind(""): 1, device.Other: 1}, kinds)
				for _, e := range logs.Events() {
					assert.False(t, slices.Contains([]string{bench.EventWrite, bench.EventPassword, bench.EventWrongPassword}, e.What), "a survey wrote: %+v", e)
					if e.Host == "router" || e.Host == "printer" {
						assert.Equal(t, bench.EventDiscovery, e.What, "a bystander was asked more than discovery asks: %+v", e)
					}
				}
			})
		})
	}
	wait.Wait()
}

// mute is a wire on which no answer to an ARP request of others gets through.
type mute struct{ wire.Wire }

func (m mute) Write(frame []byte) error {
	if p, err := arp.Parse(frame); err == nil && p.Op == arp.Reply {
		return nil
	}
	return m.Wire.Write(frame)
}

// A device that cannot find out where the visitor is cannot answer discovery:
// the survey sees to it that it knows.
func TestSurveyFindsDeviceThatGetsNoAnswerByARP(t *testing.T) {
	t.Parallel()
	path, _ := benchtest.Start(t, `
site: Mute
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices: [{id: a, model: tallow-cube, mac: "02:7a:11:00:03:01", serial: C1}]
`)
	w, err := wire.DialBench(path)
	require.NoError(t, err)
	n := reach.New(mute{w})
	t.Cleanup(func() { n.Close() })
	found := surveyed(t, n)
	require.Len(t, found, 1)
	assert.Equal(t, "C1", found[0].Serial)
}

func TestSubnets(t *testing.T) {
	laptop := []netip.Prefix{netip.MustParsePrefix("10.61.8.200/24"), netip.MustParsePrefix("169.254.3.4/16")}
	s := NewSubnets(laptop, netip.MustParsePrefix("10.61.8.0/23"), []netip.Prefix{netip.MustParsePrefix("172.30.0.0/16")}, []netip.Prefix{netip.MustParsePrefix("192.168.0.0/24")})
	of := func(a string) string { return s.Of(netip.MustParseAddr(a)).String() }
	assert.Equal(t, "10.61.8.0/23", of("10.61.8.5"), "the site's mask beats the laptop's narrower one")
	assert.Equal(t, "192.168.77.0/24", of("192.168.77.20"))
	assert.Equal(t, "192.168.88.0/24", of("192.168.88.20"), "an unknown one is taken as a /24")
	assert.Equal(t, []netip.Prefix{netip.MustParsePrefix("172.30.0.0/16")}, s.Wide())
	times := map[netip.Addr]int{}
	for a := range s.Sweep() {
		times[a]++
	}
	assert.Len(t, times, 510+254*(len(factorySubnets)-1), "all but the one that is not ours")
	for a, n := range times {
		require.Equal(t, 1, n, a)
	}
	assert.True(t, s.Askable(netip.MustParseAddr("192.168.250.1")))
	for _, a := range []string{"203.0.113.1", "100.64.0.9", "198.18.0.1", "192.0.2.7", "fe80::1"} {
		assert.True(t, s.Askable(netip.MustParseAddr(a)), "%s: a device is met where it is", a)
	}
	for _, a := range []string{"0.0.0.0", "0.1.2.3", "127.0.0.1", "224.0.0.1", "255.255.255.255", "2001:db8::1"} {
		assert.False(t, s.Askable(netip.MustParseAddr(a)), "%s: no host's", a)
	}
}
