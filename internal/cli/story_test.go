package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
	"janustat/internal/pace"
)

func TestMain(m *testing.M) { os.Exit(driver.Run(m, 18)) }

// crew is a program on a bench: commands run as a person would type them.
type crew struct {
	t    testing.TB
	dir  string
	wire string
	pace pace.Pace
	logs *bench.Log
	// printed is all that commands printed, but for `key show`, which is to print a password.
	bench   *bench.Bench
	ran     map[string]bool // commands, for a test that looks
	printed *strings.Builder
}

// hire brings a site up and begins a job on it.
func hire(t testing.TB, site string, begin ...string) *crew {
	s, err := bench.Parse([]byte(site))
	require.NoError(t, err)
	return hireOn(t, s, begin...)
}

// hireOn does so for a site that is there already. When the test ends, nothing
// that was written or printed may hold a password that any device ever had.
func hireOn(t testing.TB, site *bench.Site, begin ...string) *crew {
	hurried := benchtest.Hurry(site)
	socket, logs, b := benchtest.StartSite(t, site)
	c := &crew{t: t, pace: hurried, dir: filepath.Join(t.TempDir(), "job"), wire: "bench:" + socket, logs: logs, bench: b, printed: &strings.Builder{}, ran: map[string]bool{}}
	t.Cleanup(c.assertNothingLeaked)
	c.must(append([]string{"begin", c.dir}, begin...)...)
	return c
}

// run gives the exit code and both streams of a command.
func (c *crew) run(stdin string, args ...string) (code int, stdout, stderr string) {
	return c.runUntil(c.t.Context(), stdin, args...)
}

func (c *crew) runUntil(ctx context.Context, stdin string, args ...string) (code int, stdout, stderr string) {
	var out, errs bytes.Buffer
	a := App{Pace: c.pace, KeyWork: driver.KeyWork, In: strings.NewReader(stdin), Out: &out, Err: &errs, Getenv: func(k string) string {
		switch k {
		case "JANUSTAT_PASSPHRASE":
			return "ferry at quillmere"
		case "JANUSTAT_STATE":
			return filepath.Join(filepath.Dir(c.dir), "state")
		}
		return ""
	}}
	code = a.Run(ctx, append(args, "--job", c.dir, "--wire", c.wire))
	c.printed.Write(errs.Bytes())
	if len(args) < 2 || args[0] != "key" || args[1] != "show" {
		c.printed.Write(out.Bytes())
	}
	return code, out.String(), errs.String()
}

// prepare takes all that a survey finds, and allots it addresses.
func (c *crew) prepare() {
	c.t.Helper()
	// Who surveys looks again where the survey says that it could not read somebody yet.
	for range 3 {
		c.must("survey", "--quiet", "--for", "3s")
		var all []struct{ Access string }
		c.json(&all, "list", "--all")
		if !slices.ContainsFunc(all, func(d struct{ Access string }) bool { return d.Access == "unread" }) {
			break
		}
	}
	c.must("take", "all", "--yes")
	c.must("allot")
}

// must runs a command that has to succeed.
func (c *crew) must(args ...string) string {
	c.t.Helper()
	code, out, errs := c.run("", args...)
	require.Equal(c.t, ExitDone, code, "janustat %v\n%s\n%s", args, out, errs)
	return out
}

// events gives what the hosts experienced since a mark, and the next mark.
func (c *crew) events(since int) ([]bench.Event, int) {
	all := c.logs.Events()
	return all[since:], len(all)
}

// proves proves until that shows a text: what somebody else did takes its time to be seen.
func (c *crew) proves(text string) {
	c.t.Helper()
	out := ""
	for begun := time.Now(); time.Since(begun) < 2*time.Minute; {
		if _, out, _ = c.run("", "prove", "--quiet"); strings.Contains(out, text) {
			return
		}
	}
	assert.Fail(c.t, "never proved: "+text, out)
}

func (c *crew) json(into any, args ...string) {
	c.t.Helper()
	require.NoError(c.t, json.Unmarshal([]byte(c.must(append(args, "--json", "--quiet")...)), into))
}

const mixed = `
site: Mixed
seed: 5
loss: 0.01
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 5, clock: 90s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:02:01", serial: B1}
  - {id: quay, model: tallow-cube, mac: "02:7a:11:00:03:01", serial: C1, lose_move: true}
  - {id: leased, model: tallow-cube, mac: "02:7a:11:00:03:02", serial: C2, dhcp: true}
  - {id: ours, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: D1}
  - {id: left, model: verrine-bullet, mac: "02:e4:41:00:05:01", serial: E1}
  - {id: sealed, model: verrine-dome, mac: "02:e4:42:00:06:01", serial: F1, address: 10.61.8.43/23, password: Forgotten-2019}
others:
  - {id: router, role: router, mac: "02:5c:00:00:00:01", address: 10.61.8.1/23}
  - {id: dhcp, role: dhcp, mac: "02:5c:00:00:00:02", address: 10.61.8.2/23, gateway: 10.61.8.1, pool: [10.61.9.100, 10.61.9.199]}
  - {id: printer, role: printer, mac: "02:9d:00:00:00:30", address: 10.61.8.41/23}
`

