package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

const firmwareSite = `
site: Firmware
seed: 11
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  plain:   {make: Tallow, name: Cube, kind: camera, firmware: '1.4', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
  other:   {make: Oakhollow, name: Eye, kind: camera, firmware: '2.0', factory: 192.168.77.20/24, auth: md5, dialect: wild, path: /onvif/device_service, restart: 1s, fault_status: 400}
  elses:   {make: Verrine, name: Dome, kind: camera, firmware: '3.0', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 500}
  loses:   {make: Verrine, name: Turret, kind: camera, firmware: '3.0', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 500}
  leases:  {make: Verrine, name: Bullet, kind: camera, firmware: '3.0', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 500}
  same:    {make: Verrine, name: Pinhole, kind: camera, firmware: '3.0', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 500}
  unable:  {make: Verrine, name: Wedge, kind: camera, firmware: '3.0', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 500}
  twice:   {make: Tallow, name: Ball, kind: camera, firmware: '1.4', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
  lost:    {make: Tallow, name: Box, kind: camera, firmware: '1.4', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
  slow:    {make: Tallow, name: Bar, kind: camera, firmware: '1.4', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
  renames: {make: Tallow, name: Rod, kind: camera, firmware: '1.4', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
others:
  - {id: pool, role: dhcp, mac: "02:5c:00:00:00:02", address: 10.61.8.2/23, gateway: 10.61.8.1, pool: [10.61.9.100, 10.61.9.150]}
devices:
`

// Firmware goes to one device of each model first, and to others of that only if it is right with it; one that
// loses its settings, or its address, is set up again; what a device does otherwise is told; and a second run
// has nothing to do where it was right.
func TestFirmwareIsBroughtToTheAgreedVersion(t *testing.T) {
	t.Parallel()
	units := []struct{ id, model, manners, want, why string }{
		{"plain-1", "plain", "firmware, backup", "done", ""},
		{"plain-2", "plain", "firmware, firmware after a delay", "done", ""},
		{"plain-3", "plain", "firmware, firmware half taken", "needs you", "has the version that it had"},
		{"other-1", "other", "firmware attached", "done", ""},
		{"other-2", "other", "firmware attached, firmware answer lost", "done", ""},
		{"elses-1", "elses", "firmware, firmware elsewhere", "done", ""},
		{"loses-1", "loses", "firmware, firmware resets", "done, settings restored", ""},
		{"loses-2", "loses", "firmware, firmware resets", "done, settings restored", ""},
		{"leases-1", "leases", "firmware attached, firmware to DHCP", "done, settings restored", ""},
		{"same-1", "same", "firmware, firmware without effect", "needs you", "took its firmware, and has the version that it had"},
		{"same-2", "same", "firmware", "not begun", "of the same model"},
		{"unable-1", "unable", "", "needs you", "cannot be set over the LAN"},
		{"twice-1", "twice", "firmware, firmware in two starts", "done", ""},
		{"lost-1", "lost", "firmware, firmware answer lost", "done", ""},
		{"slow-1", "slow", "firmware, firmware slow", "done", ""},
		{"renames-1", "renames", "firmware, firmware of another name", "needs you", "has version 5.0 (final) now, not 5.0"},
	}
	var site strings.Builder
	site.WriteString(firmwareSite)
	for i, u := range units {
		fmt.Fprintf(&site, "  - {id: %s, model: %s, mac: \"02:7a:11:00:01:%02x\", serial: S%d, manners: [%s]}\n", u.id, u.model, i+1, i+1, u.manners)
	}
	c := hire(t, site.String(), "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")

	var rows []firmwareJSON
	c.json(&rows, "firmware")
	require.Len(t, rows, len(units))
	like := map[string]string{} // a tag of each model
	for _, r := range rows {
		assert.Equal(t, "none agreed", r.State)
		assert.Equal(t, "rev B", r.Hardware)
		like[r.Make+"\n"+r.Model] = r.Tag
	}
	for of, tag := range like {
		maker, model, _ := strings.Cut(of, "\n")
		file := filepath.Join(t.TempDir(), strings.ToLower(model)+".bin")
		require.NoError(t, os.WriteFile(file, bench.Image(maker, model, "5.0", 300_000), 0o644))
		c.must("firmware", "add", file, "--like", tag, "--version", "5.0")
	}
	assert.Contains(t, c.must("firmware"), "0 as agreed, 16 due")

	code, out, errs := c.run("", "firmware", "--apply", "--yes", "--json", "--quiet")
	require.Equal(t, ExitNeeds, code, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &rows), out)
	for _, r := range rows {
		u := units[int(r.MAC[5])-1]
		assert.Equal(t, u.want, r.Outcome, "%s: %s %s", u.id, r.Why, errs)
		assert.Contains(t, r.Why, u.why, u.id)
	}

	var again []firmwareJSON
	code, out, errs = c.run("", "firmware", "--json", "--quiet")
	require.Equal(t, ExitDone, code, errs)
	require.NoError(t, json.Unmarshal([]byte(out), &again), out)
	for _, r := range again {
		u := units[int(r.MAC[5])-1]
		is := map[bool]string{true: "as agreed", false: "due"}[strings.HasPrefix(u.want, "done")]
		if u.model == "renames" {
			is = "newer" // by the name that it gives it
		}
		assert.Equal(t, is, r.State, u.id)
	}
	c.must("prove", "--quiet")
}
