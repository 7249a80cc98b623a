package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const addressed = `
site: Addressed
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 4, restart: 1s}
others:
  - {id: printer, role: printer, mac: "02:9d:00:00:00:30", address: 10.61.8.41/23}
`

// Addresses that a person has chosen come from the job sheet and from the planner's list; what
// cannot be given is told before anything is sent, and what was allotted and never sent goes stale
// with what it was decided by.
func TestAddressesOfAPersonsChoice(t *testing.T) {
	t.Parallel()
	c := hire(t, addressed, "--subnet", "10.61.8.0/23")
	c.sheet("addresses: {VD003: 10.61.8.70}\n")
	c.prepare()
	of := func(mac string) string { return c.decided(mac, "allotted") }
	assert.Equal(t, "10.61.8.70", of("02:e4:42:00:01:03"))
	assert.Equal(t, "10.61.8.42", of("02:e4:42:00:01:01"), "the printer has the one before")
	list := filepath.Join(t.TempDir(), "plan.csv")
	require.NoError(t, os.WriteFile(list, []byte("Name,MAC,IP address\nQuay,02:e4:42:00:01:01,10.61.8.60\nRamp,02:e4:42:00:01:02,10.61.8.41\nHall,02:e4:42:00:01:03,10.61.8.71\nDesk,02:e4:42:00:01:04,10.99.0.4\n"), 0o600))
	code, out, errs := c.run("", "schedule", list, "--yes")
	assert.Equal(t, ExitNeeds, code, errs)
	flat := strings.Join(strings.Fields(out), " ")
	assert.Contains(t, flat, "line 3: 10.61.8.41 for C02: it is in use by 02:9d:00:00:00:30: not taken in")
	assert.Contains(t, flat, "line 4: 10.61.8.71 for C03: the job sheet names 10.61.8.70, which stands: not taken in")
	assert.Contains(t, flat, "line 5: 10.99.0.4 for C04:")
	flat = strings.Join(strings.Fields(c.must("allot")), " ")
	assert.Contains(t, flat, "note: allotted again, from what was learnt since: C01 10.61.8.60 in place of 10.61.8.42 (named in the job sheet)")
	assert.Equal(t, "10.61.8.60", of("02:e4:42:00:01:01"))
	c.must("commission", "--yes", "--quiet")
	at, _, _ := c.bench.Device("dome-1").Look()
	assert.Equal(t, "10.61.8.60/23", at.String())
	c.writesNothing()
	assert.Equal(t, "10.61.8.60", of("02:e4:42:00:01:01"), "what was sent stays")

	// Two for one address, and one that is no address, are told with their place in the sheet.
	for text, told := range map[string]string{"addresses: {C01: 10.61.8.9, C02: 10.61.8.9}": "is for C01 already", "addresses: {C01: 10.99.0.1}": "10.99.0.1", "addresses: {C01: 224.0.0.1}": "is not an IPv4 address of a device"} {
		other := hire(t, addressed, "--subnet", "10.61.8.0/23")
		other.sheet(text + "\n")
		code, _, errs := other.run("", "survey", "--quiet")
		assert.Equal(t, ExitUsage, code, text)
		assert.Contains(t, errs, told)
		assert.Contains(t, errs, "line ")
	}
}

const lateComer = `
site: Late
seed: 8
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD1, restart: 1s}
  - {id: late, model: verrine-dome, mac: "02:e4:42:00:01:09", serial: VD9, address: 10.61.8.41/23, name: Till, restart: 1s}
`

// What was allotted and never sent is decided again by what is known when it would be sent.
func TestAnAllotmentGoesStaleWithItsEvidence(t *testing.T) {
	t.Parallel()
	c := hire(t, lateComer, "--subnet", "10.61.8.0/23")
	late := c.bench.Device("late")
	late.Unplug()
	c.prepare()
	assert.Equal(t, "10.61.8.41", c.decided("02:e4:42:00:01:01", "allotted"))
	late.Plug()
	waitFor(t, "the other device is back", func() bool {
		_, out, _ := c.run("", "survey", "--quiet", "--for", "2s")
		return strings.Contains(out, "02:e4:42:00:01:09")
	})
	_, out, errs := c.run("", "commission", "--yes")
	assert.Contains(t, errs, "allotted again, from what was learnt since: C01 10.61.8.42 in place of 10.61.8.41")
	assert.Contains(t, out, "1 done, 0 need you")
	at, _, _ := c.bench.Device("dome").Look()
	assert.Equal(t, "10.61.8.42/23", at.String())
}
