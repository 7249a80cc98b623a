package cli

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

const twoLaptops = `
site: Two laptops
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: ours, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: A, count: 4, restart: 5s}
  - {id: theirs, model: verrine-bullet, mac: "02:e4:41:00:03:01", serial: B, count: 4, restart: 5s}
`

// Two colleagues at one site, each with a laptop and half of the cameras, allot the same
// addresses and commission at nearly the same time: while a device restarts it answers
// nobody, and all the same no address is given out twice.
func TestTwoLaptopsGiveNoAddressTwice(t *testing.T) {
	// The later one begins a while after the earlier, or once that has begun to give all of its addresses: while
	// its devices restart, or as they are back.
	for _, c := range []struct {
		name    string
		given   bool
		stagger time.Duration
	}{
		{"at once", false, 0},
		{"300ms", false, 300 * time.Millisecond},
		{"1.5s", false, 1500 * time.Millisecond},
		{"given", true, 0},
		{"given, 2.5s", true, 2500 * time.Millisecond},
	} {
		given, stagger := c.given, c.stagger
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			c := hire(t, twoLaptops, "--subnet", "10.61.8.0/23")
			other := *c
			other.dir, other.printed = filepath.Join(t.TempDir(), "theirs"), &strings.Builder{}
			other.must("begin", other.dir, "--subnet", "10.61.8.0/23")
			for job, half := range map[*crew]string{c: "02:e4:41:00:02", &other: "02:e4:41:00:03"} {
				job.must("survey", "--quiet", "--for", "3s")
				var take []string
				for i := range 4 {
					take = append(take, fmt.Sprintf("%s:%02d", half, i+1))
				}
				job.must(append(append([]string{"take"}, take...), "--yes")...)
				job.must("allot")
			}
			var both sync.WaitGroup
			said := map[*crew]*string{c: new(string), &other: new(string)}
			commission := func(job *crew) { _, *said[job], _ = job.run("", "commission", "--yes", "--quiet") }
			_, mark := c.events(0)
			both.Go(func() { commission(c) })
			if given {
				require.Eventually(t, func() bool {
					events, _ := c.events(mark)
					return len(slices.DeleteFunc(slices.Clone(events), func(e bench.Event) bool { return e.Op != "SetNetworkInterfaces" || !e.OK })) >= 4
				}, time.Minute, 5*time.Millisecond)
			}
			time.Sleep(stagger) // it is what is tried
			commission(&other)
			both.Wait()
			at := map[netip.Addr]string{}
			for _, d := range c.bench.Devices() {
				own, dhcp, _ := d.Look()
				if dhcp || own.Bits() != 23 {
					continue // it has not been moved
				}
				assert.Empty(t, at[own.Addr()], "%s and %s are both at %s\nours: %s\ntheirs: %s", at[own.Addr()], d.MAC(), own.Addr(), *said[c], *said[&other])
				at[own.Addr()] = d.MAC().String()
			}
			if given {
				assert.Contains(t, *said[c], "4 done, 0 need you", "who was first holds what it has begun to give")
				assert.Contains(t, *said[&other], "address is already in use")
			}
		})
	}
}
