package cli

import (
	"bytes"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/guess"
	"janustat/internal/job"
	"janustat/internal/store"
)

// Three copies of a job do not make six tries, and a job that has lost its register makes none.
func TestCopiesOfAJobShareOneBudget(t *testing.T) {
	t.Parallel()
	c := hire(t, sealedSite, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	c.must("survey", "--for", "2s")
	c.must("take", "10.61.8.50", "--yes")
	first := c.dir
	for n := range 3 {
		c.dir = filepath.Join(filepath.Dir(first), fmt.Sprint("copy", n))
		require.NoError(t, os.CopyFS(c.dir, os.DirFS(first)))
		for try := range 2 {
			code, _, errs := c.run(fmt.Sprintf("Wrong-Guess-%d%d\n", n, try), "key", "set", "C01")
			assert.Equal(t, ExitNeeds, code)
			if n > 0 {
				assert.Contains(t, errs, "no tries left this hour")
			}
		}
	}
	require.NoError(t, os.Remove(filepath.Join(c.dir, job.RegisterFile)))
	_, _, errs := c.run("x\n", "key", "set", "C01")
	assert.Contains(t, errs, "has a job sheet and no register.db")
	assert.Contains(t, c.must("begin", c.dir), "made an empty register")
	c.must("survey", "--for", "2s", "--quiet")
	c.must("take", "10.61.8.50", "--yes")
	_, _, errs = c.run("Wrong-Guess-9\n", "key", "set", "C01")
	assert.Contains(t, errs, "no tries left this hour")
	wrong := 0
	for _, e := range c.logs.Events() {
		if e.What == bench.EventWrongPassword {
			wrong++
		}
	}
	assert.Equal(t, 2, wrong)
	c.dir = filepath.Join(filepath.Dir(first), "copy0")
	assert.Equal(t, 2, strings.Count(c.must("log", "C01"), "refused its password for admin"), "the story tells them")
}

// The ground is kept: neither a laptop on another subnet, nor the cable out, nor a rogue
// that offers leases moves what was set up.
func TestTheGroundIsKept(t *testing.T) {
	t.Parallel()
	site := `
site: Ground
seed: 2
laptop: {mac: "02:1a:70:00:00:01", addresses: [%s]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2, restart: 1s%s}
others:
  - {id: dhcp, role: dhcp, mac: "02:5c:00:00:00:02", address: 10.61.8.2/23, gateway: 10.61.8.1, pool: [10.61.9.100, 10.61.9.199], dns: [10.61.8.3], ntp: [10.61.8.4]}
%s`
	c := hire(t, fmt.Sprintf(site, "10.61.8.200/23", "", ""))
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	out := c.must("allot")
	assert.Contains(t, out, "DNS      10.61.8.3   (from DHCP server 10.61.8.2)")
	assert.Contains(t, out, "NTP      10.61.8.4   (from DHCP server 10.61.8.2)")
	c.must("commission", "--yes", "--quiet")
	c.must("prove", "--quiet")
	before := c.must("list", "--json")

	// Another LAN, with another DHCP server, on which nothing of the job is.
	other := hire(t, `
site: Elsewhere
seed: 2
laptop: {mac: "02:1a:70:00:00:01", addresses: [192.168.50.7/24]}
devices: []
others:
  - {id: rogue, role: dhcp, mac: "02:5c:00:00:00:66", address: 192.168.50.1/24, gateway: 192.168.50.1, pool: [192.168.50.100, 192.168.50.199], dns: [192.168.50.66], ntp: [192.168.50.66]}
`)
	other.dir = c.dir
	code, out, errs := other.run("", "survey", "--quiet")
	require.Equal(t, ExitDone, code, errs)
	assert.Contains(t, out, "not there: C01 C02")
	assert.Contains(t, out, "the site's subnet is 10.61.8.0/23")
	out = other.must("allot")
	assert.Contains(t, out, "10.61.8.41/23")
	assert.Contains(t, out, "set up there")
	assert.NotContains(t, out, "192.168.50.41")

	// A rogue on the same LAN names other servers.
	c.bench.Stop()
	rogue := hire(t, fmt.Sprintf(site, "10.61.8.200/23", "", "  - {id: rogue, role: dhcp, mac: \"02:5c:00:00:00:66\", address: 10.61.8.66/23, gateway: 10.61.8.1, pool: [10.61.9.100, 10.61.9.199], dns: [10.61.8.66], ntp: [10.61.8.66]}\n"))
	code, _, errs = rogue.run("", "survey", "--quiet")
	require.Equal(t, ExitDone, code, errs)
	rogue.must("take", "all", "--yes")
	code, _, errs = rogue.run("", "allot")
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "sources disagree about the DNS servers")
	rogue.dir = c.dir
	rogue.must("survey", "--quiet")
	assert.Contains(t, rogue.must("allot"), "DNS      10.61.8.3")
	after := rogue.must("list", "--json")
	for _, address := range []string{`"allotted": "10.61.8.41"`, `"allotted": "10.61.8.42"`} {
		assert.Contains(t, before, address)
		assert.Contains(t, after, address)
	}
}

