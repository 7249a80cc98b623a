package cli

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

// transportSite has a device of each way to offer its service.
func transportSite() string {
	var b strings.Builder
	b.WriteString("site: Transport\nseed: 3\nlaptop: {mac: \"02:1a:70:00:00:01\", addresses: [10.61.8.200/23]}\nmodels:\n")
	model := func(name, more string) {
		fmt.Fprintf(&b, "  %s: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: both, dialect: default, path: /service, restart: 1s, fault_status: 400, %s}\n", name, more)
	}
	model("beside", "https: 'on'")
	model("only", "https: only")
	model("switched", "https: 'off', no_services: true")
	model("elsewhere", "http_port: 8080, no_servers: true")
	b.WriteString("devices:\n")
	for i, name := range []string{"beside", "only", "switched", "elsewhere"} {
		fmt.Fprintf(&b, "  - {id: %s, model: %s, mac: \"02:7a:11:00:%02x:01\", serial: S%d}\n", name, name, i+1, i+1)
	}
	return b.String()
}

func TestTransportUsersAndServers(t *testing.T) {
	t.Parallel()
	c := hire(t, transportSite(), "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	c.sheet("password: {style: each, require_tls: true, tries_per_hour: 3, factory: [{user: admin, password: Factory-111}]}\n" +
		"users: [{name: viewer, role: user, on: [C01, C03]}, {name: watch, role: operator, on: [C01]}]\n" +
		"names: {S1: Beside, S2: Only, S3: Switched, S4: Elsewhere}\n")
	// The network is a block that begin wrote: the servers go there.
	path := filepath.Join(c.dir, "jobsheet.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, bytes.Replace(text, []byte("network:\n"), []byte("network:\n  dns: [10.61.8.1]\n  ntp: [10.61.8.1, 10.61.8.2]\n"), 1), 0o600))
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	c.must("allot")
	var list []deviceJSON
	c.json(&list, "list")
	require.Len(t, list, 4)
	for i, secure := range []bool{true, true, false, false} {
		assert.Equal(t, secure, list[i].TLS != nil, list[i].Serial)
	}
	assert.Len(t, list[0].TLS.Fingerprint, 64)
	assert.Equal(t, []uint16{554, 8080}, slices.DeleteFunc(list[3].Ports, func(p uint16) bool { return p == 22 }))
	assert.Contains(t, c.must("show", "C01"), "HTTPS        port 443, certificate ")

	// The sheet refuses to send a new password in the open, but for what it excepts.
	code, out, _ := c.run("", "commission", "--yes", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "2 done, 2 need you")
	assert.Contains(t, out, "has no HTTPS, and require_tls in the job sheet forbids sending a password")
	text, err = os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, bytes.Replace(text, []byte("require_tls: true"), []byte("require_tls: true, without_tls: [C03, S4]"), -1), 0o600))
	capture := filepath.Join(t.TempDir(), "blank.pcapng")
	code, out, errs := c.run("", "commission", "--yes", "--capture", capture)
	require.Equal(t, ExitDone, code, out)
	assert.Contains(t, errs, "requests that set a password are blanked")
	assert.Contains(t, out, "Note: C03: its HTTPS is off")
	assert.Empty(t, c.foundIn(capture), "a capture holds no password")

	proved := c.must("prove", "--quiet")
	assert.Contains(t, proved, "4 of 4 devices proved")
	assert.Contains(t, proved, "Password sent unencrypted (HTTP): 2 devices of 4")
	assert.Contains(t, c.must("log", "C03"), "(password set without encryption)")
	assert.NotContains(t, c.must("log", "C01"), "without encryption")
	_, _, users := c.bench.Device("beside").Look()
	assert.Equal(t, []string{"admin", "viewer", "watch"}, users)
	_, _, users = c.bench.Device("only").Look()
	assert.Equal(t, []string{"admin"}, users)
	viewer, watch := c.must("key", "show", "C01", "--user", "viewer"), c.must("key", "show", "C01", "--user", "watch")
	assert.NotEqual(t, viewer, watch)
	assert.NotEqual(t, viewer, c.must("key", "show", "C03", "--user", "viewer"), "each device has its own")
	assert.Contains(t, c.must("key", "list"), "viewer watch")
	assert.Contains(t, c.must("show", "C01"), "DNS 10.61.8.1, NTP 10.61.8.1 10.61.8.2")

	// Done again, it writes nothing; with --capture-keys, what sets a password is kept.
	_, mark := c.events(0)
	c.must("commission", "--yes", "--quiet")
	since, _ := c.events(mark)
	for _, e := range since {
		assert.NotEqual(t, bench.EventWrite, e.What, "%+v", e)
	}
	capture = filepath.Join(t.TempDir(), "whole.pcapng")
	c.must("key", "change", "C04", "--yes", "--quiet", "--capture", capture, "--capture-keys")
	assert.NotEmpty(t, c.foundIn(capture), "this device has nothing but HTTP")

	assert.Contains(t, c.must("key", "change", "all", "--user", "viewer", "--yes", "--quiet"), "2 done, 0 need you")
	changed := c.must("key", "show", "C01", "--user", "viewer")
	assert.NotEqual(t, viewer, changed)
	assert.Contains(t, c.bench.Device("beside").Passwords(), strings.TrimSpace(changed))
	assert.Equal(t, watch, c.must("key", "show", "C01", "--user", "watch"))
	code, _, errs = c.run("", "key", "change", "all", "--user", "nobody", "--yes")
	assert.Equal(t, ExitUsage, code, errs)

	// Someone else makes a user, and another certificate appears.
	code, _, errs = c.run("", "prove", "--quiet")
	require.Zero(t, code, errs)
	c.bench.Device("beside").Meddle("intruder")
	c.bench.Device("switched").Meddle("viewer")
	_, mark = c.events(0)
	code, out, _ = c.run("", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "C01 certificate: should be as surveyed")
	assert.Contains(t, out, "C01 password: should be accepted, is: not offered: it is not what it was")
	assert.Contains(t, out, "C03 users: should be only admin as administrator, viewer as user, is: viewer as operator, the password of viewer is refused (`janustat key change C03 --user viewer` gives it another)")
	since, _ = c.events(mark)
	for _, e := range since {
		assert.False(t, e.Host == "beside" && e.What == bench.EventPassword, "a device with another certificate is offered a password: %+v", e)
	}
	assert.Contains(t, c.must("key", "change", "C03", "--user", "viewer", "--yes", "--quiet"), "1 done, 0 need you")
	_, out, _ = c.run("", "prove", "--quiet")
	assert.NotContains(t, out, "C03 users")
	assert.Contains(t, c.must("show", "C01"), "ALARM        it shows another certificate")
	assert.Contains(t, c.must(), "ALARM C01")

	code, _, errs = c.run("Factory-111\n", "key", "set")
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "among the factory passwords")
}