// writes are the events that change something or offer a password.
func writes(events []bench.Event) []bench.Event {
	return slices.DeleteFunc(slices.Clone(events), func(e bench.Event) bool {
		return !slices.Contains([]string{bench.EventWrite, bench.EventPassword, bench.EventWrongPassword, bench.EventLocked}, e.What)
	})
}

func TestTheWholeJob(t *testing.T) {
	t.Parallel()
	c := hire(t, mixed)
	mark := 0
	quiet := func(what string) {
		t.Helper()
		var seen []bench.Event
		seen, mark = c.events(mark)
		assert.Empty(t, writes(seen), "%s sends a write or offers a password", what)
	}

	var survey surveyJSON
	c.json(&survey, "survey")
	require.Len(t, survey.Devices, 14)
	require.Len(t, survey.Offers, 1)
	quiet("survey")

	c.must("leave", "02:e4:41:00:05:01", "--yes")
	c.must("take", "all", "--yes")
	var taken []deviceJSON
	c.json(&taken, "list", "--all")
	for _, d := range taken {
		if d.MAC.String() == "02:e4:42:00:06:01" || d.MAC.String() == "02:9d:00:00:00:30" {
			assert.Empty(t, d.InJob, "all takes neither the sealed camera nor the printer")
		}
	}
	c.must("leave", "02:e4:41:00:05:01", "--yes")

	var allotted struct {
		Allotment []allotRow `json:"allotment"`
	}
	c.json(&allotted, "allot")
	require.Len(t, allotted.Allotment, 9)
	got := map[string]string{}
	for _, r := range allotted.Allotment {
		got[r.Tag] = r.Allotted.String()
		assert.NotEmpty(t, r.Why)
	}
	assert.Equal(t, "10.61.8.11", got["R01"], "a fresh recorder is allotted like the rest, first")
	assert.NotContains(t, got, "10.61.8.41")
	c.json(&allotted, "allot")
	for _, r := range allotted.Allotment {
		assert.Equal(t, got[r.Tag], r.Allotted.String(), "allotments stay put")
	}
	c.must("commission", "--dry-run")
	quiet("allot")

	c.must("commission", "--yes")
	seen, next := c.events(mark)
	mark = next
	for _, e := range writes(seen) {
		assert.NotContains(t, []string{"left", "sealed", "router", "dhcp", "printer"}, e.Host, "%+v", e)
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v", e)
	}
	c.json(&taken, "list")
	settled := 0
	for _, d := range taken {
		if d.InJob == "taken" {
			settled++
			assert.EqualValues(t, "settled", d.Condition, d.Tag)
			assert.EqualValues(t, "keyed", d.Access, d.Tag)
			assert.Equal(t, got[d.Tag], d.Address.String())
		}
	}
	assert.Equal(t, 9, settled)

	var again struct{ Writes int }
	c.json(&again, "commission", "--yes")
	assert.Zero(t, again.Writes)
	seen, mark = c.events(mark)
	for _, e := range seen {
		assert.NotEqual(t, bench.EventWrite, e.What, "a finished job is written to again: %+v", e)
	}
	c.must("prove")
	c.must("handover")

	// The survey after it knows the devices again, offers no password, and finds nothing to change.
	_, mark = c.events(0)
	c.json(&survey, "survey")
	quiet("a later survey")
	for _, d := range survey.Devices {
		if d.InJob == "taken" {
			assert.EqualValues(t, "keyed", d.Access, d.Tag)
		}
	}
	c.noPasswords()
}

// assertNothingLeaked searches all that was written and printed.
func (c *crew) assertNothingLeaked() {
	var secrets []string
	for _, d := range c.bench.Devices() {
		secrets = append(secrets, d.Passwords()...)
	}
	slices.Sort(secrets)
	c.assertHidden(slices.Compact(secrets), c.printed.String())
}

// noPasswords looks through every file of the job for any password on its keyring.
func (c *crew) noPasswords() {
	c.t.Helper()
	password := strings.TrimSpace(c.must("key", "show", "C01"))
	require.Len(c.t, password, 14)
	files := 0
	require.NoError(c.t, filepath.Walk(c.dir, func(path string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		files++
		assert.NotContains(c.t, string(b), password, path)
		return err
	}))
	assert.GreaterOrEqual(c.t, files, 6)
}

