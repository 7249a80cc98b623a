package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
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
  half:    {make: Tallow, name: Half, kind: camera, firmware: '1.4', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
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
		{"half-1", "half", "firmware, firmware half taken", "needs you", "has the version that it had"},
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

const rollSite = `
site: Roll
seed: 11
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  cam: {make: Tallow, name: Cube, kind: camera, firmware: '1.4', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
  rec: {make: Brightmoor, name: Vault, kind: recorder, firmware: '7', factory: 192.168.77.30/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 400}
devices:
  - {id: cam, model: cam, mac: "02:7a:11:00:01:01", serial: S1, count: 3, manners: [firmware]}
  - {id: rec, model: rec, mac: "02:b7:16:00:01:01", serial: R1, count: 2, manners: [firmware]}
`

// agreeOn puts images for the devices of rollSite into the job.
func agreeOn(c *crew, models ...string) {
	for i := 0; i < len(models); i += 3 {
		file := filepath.Join(c.t.TempDir(), models[i+1]+".bin")
		require.NoError(c.t, os.WriteFile(file, bench.Image(models[i], models[i+1], "12.0", 2_000_000), 0o644))
		c.must("firmware", "add", file, "--like", models[i+2], "--version", "12.0")
	}
}

// One camera goes ahead, then its like; recorders come after all cameras, one after another.
func TestFirmwareGoesToRecordersLast(t *testing.T) {
	t.Parallel()
	c := hire(t, rollSite, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	agreeOn(c, "Tallow", "Cube", "C01", "Brightmoor", "Vault", "R01")
	agreed := func() (versions []string, open int) {
		c.must("handover", "--quiet")
		record, err := os.ReadFile(filepath.Join(c.dir, "handover", "register.json"))
		require.NoError(t, err)
		var r struct {
			Devices []struct {
				Firmware string
				Agreed   string `json:"firmware_agreed"`
			}
			Open []struct{ What, Text string }
		}
		require.NoError(t, json.Unmarshal(record, &r))
		for _, d := range r.Devices {
			versions = append(versions, strings.TrimSpace(d.Firmware+" "+d.Agreed))
		}
		for _, i := range r.Open {
			if i.What == "firmware" {
				assert.Contains(t, i.Text, "12.0 is agreed on")
				open++
			}
		}
		return versions, open
	}
	versions, open := agreed()
	assert.Equal(t, []string{"7 12.0", "7 12.0", "1.4 12.0", "1.4 12.0", "1.4 12.0"}, versions)
	assert.Equal(t, 5, open)
	var order []string
	var mu sync.Mutex
	stop := c.logs.On(func(e bench.Event) {
		if e.OK && (e.Op == "StartFirmwareUpgrade" || e.Op == "Firmware 12.0") {
			mu.Lock()
			defer mu.Unlock()
			order = append(order, e.Host[:3]+" "+e.Op[:1])
		}
	})
	c.must("firmware", "--apply", "--yes", "--quiet")
	stop()
	require.Len(t, order, 10, order)
	assert.Equal(t, []string{"cam S", "cam F"}, order[:2])
	assert.Equal(t, []string{"rec S", "rec F", "rec S", "rec F"}, order[6:])
	assert.Contains(t, c.must("firmware"), "5 as agreed, 0 due")
	versions, open = agreed()
	assert.Equal(t, []string{"12.0", "12.0", "12.0", "12.0", "12.0"}, versions)
	assert.Zero(t, open)
	assert.Contains(t, c.must("show", "C01"), "12.0")
}

// A run that is cut off anywhere is gone on with by the next one, which sends nothing twice.
func TestFirmwareThatIsCutOffIsGoneOnWith(t *testing.T) {
	t.Parallel()
	for _, op := range []string{"StartFirmwareUpgrade", "Firmware 12.0"} {
		t.Run(op, func(t *testing.T) {
			t.Parallel()
			c := hire(t, rollSite, "--subnet", "10.61.8.0/23")
			c.prepare()
			c.must("commission", "--yes", "--quiet")
			agreeOn(c, "Tallow", "Cube", "C01")
			ctx, cancel := context.WithCancel(t.Context())
			started := 0
			stop := c.logs.On(func(e bench.Event) {
				if e.Op == op {
					cancel()
				}
			})
			code, out, errs := c.runUntil(ctx, "", "firmware", "C01", "--apply", "--yes", "--quiet")
			stop()
			assert.NotEqual(t, ExitDone, code, out+errs)
			assert.Contains(t, out, "`janustat firmware C01 --apply`: it goes on from here")
			out = c.must("firmware", "C01", "--apply", "--yes", "--quiet")
			assert.NotContains(t, out, "needs you")
			for _, e := range c.logs.Events() {
				if e.OK && e.Op == "Firmware 12.0" {
					started++
				}
			}
			assert.Equal(t, 1, started, "it has taken one image")
			assert.Contains(t, c.must("prove", "C01", "--quiet"), "1 of 1 devices proved")
		})
	}
}

// A stranger that answers in the place of a device which restarts with its firmware is not taken for it, and
// learns no password that opens anything.
func TestAStrangerInThePlaceOfADeviceThatRestartsWithItsFirmware(t *testing.T) {
	t.Parallel()
	c := hire(t, rollSite, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	agreeOn(c, "Tallow", "Cube", "C01")
	var rows []struct{ MAC, Serial string }
	c.json(&rows, "list", "C01")
	d := c.bench.Device("cam-1")
	stop := c.logs.On(func(e bench.Event) {
		if e.OK && e.Op == "Firmware 12.0" && e.Host == "cam-1" {
			go d.Usurp(bench.Pose{Fresh: true, Serial: "ANOTHER"})
		}
	})
	was := c.must("key", "show", "C01")
	code, out, errs := c.run("", "firmware", "C01", "--apply", "--yes", "--quiet")
	stop()
	assert.Equal(t, ExitNeeds, code, out+errs)
	assert.Contains(t, out+errs, "serial")
	for _, p := range d.Passwords() { // at most one of its own, that opens nothing else
		assert.NotEqual(t, strings.TrimSpace(was), p)
	}
	assert.Equal(t, was, c.must("key", "show", "C01"))
	d.Yield()
	out = c.must("commission", "C01", "--yes", "--quiet")
	assert.Contains(t, out, "1 done")
	assert.Contains(t, c.must("prove", "C01", "--quiet"), "1 of 1 devices proved")
}

// A camera with everything (HTTPS at a port of its own, the site's certificate, no HTTP) and another on a recorder's
// channel lose all of it by their firmware, and have it again after one run.
func TestWhatFirmwareTakesIsGivenBack(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Back
seed: 11
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:01:01", serial: E1, restart: 1s, manners: [keystore, firmware, firmware resets]}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: D1, restart: 1s, manners: [firmware, firmware resets]}
  - {id: rec, model: tallow-recorder, mac: "02:7a:11:00:00:20", serial: R1, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\ncertificates: site\nhttp: off\nports: {https: 7000+}\nchannels: auto\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	agreeOn(c, "Oakhollow", "Eye Two", "02:0a:c0:00:01:01", "Verrine", "Dome 420", "02:e4:42:00:01:01")
	out := c.must("firmware", "--apply", "--yes", "--quiet")
	assert.Equal(t, 2, strings.Count(out, "done, settings restored"), out)
	_, proof, _ := c.run("", "prove", "--quiet")
	assert.Contains(t, proof, "3 of 3 devices proved") // old passwords may be untested, for the budget of tries
	assert.Regexp(t, `02:0a:c0:00:01:01 +for 10.61.8.4\d +704\d +off`, c.must("list", "--columns", "mac,site_certificate,https_port,http"))
	c.writesNothing()
}
