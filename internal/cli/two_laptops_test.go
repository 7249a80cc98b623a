package cli

import (
	"fmt"
	"net/netip"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
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
	for _, stagger := range []time.Duration{0, 300 * time.Millisecond, 1500 * time.Millisecond, 3 * time.Second, 5 * time.Second} {
		t.Run(stagger.String(), func(t *testing.T) {
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
			for job, wait := range map[*crew]time.Duration{c: 0, &other: stagger} {
				both.Go(func() {
					time.Sleep(wait) // the stagger is what is tried
					_, out, _ := job.run("", "commission", "--yes", "--quiet")
					*said[job] = out
				})
			}
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
			if stagger > time.Second {
				assert.Contains(t, *said[c], "4 done, 0 need you", "who was first holds what it has begun to give")
				assert.Contains(t, *said[&other], "address is already in use")
			}
		})
	}
}