func TestAKeyedRecorderDefinesTheGround(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Recorder
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [192.168.50.7/24]}
devices:
  - {id: recorder, model: brightmoor-recorder, mac: "02:b7:16:00:04:01", serial: D1, address: 192.168.50.10/26, gateway: 192.168.50.1, password: Harbour-Light-42}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A}
`)
	c.must("survey", "--for", "3s")
	code, _, errs := c.run("Harbour-Light-42\n", "key", "set", "192.168.50.10")
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "not in the job, so no password is offered")
	c.must("take", "all", "192.168.50.10", "--yes")

	code, _, errs = c.run("Wrong-Guess-1\n", "key", "set", "R01")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "does not accept this password")
	code, out, errs := c.run("Harbour-Light-42\n", "key", "set", "R01")
	require.Equal(t, ExitDone, code, errs)
	assert.Contains(t, out, "192.168.50.10/26, gateway 192.168.50.1")
	wrong := 0
	for _, e := range c.logs.Events() {
		if e.What == bench.EventWrongPassword {
			wrong++
		}
	}
	assert.Equal(t, 1, wrong)

	out = c.must("allot")
	assert.Contains(t, out, "192.168.50.0/26, mask 255.255.255.192   (from recorder R01)")
	assert.Contains(t, out, "keeps its address")
	c.must("commission", "--yes", "--quiet")
	c.must("prove", "--quiet")
}

// sealedSite has one camera, with a password of someone's.
const sealedSite = `
site: Sealed
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: camera, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, address: 10.61.8.50/23, gateway: 10.61.8.1, password: Forgotten-2019}
`

func TestTheBudgetHoldsAcrossRuns(t *testing.T) {
	t.Parallel()
	c := hire(t, sealedSite, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	c.must("survey", "--for", "2s")
	c.must("take", "10.61.8.50", "--yes")
	c.must("allot")
	code, out, _ := c.run("", "commission", "--yes")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "has a password that is not on the keyring")
	assert.Contains(t, out, "next: if you know its password: `janustat key set C01` (one of earlier work: `janustat key add`)")
	for run := range 3 {
		code, _, errs := c.run(fmt.Sprintf("Wrong-Guess-%d\n", run), "key", "set", "C01")
		assert.Equal(t, ExitNeeds, code)
		want := "does not accept this password"
		if run == 2 {
			want = "no tries left this hour"
		}
		assert.Contains(t, errs, want, "run %d", run+1)
	}
	code, _, _ = c.run("", "prove")
	assert.Equal(t, ExitNeeds, code)
	wrong := 0
	for _, e := range c.logs.Events() {
		if e.What == bench.EventWrongPassword {
			wrong++
		}
	}
	assert.Equal(t, 2, wrong, "never more than two tries an hour, over all runs")
}

// A device that the allotted address turns out to be taken for is left as it is.
func TestAnAddressTakenSinceTheSurveyIsNotGiven(t *testing.T) {
	t.Parallel()
	site := `
site: Taken
seed: 1
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: camera, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A}
others:
  - {id: newcomer, role: computer, mac: "02:9d:00:00:00:77", address: %s/23}
`
	c := hire(t, fmt.Sprintf(site, "10.61.8.99"), "--subnet", "10.61.8.0/23")
	c.must("survey", "--for", "2s")
	c.must("take", "all", "--yes")
	c.must("allot")
	// The same job on the same site, where the newcomer now sits on the allotted address.
	later := hire(t, fmt.Sprintf(site, "10.61.8.41"))
	later.dir = c.dir
	code, out, _ := later.run("", "commission", "--yes")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "10.61.8.41 is in use by 02:9d:00:00:00:77")
	for _, e := range later.logs.Events() {
		assert.NotEqual(t, "SetNetworkInterfaces", e.Op)
	}
}

func TestAPulledCableIsTold(t *testing.T) {
	t.Parallel()
	c := hire(t, mixed)
	// A bench that hangs up: the cable is pulled.
	path := filepath.Join(filepath.Dir(strings.TrimPrefix(c.wire, "bench:")), "p")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	defer l.Close()
	go func() {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		hello := `{"janustat_bench":1,"mac":"02:1a:70:00:00:01","addresses":["10.61.8.200/23"]}`
		_, _ = conn.Write(append([]byte{0, byte(len(hello))}, hello...))
		_, _ = conn.Read(make([]byte, 1))
		conn.Close()
	}()
	c.wire = "bench:" + path
	code, out, errs := c.run("", "survey")
	assert.Equal(t, ExitCould, code)
	assert.Empty(t, out)
	assert.Contains(t, errs, "plug the cable in")
}