// What a dry run says will be written is what is written.
func TestTheDryRunTellsWhatWillBeWritten(t *testing.T) {
	t.Parallel()
	c := hire(t, mixed)
	path := filepath.Join(c.dir, job.SheetFile)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, bytes.Replace(text, []byte("network:\n"), []byte("network:\n  dns: [10.61.8.3]\n  ntp: [10.61.8.4]\n"), 1), 0o600))
	c.sheet("users: [{name: viewer, role: user, on: [camera]}]\ntimezone: GMT0BST\nnames: {C01: Ticket hall, D1: Recorder}\n")
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	c.must("allot")
	for round := range 2 {
		var rows []dryRow
		c.json(&rows, "commission", "--dry-run")
		require.NotEmpty(t, rows)
		expected := map[string]string{}
		for _, r := range rows {
			for _, w := range r.Writes {
				expected[r.Tag] += fmt.Sprintf("%s %s\n", w.Step, w.Intent)
			}
		}
		before := map[string]int{}
		for _, r := range rows {
			before[r.Tag] = len(writesOf(c, r.Tag))
		}
		c.must("commission", "--yes", "--quiet")
		for _, r := range rows {
			got := ""
			for _, w := range writesOf(c, r.Tag)[before[r.Tag]:] {
				if w.Step != "restart" && (w.Outcome == "done" || w.Outcome == "unknown") {
					got += fmt.Sprintf("%s %s\n", w.Step, w.Intent)
				}
			}
			assert.Equal(t, expected[r.Tag], got, "%s, run %d", r.Tag, round+1)
		}
	}
	for _, d := range c.bench.Devices() {
		if zone, summer := d.Zone(); len(d.Passwords()) > 0 && !strings.HasPrefix(d.Passwords()[0], "Forgotten") {
			assert.Equal(t, "GMT0BST", zone)
			assert.True(t, summer, "what was not asked for stays")
		}
	}
}

func writesOf(c *crew, tag string) []store.Entry {
	j, err := job.Open(c.t.Context(), c.dir)
	require.NoError(c.t, err)
	defer j.Close()
	devices, err := j.Register.Devices(c.t.Context())
	require.NoError(c.t, err)
	history, err := j.Register.History(c.t.Context(), devices[slices.IndexFunc(devices, func(d device.Device) bool { return d.Tag == tag })].ID)
	require.NoError(c.t, err)
	return history
}

