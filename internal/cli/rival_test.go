package cli

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

const rivalSite = `
site: Rival
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  new: {make: Tallow & Pike, name: Gate, kind: panel, hail: only, firmware: 2.4.0, factory: 192.168.77.30/24, restart: 1s, rules: {min: 8, upper: 1, digits: 1}}
  old: {make: Tallow & Pike, name: Gate 1, kind: panel, hail: only, hail_version: 1, firmware: 1.4.0, factory: 192.168.77.31/24, restart: 1s, rules: {min: 8, upper: 1, digits: 1}}
devices:
  - {id: new, model: new, mac: "02:7a:11:00:06:01", serial: N1}
  - {id: old, model: old, mac: "02:7a:11:00:06:02", serial: O1}
`

// rivals are all the ways in which a rival races.
var rivals = []bench.Rivalry{
	{}, {After: true}, {Between: true}, {Sealed: true}, {Sealed: true, After: true}, {Refuses: true}, {Firmware: "9.9.9 forged"},
}

// A hostile neighbour answers in the name of devices that speak Hail, from their MACs, with
// a key of its own, at every moment at which a race can be won. It is given nothing, and
// nothing that it says is kept.
func TestARivalGetsNothing(t *testing.T) {
	t.Parallel()
	for i, how := range rivals {
		t.Run(fmt.Sprintf("%+v", how), func(t *testing.T) {
			t.Parallel()
			c := hire(t, rivalSite, "--subnet", "10.61.8.0/23")
			c.sheet("password: {style: each}\n")
			c.prepare()
			race := func() (ended []*bench.Rival) {
				for _, id := range []string{"new", "old"} {
					r, err := c.bench.Rival(id, how)
					require.NoError(t, err)
					ended = append(ended, r)
				}
				return ended
			}
			rivals := race()
			// First contact: the survey has heard the devices' own keys before.
			out := c.must("commission", "--yes", "--quiet")
			assert.Contains(t, out, "2 done, 0 need you")
			out = c.must("prove", "--quiet")
			assert.Contains(t, out, "2 of 2 devices proved")
			c.must("survey", "--quiet", "--for", "1s")
			assert.Contains(t, c.must("key", "change", "P01", "P02", "--yes", "--quiet"), "2 done")
			for _, r := range rivals {
				assert.Empty(t, r.Given(), "%+v", how)
				r.Yield()
			}
			for n, id := range []string{"new", "old"} {
				had := c.bench.Device(id).Passwords()
				assert.Equal(t, had[len(had)-1], strings.TrimSpace(c.must("key", "show", fmt.Sprintf("P0%d", n+1))), "%s has its own", id)
			}
			for _, e := range c.logs.Events() {
				assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v: %+v", how, e)
			}
			// Nothing that was said is kept: no lock, no firmware, no alarm that a proof does not clear.
			code, shown, errs := c.run("", "prove")
			assert.Equal(t, ExitDone, code, shown+errs)
			assert.NotContains(t, c.must("show", "P01"), "forged")
			assert.NotContains(t, c.must("show", "P02"), "forged")
			if i == 0 {
				assert.Contains(t, c.must("show", "P01"), "2.4.0")
			}
			assert.NotContains(t, c.must("list"), "ALARM")
		})
	}
}

// Where the rival was there from the first survey on, two keys were announced for one MAC:
// none is chosen, and it is said.
func TestARivalThatWasThereFirst(t *testing.T) {
	t.Parallel()
	c := hire(t, rivalSite, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each}\n")
	r, err := c.bench.Rival("new", bench.Rivalry{})
	require.NoError(t, err)
	c.prepare()
	code, out, errs := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out+errs, "two keys were announced for its MAC: find out which device is not yours")
	assert.Contains(t, out, "1 done, 1 needs you")
	assert.Empty(t, r.Given())
	r.Yield()
	c.must("survey", "--quiet", "--for", "3s")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "2 done, 0 need you")
}

// A key stays over resets: whoever answers by a device's MAC with another is not taken back
// in its place, unless the unit is named as its replacement.
func TestARestoreIsOfTheSameKey(t *testing.T) {
	t.Parallel()
	c := hire(t, rivalSite, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each}\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.bench.Device("new").Unplug()
	r, err := c.bench.Rival("new", bench.Rivalry{})
	require.NoError(t, err)
	code, out, errs := c.run("", "restore", "P01", "--for", "20s", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code, out)
	assert.Contains(t, errs, "P01 has another key than when it was opened, and a key stays over resets")
	assert.Empty(t, r.Given())
}

// Announcements are no devices: three thousand phantoms make no row, reserve nothing, and
// hide nobody; it is said that they were there.
func TestPhantomsAreNoDevices(t *testing.T) {
	t.Parallel()
	c := hire(t, rivalSite, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each}\n")
	r, err := c.bench.Rival("new", bench.Rivalry{Between: true, Sealed: true})
	require.NoError(t, err)
	stop := make(chan struct{})
	flood := make(chan struct{})
	go func() {
		defer close(flood)
		for n := 0; ; n = (n + 1) % 3000 {
			select {
			case <-stop:
				return
			default:
				r.Phantom(n)
			}
		}
	}()
	out := c.must("survey", "--for", "3s")
	close(stop)
	<-flood
	assert.Regexp(t, `\d+ devices announced themselves and answered nothing`, out)
	var all []struct{ MAC, Access string }
	c.json(&all, "list", "--all")
	assert.Len(t, all, 2, "%+v", all)
	for _, d := range all {
		assert.Equal(t, "fresh", d.Access, d.MAC)
	}
}
