package cli

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

const restoreSite = `
site: Restore
seed: 6
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2, restart: 1s}
  - {id: spare, model: verrine-dome, mac: "02:e4:42:00:01:77", serial: S1, restart: 1s}
`

func TestResetRestoreAndReplace(t *testing.T) {
	t.Parallel()
	site, err := bench.Parse([]byte(restoreSite))
	require.NoError(t, err)
	c := hireOn(t, site, "--subnet", "10.61.8.0/23")
	b := c.bench
	b.Device("spare").Unplug()
	c.sheet("password: {style: each}\nnames: {C01: Quay, C02: Ramp}\n")
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	c.must("allot")
	c.must("commission", "--yes", "--quiet")
	key := c.must("key", "show", "C01")
	assert.Contains(t, c.must("restart", "C01", "--yes", "--quiet"), "C01 is back")

	code, _, errs := c.run("C02\n", "reset", "C01", "--yes")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "nothing was changed")
	code, out, errs := c.run("C01\n", "reset", "C01")
	require.Equal(t, ExitDone, code, errs)
	assert.Contains(t, out, "janustat restore C01")
	assert.Contains(t, c.must("list"), "reset")
	assert.Contains(t, c.must(), "C01  was reset, and is not back yet. Next: `janustat restore C01`")
	_, mark := c.events(0)
	for _, verb := range [][]string{{"commission", "--yes"}, {"key", "change", "C01", "--yes"}, {"restart", "C01", "--yes"}} {
		code, out, errs = c.run("", append(verb, "--quiet")...)
		assert.Equal(t, ExitNeeds, code, "%v", verb)
		assert.Contains(t, out+errs, "was reset, and has not been brought back", "%v", verb)
	}
	since, _ := c.events(mark)
	for _, e := range writes(since) {
		assert.NotEqual(t, "dome-1", e.Host, "only restore brings it back: %+v", e)
	}
	code, _, errs = c.run("", "restore", "C01", "--for", "40s", "--quiet")
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "as C01, with a new password?")
	assert.Contains(t, c.must("restore", "C01", "--for", "40s", "--quiet", "--yes"), "1 done, 0 need you")
	assert.NotEqual(t, key, c.must("key", "show", "C01"), "what it had before may be known to whoever had it meanwhile")
	assert.Contains(t, c.must("prove", "--quiet"), "2 of 2 devices proved")

	// Its reset button is pressed, while its password is lost for good.
	b.Device("dome-2").Reset()
	assert.Contains(t, c.must("restore", "C02", "--for", "40s", "--quiet", "--yes"), "1 done, 0 need you")

	// C02 dies; another unit takes its place, its name and its address.
	b.Device("dome-2").Unplug()
	b.Device("spare").Plug()
	var before, after struct{ Serial, MAC, Address, Name string }
	require.NoError(t, json.Unmarshal([]byte(c.must("show", "C02", "--json")), &before))
	assert.Contains(t, c.must("restore", "C02", "--with", "02:e4:42:00:01:77", "--for", "40s", "--quiet", "--yes"), "1 done, 0 need you")
	require.NoError(t, json.Unmarshal([]byte(c.must("show", "C02", "--json")), &after))
	assert.Equal(t, "S1", after.Serial)
	assert.Equal(t, "02:e4:42:00:01:77", after.MAC)
	assert.Equal(t, []string{before.Address, "Ramp"}, []string{after.Address, after.Name})
	assert.Contains(t, c.must("prove", "--quiet"), "2 of 2 devices proved")
	var all []struct{ MAC string }
	require.NoError(t, json.Unmarshal([]byte(c.must("list", "--all", "--json")), &all))
	assert.Len(t, all, 2, "the new unit has no row of its own")
	code, _, errs = c.run("", "restore", "C02", "--with", "02:e4:42:00:01:01", "--for", "10s", "--quiet", "--yes")
	assert.NotEqual(t, ExitDone, code, "a unit of the job takes nobody's place: %s", errs)
}

// One takes settings only for a while after power-on, and that is over by the
// time it has been surveyed.
func TestASettingsWindowIsWaitedFor(t *testing.T) {
	t.Parallel()
	site, err := bench.Parse([]byte(`
site: Window
pace: 1
seed: 6
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: cube, model: tallow-cube, mac: "02:7a:11:00:04:01", serial: W1, window: 20s, restart: 1s}
`))
	require.NoError(t, err)
	c := hireOn(t, site, "--subnet", "10.61.8.0/23")
	b := c.bench
	c.must("survey", "--quiet", "--for", "20s")
	c.must("take", "all", "--yes")
	c.must("allot")
	// Somebody powers it off and on as soon as it has refused.
	go func() {
		for {
			for _, e := range c.logs.Events() {
				if e.What == bench.EventWrite && !e.OK {
					b.Device("cube").Restart()
					return
				}
			}
			select {
			case <-t.Context().Done():
				return
			case <-time.After(100 * time.Millisecond):
			}
		}
	}()
	code, out, errs := c.run("", "commission", "--yes")
	require.Equal(t, ExitDone, code, out+errs)
	assert.Contains(t, errs, "C01  power    power-cycle it now")
	assert.Contains(t, c.must("prove", "--quiet"), "1 of 1 devices proved")
}
