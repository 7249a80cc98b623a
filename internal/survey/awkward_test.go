package survey

import (
	"fmt"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/reach"
	"janustat/internal/wire"
)

// awkward brings the built-in awkward site up with another seed.
func awkward(t testing.TB, seed uint64) (*reach.Net, *bench.Log) {
	s, err := bench.Load("awkward")
	require.NoError(t, err)
	s.Seed = seed
	path, logs, _ := benchtest.StartSite(t, s)
	w, err := wire.DialBench(path)
	require.NoError(t, err)
	n := reach.New(w)
	t.Cleanup(func() { n.Close() })
	return n, logs
}

// Every condition at once, with one frame in twenty lost: all is found and told
// apart, whatever the seed, and nothing is written or offered a password.
func TestSurveyFindsEverythingOnTheAwkwardLAN(t *testing.T) {
	seeds := 20
	if testing.Short() {
		seeds = 1
	}
	places := make(chan struct{}, 4)
	var wait sync.WaitGroup
	for seed := range seeds {
		wait.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			t.Run(fmt.Sprint("seed ", seed+1), func(t *testing.T) {
				n, logs := awkward(t, uint64(seed+1))
				judgeAwkward(t, findings(t, n))
				for _, e := range logs.Events() {
					assert.NotContains(t, []string{bench.EventWrite, bench.EventPassword, bench.EventWrongPassword, bench.EventConnection}, e.What, "%+v", e)
				}
			})
		})
	}
	wait.Wait()
}

func judgeAwkward(t *testing.T, f *Findings) {
	found := device.Merge(f.Sightings)
	for i := range found {
		found[i].Apply(device.Judged{Site: netip.MustParsePrefix("10.61.8.0/23")})
	}
	kinds, conditions, clashes, serials := map[device.Kind]int{}, map[device.Condition]int{}, map[int]int{}, map[string]bool{}
	for i := range found {
		d := &found[i]
		if d.Kind == "" {
			d.Kind = device.Other
		}
		kinds[d.Kind]++
		if d.Kind == device.Other && d.Condition != device.Bare {
			continue
		}
		conditions[d.Condition]++
		if d.Condition == device.Clash {
			clashes[len(d.Clashing)+1]++
		}
		if d.Serial != "" {
			assert.False(t, serials[d.Serial], "%s twice", d.Serial)
			serials[d.Serial] = true
		}
		if d.Condition == device.Bare && d.Asks != nil { // it was heard when it asked for an address
			assert.NotEmpty(t, d.Host, d.MAC)
		}
	}
	assert.Equal(t, map[device.Kind]int{device.Recorder: 1, device.Panel: 1, device.Intercom: 1, device.Camera: 27, device.Other: 4 + 3 + 9}, kinds)
	assert.Equal(t, 7, conditions[device.Adrift], "four by IPv4, three by IPv6 alone")
	assert.Equal(t, 4, conditions[device.Bare])
	assert.Equal(t, map[int]int{2: 2 + 1, 5: 5, 9: 9}, clashes, "the third of two is with a printer")
	assert.Len(t, serials, 9+2+1+2+1+1+4+3+1, "all that tell theirs without a password, the door station by Hail")
	assert.Contains(t, f.VLANs, uint16(20))
	for _, d := range found {
		switch d.MAC.String() {
		case "02:9d:00:00:00:30":
			assert.Equal(t, "ticket-printer.local", d.Host)
			assert.Equal(t, []uint16{80, 9100}, d.Ports)
			assert.Equal(t, []string{"_ipp._tcp", "wsd:PrintQueue"}, d.Offers)
		case "02:9d:00:00:00:31":
			assert.Len(t, d.Addresses, 2, "IPv4 and IPv6 are one device")
			assert.Equal(t, []uint16{445}, d.Ports)
		}
	}
}
