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
	"janustat/internal/job"
)

// manneredSite has a device for each of the ways that devices have beside what the
// standards demand. Names are those of the bench (docs/bench.md).
func manneredSite() (site string, hosts []string) {
	var b strings.Builder
	b.WriteString(`
site: Manners
pace: 1
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
models:
  token: {make: Tallow, name: Cube, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: token, dialect: default, path: /onvif/device_service, restart: 1s, fault_status: 400}
  digest: {make: Verrine, name: Dome, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 500}
  boots: {make: Oakhollow, name: Eye, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: any, dialect: wild, path: /onvif/device_service, restart: 1s, needs_boot: true, fault_status: 400}
  secure: {make: Oakhollow, name: Eye, kind: camera, firmware: '1', factory: 192.168.77.20/24, auth: md5, dialect: declared, path: /onvif/device_service, restart: 1s, fault_status: 400, https: 'on'}
others:
  - {id: leases, role: dhcp, mac: "02:5c:00:00:00:02", address: 10.61.8.2/23, gateway: 10.61.8.1, pool: [10.61.9.100, 10.61.9.150], ntp: [10.61.8.4]}
devices:
`)
	for i, c := range []struct{ model, manner, more string }{
		{"token", "gateway first", ""},
		{"token", "gateway inside", ""},
		{"boots", "gateway inside", ""},
		{"token", "forgets gateway", ""},
		{"boots", "forgets gateway", ""},
		{"token", "servers static", "dhcp: true"},
		{"digest", "lease first off", "dhcp: true"},
		{"token", "silent restart", ""},
		{"boots", "late restart", ""},
		{"boots", "late service", ""},
		{"token", "hides users", ""},
		{"digest", "hides users", ""},
		{"token", "lists users", ""},
		{"token", "old faults", ""},
		{"token", "security faults", ""},
		{"token", "forbids", ""},
		{"digest", "busy", ""},
		{"token", "prohibits names", ""},
		{"digest", "no clock", "clock: 7m"},
		{"token", "secret clock", "clock: 7m"},
		{"digest", "secret clock", "clock: -7m"},
		{"token", "no UTC", ""},
		{"digest", "session digest", ""},
		{"token", "capital users", ""},
		{"digest", "masks", ""},
		{"token", "junk", ""},
		{"token", "dead address", ""},
		{"token", "no discovery", ""},
		{"secure", "leads to https", ""},
		{"token", "untyped", ""},
		{"token", "two ports", ""},
		{"token", "two addresses", ""},
	} {
		id := fmt.Sprintf("%s by %s", c.manner, c.model)
		hosts = append(hosts, id)
		more := ""
		if c.more != "" {
			more = ", " + c.more
		}
		fmt.Fprintf(&b, "  - {id: %s, model: %s, mac: \"02:7a:11:00:01:%02x\", serial: S%d, manners: [%s]%s}\n", id, c.model, i+1, i+1, c.manner, more)
	}
	return b.String(), hosts
}

// Devices of every manner are found, set up and proved, their time zones as they were,
// and a second run writes nothing. What cannot be set is told.
func TestDevicesOfEveryManner(t *testing.T) {
	t.Parallel()
	site, hosts := manneredSite()
	c := hire(t, site, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	names, err := os.OpenFile(filepath.Join(c.dir, job.SheetFile), os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = names.WriteString("\nnames: {S18: Pier head}\n")
	require.NoError(t, err)
	require.NoError(t, names.Close())
	surveyed := c.must("survey", "--quiet")
	var listed []struct{ MAC, Kind, Serial, Access string }
	require.NoError(t, json.Unmarshal([]byte(c.must("list", "--json")), &listed))
	host := func(mac string) string {
		var n int
		if _, err := fmt.Sscanf(mac, "02:7a:11:00:01:%02x", &n); err != nil {
			return ""
		}
		return hosts[n-1]
	}
	met := map[string]string{}
	for _, d := range listed {
		if h := host(d.MAC); h != "" {
			met[h] = d.Kind + " " + d.Access
			c.must("take", d.MAC, "--kind", "camera", "--yes")
		}
	}
	for _, h := range hosts {
		want := "camera fresh"
		if strings.HasPrefix(h, "hides users") {
			want = "camera sealed"
		}
		if strings.HasPrefix(h, "untyped") || strings.HasPrefix(h, "no discovery") {
			met[h] = strings.Replace(met[h], "other", "camera", 1) // nothing but its services tells what it is
		}
		assert.Equal(t, want, met[h], "%s\n%s", h, surveyed)
	}
	c.must("allot")

	code, out, errs := c.run("", "commission", "--yes", "--json", "--quiet")
	var result struct {
		Results []struct {
			Tag, MAC, Status, Reason string
			Notes                    []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &result), errs)
	assert.Equal(t, ExitDone, code, errs)
	require.Len(t, result.Results, len(hosts))
	told := map[string]string{}
	tags := map[string]string{}
	for _, r := range result.Results {
		h := host(r.MAC)
		tags[r.Tag] = h
		assert.Equal(t, "done", r.Status, "%s: %s", h, r.Reason)
		told[h] = strings.Join(r.Notes, "; ")
	}
	assert.Contains(t, told["prohibits names by token"], "refuses its name")
	assert.Contains(t, told["no clock by digest"], "refuses its clock")

	_, out, errs = c.run("", "prove", "--json", "--quiet")
	var proofs struct {
		Devices []struct {
			Tag    string
			OK     bool `json:"ok"`
			Checks []struct {
				Check, Want, Got string
				OK, Refused      bool
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &proofs), out+errs)
	assert.Len(t, proofs.Devices, len(hosts))
	for _, p := range proofs.Devices {
		for _, check := range p.Checks {
			h := tags[p.Tag]
			if h == "prohibits names by token" && check.Check == "name" || h == "no clock by digest" && (check.Check == "clock" || check.Check == "ntp") {
				assert.True(t, check.Refused, "%s: %+v", h, check)
			} else {
				assert.False(t, check.Refused, "%s: %+v", h, check)
			}
			assert.True(t, check.OK, "%s: %+v", h, check)
		}
	}
	for _, h := range hosts {
		zone, summer := c.bench.Device(h).Zone()
		assert.Equal(t, "CET-1CEST,M3.5.0,M10.5.0/3", zone, h)
		assert.True(t, summer, h)
		_, dhcp, users := c.bench.Device(h).Look()
		assert.False(t, dhcp, h)
		assert.Len(t, users, 1, h)
	}
	_, mark := c.events(0)
	_, out, _ = c.run("", "commission", "--yes", "--quiet")
	assert.Contains(t, out, "refuses its name", "it is told each time")
	assert.Contains(t, out, "refuses its clock")
	since, _ := c.events(mark)
	for _, e := range since {
		if e.What == bench.EventWrite {
			assert.Fail(t, "a second run writes", "%s: %s", e.Host, e.Op)
		}
		assert.NotEqual(t, bench.EventWrongPassword, e.What, e.Host)
	}
}