// Only what the job asks for is changed: the time zone and the name stay as found.
func TestWhatTheJobDoesNotAskForStays(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Stays
seed: 5
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, clock: 300h, name: "Left by somebody", restart: 1s}
`, "--subnet", "10.61.8.0/23")
	path := filepath.Join(c.dir, job.SheetFile)
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, bytes.Replace(text, []byte("network:\n"), []byte("network:\n  dns: [10.61.8.3]\n  ntp: [10.61.8.4]\n"), 1), 0o600))
	c.must("survey", "--quiet")
	c.must("take", "02:e4:42:00:01:01", "--yes")
	c.must("allot")
	c.must("commission", "--yes", "--quiet")
	c.must("prove", "--quiet")
	zone, summer := c.bench.Device("dome").Zone()
	assert.Equal(t, "CET-1CEST,M3.5.0,M10.5.0/3", zone)
	assert.True(t, summer)
	var shown struct {
		Name    string
		AsFound struct{ Name, Timezone, Address string } `json:"as_found"`
	}
	c.json(&shown, "show", "C01")
	assert.Equal(t, "Left by somebody", shown.Name)
	assert.Equal(t, "Left by somebody", shown.AsFound.Name)
	assert.Equal(t, zone, shown.AsFound.Timezone)
	_, _, dns, ntp := c.bench.Device("dome").Holds()
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("10.61.8.3")}, dns)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("10.61.8.4")}, ntp)

	// A record is out of date from the next write on.
	c.must("handover")
	assert.Contains(t, c.must(), "up to date")
	waitFor(t, "another second", func() bool { return time.Now().Unix() != clockOf(t, c) })
	_, _, errs := c.run("", "key", "change", "C01", "--yes")
	assert.Contains(t, errs, "The handover pack in handover is out of date (changed since: C01)")
	assert.Contains(t, c.must(), "The record on disk is out of date (C01). Next: `janustat handover`")
	assert.Contains(t, c.must(), "Next: janustat prove", "what was proved was proved until that write")

	// Left out, it keeps what it was given, and the record says so.
	out := c.must("leave", "C01", "--yes")
	assert.Contains(t, out, "keeps 10.61.8.41 and its password")
	assert.Contains(t, c.must("key", "list"), "C01")
	assert.Contains(t, c.must("handover"), "open: C01  was set up and then left out of the job")
}

func clockOf(t *testing.T, c *crew) int64 {
	info, err := os.Stat(filepath.Join(c.dir, job.HandoverDir, "register.json"))
	require.NoError(t, err)
	return info.ModTime().Unix()
}

// A sealed recorder is not walked past.
func TestASealedRecorderIsNamed(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Sealed
seed: 5
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, restart: 1s}
  - {id: ours, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: E1, address: 10.61.8.10/23, gateway: 10.61.8.1, password: Harbour-Light-42}
`, "--subnet", "10.61.8.0/23")
	const named = "10.61.8.10 was set up by somebody before (protected). Is it the site's?"
	assert.Contains(t, c.must("survey", "--quiet", "--for", "3s"), named)
	const told = "is a recorder Ledger 16 at 10.61.8.10, set up by somebody before (protected): nobody has said whose it is"
	assert.Contains(t, c.must(), told)
	assert.Contains(t, c.must("take", "all", "--yes"), named)
	c.must("allot")
	assert.Contains(t, strings.Join(strings.Fields(c.must("handover")), " "), told)
	_, out, _ := c.run("", "take", "kind=recorder", "--yes")
	assert.Contains(t, out, "No device matches", "whose it is has to be said")
	assert.Contains(t, c.must("take", "10.61.8.10", "--yes"), "1 device taken")
	assert.NotContains(t, c.must(), told)
}

func TestAnEasilyGuessedPassphraseIsNotTaken(t *testing.T) {
	for phrase, takes := range map[string]bool{
		"x": false, "password": false, "passphrase": false, "12345678901234": false, "quillmere ferry": false, "janustat": false, "Quillmere1": false,
		"ferry at quillmere": true, "another phrase": true, "correct horse battery staple": true, strings.Repeat("word salad ", 900): true,
	} {
		assert.Equal(t, takes, guess.Why(phrase, "Quillmere Ferry Terminal") == "", phrase)
	}
}
