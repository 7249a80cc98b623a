package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/internal/bench"
)

const outsideSite = `
site: Outside
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: all, model: verrine-dome, mac: "02:e4:42:00:10:01", serial: A1, restart: 1s, manners: [uplinked, dynamic name, remotely found]}
  - {id: keeps, model: verrine-dome, mac: "02:e4:42:00:10:02", serial: B1, restart: 1s, manners: [uplinked, keeps its uplink]}
  - {id: fixed, model: verrine-bullet, mac: "02:e4:41:00:40:01", serial: C1, restart: 1s, manners: [fixed discovery]}
`

// What connects devices with the world outside is in the record as found, is removed where the job
// sheet says so, and is proved; what a device keeps all the same is told.
func TestOutsideConnectionsAreRemoved(t *testing.T) {
	t.Parallel()
	c := hire(t, outsideSite, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	const all = "C01"
	const everything = "uplink wss://relay.oakhollow.example:443/devices; remote user oakhollow-cloud; dynamic DNS cam-a1.dyn.example; remote discovery"
	assert.Contains(t, c.must("show", all), everything, "nothing was asked of them, and what there is is in the record")
	assert.Contains(t, c.must("list", "--columns", "tag,outside,discovery"), everything)
	assert.Regexp(t, `C03 +cannot be seen +on`, c.must("list", "--columns", "tag,outside,discovery"))
	for _, e := range c.logs.Events() {
		assert.False(t, e.What == bench.EventWrite && (e.Op == "DeleteUplink" || e.Op == "SetRemoteUser" || e.Op == "SetDiscoveryMode"), "%+v", e)
	}

	c.sheet("outside: off\ndiscovery: off\n")
	out := c.must("commission", "--dry-run")
	assert.Contains(t, out, "outside")
	out = c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "accepts its outside connections (none) but does not keep it")
	assert.Contains(t, out, "refuses its discovery (off): set it at its own page")
	up, user, name, proxied, hidden := c.bench.Device("all").Outside()
	assert.Empty(t, up)
	assert.Empty(t, user+name)
	assert.False(t, proxied)
	assert.True(t, hidden)
	_, user, _, _, _ = c.bench.Device("keeps").Outside()
	assert.Empty(t, user, "what it does not keep goes")
	assert.Contains(t, c.must("log", all), "outside connections removed")

	// It is proved, and everything works by address.
	code, shown, errs := c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code, shown+errs)
	assert.Contains(t, shown, "uplink wss://relay.oakhollow.example:443/devices")
	assert.Contains(t, c.must("prove", all, "--quiet"), "1 of 1 devices proved")
	out = c.must("survey", "--for", "2s")
	assert.Contains(t, out, "3 cameras")
	c.must("restart", all, "--yes", "--quiet")
	_, _, _, _, hidden = c.bench.Device("all").Outside()
	assert.True(t, hidden)

	// Putting it back switches its discovery on again. What was removed cannot be, which is said before,
	// and what somebody has connected since is not touched.
	c.bench.Device("all").Uplink("wss://stranger.example")
	code, shown, errs = c.run("", "putback", all, "--yes")
	assert.Equal(t, ExitDone, code, shown+errs)
	assert.Contains(t, shown+errs, "its outside connections (uplink wss://relay.oakhollow.example:443/devices; remote user oakhollow-cloud;")
	up, _, _, _, hidden = c.bench.Device("all").Outside()
	assert.Equal(t, []string{"wss://stranger.example"}, up)
	assert.False(t, hidden)
}

// Where the job sheet says nothing, what somebody has connected since is news of a proof, and no fault
// of the work.
func TestWhatSomebodyConnectedSinceIsNews(t *testing.T) {
	t.Parallel()
	c := hire(t, outsideSite, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	assert.NotContains(t, c.must("prove", "--quiet"), "when it was set up")
	c.bench.Device("all").Uplink("wss://stranger.example")
	out := c.must("prove", "--quiet")
	assert.Contains(t, out, "outside connections: uplink wss://relay.oakhollow.example:443/devices; uplink wss://stranger.example;")
	assert.Contains(t, out, "when it was set up")
}
