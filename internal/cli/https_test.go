package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const httpsSite = `
site: Transport
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  asleep: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400, https: "off"}
devices:
  - {id: fresh, model: asleep, mac: "02:e4:42:00:10:01", serial: A1, restart: 1s}
  - {id: used, model: asleep, mac: "02:e4:42:00:10:02", serial: A2, restart: 1s, password: "Pier-4-Kettle"}
  - {id: broken, model: asleep, mac: "02:e4:42:00:10:03", serial: A3, restart: 1s, manners: [broken https]}
  - {id: fixed, model: asleep, mac: "02:e4:42:00:10:04", serial: A4, restart: 1s, manners: [fixed ports]}
  - {id: plain, model: verrine-dome, mac: "02:e4:42:00:10:05", serial: A5, restart: 1s}
`

// A device that has HTTPS and does not serve it is told to, and is given its first password over it;
// one that is opened already goes over to it; one whose HTTPS does not work is left as it was, and told.
func TestHTTPSThatIsOffIsSwitchedOn(t *testing.T) {
	t.Parallel()
	c := hire(t, httpsSite, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\n")
	c.prepare()
	c.must("take", "02:e4:42:00:10:02", "--yes")
	c.must("allot")
	code, _, errs := c.run("Pier-4-Kettle\n", "key", "set", "02:e4:42:00:10:02")
	require.Equal(t, ExitDone, code, errs)
	assert.NotContains(t, c.must("commission", "--dry-run"), "administrator admin; HTTPS", "it comes before the first password, where it comes")
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "5 done, 0 need you")
	assert.Contains(t, out, "refuses its HTTPS (on)")
	for id, want := range map[string]bool{"fresh": true, "used": true, "broken": false, "fixed": false, "plain": false} {
		_, secure := c.bench.Device(id).Serves()
		assert.Equal(t, want, secure, id)
	}
	assert.Contains(t, c.must("log", "02:e4:42:00:10:01"), "HTTPS switched on")
	assert.NotContains(t, c.must("log", "02:e4:42:00:10:01"), "without encryption")
	assert.Contains(t, c.must("show", "02:e4:42:00:10:01"), "HTTPS        port 443, certificate ")
	assert.Regexp(t, `:10:01 +on\n(.|\n)*:10:04 +off\n.*:10:05 +not offered`, c.must("list", "--columns", "mac,https"))

	c.writesNothing()
	proof := c.must("prove", "02:e4:42:00:10:01", "02:e4:42:00:10:02", "02:e4:42:00:10:05", "--quiet")
	assert.Contains(t, proof, "3 of 3 devices proved: every check passed")
	_ = c.must("survey", "--for", "2s")
	c.writesNothing()

	// Somebody switches it off again: nothing is said to the device without.
	c.bench.Device("fresh").Serve(true, false)
	assert.Contains(t, c.must("survey", "--quiet", "--for", "2s"), "no longer offers HTTPS, by which it was opened before. No password is sent to it")
}

// What was switched on when a run ended is found by the next one, whichever way it ended.
func TestHTTPSThatWasSwitchedOnBeforeIsUsed(t *testing.T) {
	t.Parallel()
	c := hire(t, httpsSite, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\n")
	c.prepare()
	c.bench.Device("fresh").Serve(true, true) // as a run that was cut short left it
	out := c.must("commission", "02:e4:42:00:10:01", "--yes", "--quiet")
	assert.Contains(t, out, "1 done, 0 need you")
	assert.NotContains(t, c.must("log", "02:e4:42:00:10:01"), "without encryption")
	c.must("prove", "02:e4:42:00:10:01", "--quiet")
}

// HTTP goes once a device was opened over HTTPS, and only then; everything works without, and it comes back
// where the sheet says so.
func TestHTTPGoesWhereHTTPSIs(t *testing.T) {
	t.Parallel()
	c := hire(t, httpsSite, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\nhttp: off\n")
	c.prepare()
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "4 done, 0 need you")
	for id, want := range map[string]bool{"fresh": false, "broken": true, "fixed": true, "plain": true} {
		plain, _ := c.bench.Device(id).Serves()
		assert.Equal(t, want, plain, id)
	}
	const mac = "02:e4:42:00:10:01"
	assert.Contains(t, c.must("log", mac), "HTTP switched off")
	c.writesNothing()
	assert.NotContains(t, c.must("survey", "--quiet", "--for", "2s"), "ALARM")
	c.must("prove", mac, "--quiet")
	c.must("restart", mac, "--yes", "--quiet")
	c.writesNothing()
	c.must("key", "change", mac, "--yes", "--quiet")
	assert.Contains(t, c.must("prove", mac, "--quiet"), "1 of 1 devices proved")

	c.bench.Device("fresh").Serve(true, true) // somebody switches it on at its page
	_, shown, _ := c.run("", "prove", mac, "--quiet")
	assert.Contains(t, shown, "should be off, is: on")
	c.must("commission", "--yes", "--quiet")
	plain, _ := c.bench.Device("fresh").Serves()
	assert.False(t, plain)
}

// What was set before HTTPS was on is set once more over it: at the end nothing is left that was set
// without encryption, and every password on the keyring is the one that opens.
func TestPasswordsThatWereSetWithoutEncryptionAreChanged(t *testing.T) {
	t.Parallel()
	c := hire(t, httpsSite, "--subnet", "10.61.8.0/23")
	c.sheet("users: [{name: viewer, role: user, on: [\"02:e4:42:00:10:01\"]}]\n")
	c.prepare()
	const mac = "02:e4:42:00:10:01"
	c.must("commission", mac, "--yes", "--quiet")
	assert.Contains(t, c.must("log", mac), "without encryption")
	was, viewed := c.must("key", "show", mac), c.must("key", "show", mac, "--user", "viewer")

	c.sheet("https: on\n")
	c.must("commission", mac, "--yes", "--quiet") // goes over to it
	assert.Contains(t, c.must("prove", mac, "--quiet"), "Password sent unencrypted (HTTP): 1 device of 1")
	out := c.must("commission", mac, "--yes", "--quiet")
	assert.Contains(t, out, "2 writes")
	is, views := c.must("key", "show", mac), c.must("key", "show", mac, "--user", "viewer")
	assert.NotEqual(t, was, is)
	assert.NotEqual(t, viewed, views)
	proof := c.must("prove", mac, "--quiet")
	assert.Contains(t, proof, "1 of 1 devices proved: every check passed")
	assert.NotContains(t, proof, "unencrypted")
	had := c.bench.Device("fresh").Passwords()
	assert.Contains(t, had, strings.TrimSpace(is))
	assert.Contains(t, had, strings.TrimSpace(views))
	assert.Contains(t, c.must("commission", mac, "--yes", "--quiet"), "0 writes")
}