// foundIn gives the passwords of devices that are in a file.
func (c *crew) foundIn(path string) (out []string) {
	whole, err := os.ReadFile(path)
	require.NoError(c.t, err)
	for _, d := range c.bench.Devices() {
		for _, p := range d.Passwords() {
			if bytes.Contains(whole, []byte(p)) {
				out = append(out, p)
			}
		}
	}
	return out
}

const lockedSite = `
site: Locked
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  status: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 10.61.8.60/23, auth: md5, dialect: default, path: /service, restart: 1s, fault_status: 400, lock: status}
  fault: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 10.61.8.61/23, auth: token, dialect: default, path: /service, restart: 1s, fault_status: 400, lock: fault}
devices:
  - {id: one, model: status, mac: "02:7a:11:00:01:01", serial: L1, password: Right-One-11, locked: true}
  - {id: two, model: fault, mac: "02:7a:11:00:02:01", serial: L2, password: Right-Two-22, locked: true}
`

func TestALockedDeviceIsOfferedNothingMore(t *testing.T) {
	t.Parallel()
	c := hire(t, lockedSite, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	c.must("survey", "--quiet", "--for", "3s")
	c.must("take", "10.61.8.60", "10.61.8.61", "--yes")
	for tag, wait := range map[string]string{"C01": "wait (30|29|28)m", "C02": "wait (1h|59m|58m)"} {
		password := map[string]string{"C01": "Right-One-11\n", "C02": "Right-Two-22\n"}[tag]
		code, _, errs := c.run(password, "key", "set", tag)
		assert.NotZero(t, code)
		assert.Contains(t, errs, "locked after too many wrong passwords")
		code, _, errs = c.run(password, "key", "set", tag)
		assert.Equal(t, ExitNeeds, code)
		assert.Regexp(t, wait, errs)
	}
	offered := map[string]int{}
	for _, e := range c.logs.Events() {
		if e.What == bench.EventLocked {
			offered[e.Host]++
		}
	}
	assert.Equal(t, map[string]int{"one": 1, "two": 1}, offered, "it is not asked again until it opens")
}
