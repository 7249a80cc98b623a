package cli

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/job"
)

const mumbling = `
site: Mumbling
seed: 7
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
`

// A first password that was taken with no answer that says so is found out, whatever came
// back in place of that: it is never taken for a refusal, nor written over.
func TestAFirstPasswordWithoutAnAnswerIsFoundOut(t *testing.T) {
	t.Parallel()
	site := mumbling
	manners := []string{"swallows", "says ok", "says nothing", "says half", "says elsewhere"}
	for i, m := range manners {
		site += fmt.Sprintf("  - {id: d%d, model: verrine-bullet, mac: \"02:e4:41:00:02:%02x\", serial: B%d, restart: 1s, manners: [%s]}\n", i, i+1, i, m)
	}
	c := hire(t, site, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each}\n")
	c.prepare()
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "5 done, 0 need you")
	for i, m := range manners {
		// Written over it would be another than the first one.
		had := c.bench.Device(fmt.Sprintf("d%d", i)).Passwords()
		require.Len(t, had, 1, m)
		assert.Equal(t, had[0], strings.TrimSpace(c.must("key", "show", fmt.Sprintf("C%02d", i+1))), m)
	}
	assert.Contains(t, c.must("prove", "--quiet"), "5 of 5 devices proved")
	c.writesNothing()
}

// A device that keeps late what it has confirmed is waited for: neither is its password
// written over, nor is another key spent on it.
func TestAPasswordThatSettlesLateIsWaitedFor(t *testing.T) {
	t.Parallel()
	site := mumbling
	for i, m := range []string{"late passwords", "late users"} {
		site += fmt.Sprintf("  - {id: d%d, model: verrine-bullet, mac: \"02:e4:41:00:02:%02x\", serial: B%d, restart: 1s, manners: [%s]}\n", i, i+1, i, m)
		site += fmt.Sprintf("  - {id: f%d, model: tallow-cube, mac: \"02:7a:11:00:05:%02x\", serial: E%d, password: Factory-111, restart: 1s, manners: [%s]}\n", i, i+1, i, m)
	}
	c := hire(t, site, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each, factory: [{user: admin, password: Factory-111}]}\n")
	c.must("survey", "--quiet", "--for", "1s")
	c.must("take", "02:e4:41:00:02:01", "02:e4:41:00:02:02", "02:7a:11:00:05:01", "02:7a:11:00:05:02", "--yes")
	c.must("allot")
	code, out, errs := c.run("", "commission", "--yes", "--quiet")
	assert.Zero(t, code, "%s%s", out, errs)
	for _, id := range []string{"d0", "d1"} {
		assert.Len(t, c.bench.Device(id).Passwords(), 1, id)
	}
	c.run("", "prove", "--quiet")
	c.writesNothing()
}

// A device that closes each connection after an answer, whatever it said, has no password
// lost on it: no try is spent.
func TestAConnectionThatIsClosedCostsNoTry(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: token, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 3, restart: 1s, manners: [closes idle]}
  - {id: digest, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B, count: 3, restart: 1s, manners: [closes idle]}
`, "--subnet", "10.61.8.0/23")
	c.sheet("users: [{name: viewer, role: user}]\n")
	c.prepare()
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "6 done, 0 need you")
	assert.Contains(t, c.must("prove", "--quiet"), "6 of 6 devices proved: every check passed.")
	db, err := sql.Open("sqlite", filepath.Join(c.dir, job.RegisterFile))
	require.NoError(t, err)
	defer db.Close()
	n := 0
	require.NoError(t, db.QueryRowContext(t.Context(), "SELECT count(*) FROM try WHERE outcome<>'fitted'").Scan(&n))
	assert.Zero(t, n)
}

// Only where a device is and who may open it has to be told: what else it keeps to itself is
// said, and it is set up all the same.
func TestWhatIsNotToldStopsNobody(t *testing.T) {
	t.Parallel()
	site := mumbling
	manners := []string{"ntp closed", "no gateway", "empty answers", "no clock"}
	for i, m := range manners {
		site += fmt.Sprintf("  - {id: d%d, model: verrine-bullet, mac: \"02:e4:41:00:02:%02x\", serial: B%d, restart: 1s, manners: [%s]}\n", i, i+1, i, m)
		site += fmt.Sprintf("  - {id: e%d, model: verrine-dome, mac: \"02:e4:42:00:02:%02x\", serial: A%d, restart: 1s, manners: [%s]}\n", i, i+1, i, m)
	}
	c := hire(t, site+"others:\n  - {id: router, role: router, mac: \"02:5c:00:00:00:01\", address: 10.61.8.1/23}\n", "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	path := filepath.Join(c.dir, "jobsheet.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), "network:\n", "network:\n  dns: [10.61.8.1]\n  ntp: [10.61.8.1]\n", 1)), 0o600))
	c.must("survey", "--quiet", "--for", "1s")
	c.must("take", "kind=camera", "--yes")
	c.must("allot")
	code, out, errs := c.run("", "commission", "--yes", "--quiet")
	assert.Zero(t, code, "%s%s", out, errs)
	assert.Contains(t, out, "8 done, 0 need you")
	assert.Contains(t, out, "does not report its gateway")
	c.must("prove", "--quiet")
	for _, e := range c.logs.Events() {
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v", e)
	}
	c.writesNothing()
}

// A clock that is set by hand, since it is wrong and its own server is away, follows that
// server again afterwards, as it was found.
func TestAClockThatFollowedNTPFollowsItAgain(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: late, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B1, restart: 1s, clock: 300h}
`, "--subnet", "10.61.8.0/23")
	c.bench.Device("late").FollowNTP()
	c.prepare()
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "1 done, 0 need you")
	assert.True(t, c.bench.Device("late").FollowsNTP())
	assert.Contains(t, c.must("prove", "--quiet"), "1 of 1 devices proved")
	c.writesNothing()
}

// A device that leads to another path or port of its own is followed there, before anything
// of a password is sent; one that leads away is not.
func TestADeviceThatLeadsElsewhere(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: path, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B1, restart: 1s, manners: [leads to a path]}
  - {id: port, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A1, restart: 1s, manners: [leads to a port]}
  - {id: away, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: C1, restart: 1s, manners: [leads away]}
`, "--subnet", "10.61.8.0/23")
	out := c.must("survey", "--quiet", "--for", "1s")
	assert.Contains(t, out, "unread")
	c.must("take", "access=fresh", "--yes")
	c.must("allot")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "2 done, 0 need you")
	assert.Contains(t, c.must("prove", "--quiet"), "2 of 2 devices proved")
	assert.Empty(t, c.bench.Device("away").Passwords())
}

// A clock that cannot be set and is days ahead, as it was found, is no leap since it was set.
func TestAClockThatCannotBeSetIsNoLeap(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: ahead, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A1, restart: 1s, clock: 61h, manners: [no clock]}
`, "--subnet", "10.61.8.0/23")
	c.prepare()
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "1 done, 0 need you")
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "1 done, 0 need you")
	_, out, errs := c.run("", "prove", "--quiet")
	assert.NotContains(t, out+errs, "leapt ahead")
}

// A nonce that is used up costs no try, whether the device says so or not.
func TestANonceThatIsUsedUp(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: once, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B1, restart: 1s, manners: [nonce once]}
  - {id: stale, model: verrine-bullet, mac: "02:e4:41:00:02:02", serial: B2, restart: 1s, manners: [nonce stale]}
`, "--subnet", "10.61.8.0/23")
	c.sheet("users: [{name: viewer, role: user}]\n")
	c.prepare()
	assert.Contains(t, c.must("commission", "--yes", "--quiet"), "2 done, 0 need you")
	assert.Contains(t, c.must("prove", "--quiet"), "2 of 2 devices proved")
	for _, e := range c.logs.Events() {
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v", e)
	}
}

// Something that answers everything with something was given nothing that counts: the
// device itself, when it comes to that MAC, raises no alarm.
func TestWhatAnswersAnythingWasGivenNothing(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: liar, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A1, restart: 1s, manners: [says anything]}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:02", serial: A2, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each}\n")
	c.must("survey", "--quiet", "--for", "3s")
	c.run("", "take", "02:e4:42:00:01:01", "02:e4:42:00:01:02", "--yes")
	c.run("", "allot")
	code, out, _ := c.run("", "commission", "--yes", "--quiet")
	assert.NotEqual(t, ExitUsage, code)
	assert.NotContains(t, out, "2 done")
	var all []struct {
		MAC, Access, Alarm string
	}
	c.json(&all, "list", "--all")
	for _, d := range all {
		assert.NotEqual(t, d.MAC == "02:e4:42:00:01:01", d.Access == "keyed", d.MAC)
		assert.Empty(t, d.Alarm)
	}
}

// A device that keeps only the beginning of its password is never lost: within the budget
// of tries, over hours and killed runs, the keyring has what opens it.
func TestACutPasswordIsFoundOverHours(t *testing.T) {
	t.Parallel()
	c := hireForHours(t, mumbling+`  - {id: cut, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B, count: 3, restart: 1s, manners: [cuts 12]}
`, "--subnet", "10.61.8.0/23")
	c.sheet("password: {style: each}\n")
	c.prepare()
	code, out, errs := c.run("", "commission", "--yes", "--quiet")
	require.Equal(t, ExitNeeds, code, out+errs)
	assert.Contains(t, out+errs, "it may keep only the beginning of it; lengths not tried yet")
	assert.Contains(t, out+errs, "the first of its model, has taken one and is not opened by it")
	given := 0
	for i := 1; i <= 3; i++ {
		given += len(c.bench.Device(fmt.Sprintf("cut-%d", i)).Passwords())
	}
	assert.Equal(t, 1, given, "one of its model is tried, and no other is given a password before that is settled")
	// An hour later: the record of tries of this machine, and of the job, is as good as new.
	for hours := 1; ; hours++ {
		require.LessOrEqual(t, hours, 6, "%s", out)
		c.anHourLater()
		if code, out, errs = c.run("", "commission", "--yes", "--quiet"); code == ExitDone {
			break
		}
		require.Equal(t, ExitNeeds, code, out+errs)
	}
	for i := 1; i <= 3; i++ {
		had := c.bench.Device(fmt.Sprintf("cut-%d", i)).Passwords()
		require.Len(t, had, 1)
		assert.Equal(t, had[0][:12], strings.TrimSpace(c.must("key", "show", fmt.Sprintf("C%02d", i))))
	}
	for _, e := range c.logs.Events() {
		assert.NotEqual(t, bench.EventLocked, e.What)
	}
}

// hireForHours hires a crew for a test that plays hours, over which a device may be offered
// more than its budget of one.
func hireForHours(t *testing.T, site string, begin ...string) *crew {
	s, err := bench.Parse([]byte(site))
	require.NoError(t, err)
	hurried := benchtest.Hurry(s)
	socket, logs, b, stop := benchtest.StartForHours(t, s)
	t.Cleanup(stop)
	c := &crew{t: t, pace: hurried, dir: filepath.Join(t.TempDir(), "job"), wire: "bench:" + socket, logs: logs, bench: b, printed: &strings.Builder{}, ran: map[string]bool{}}
	t.Cleanup(c.assertNothingLeaked)
	c.must(append([]string{"begin", c.dir}, begin...)...)
	return c
}

// anHourLater takes away what was recorded of tries: all of it is from an hour ago.
func (c *crew) anHourLater() {
	c.t.Helper()
	require.NoError(c.t, os.RemoveAll(filepath.Join(filepath.Dir(c.dir), "state")))
	c.sql("DELETE FROM try")
}

// sql changes the job's register behind the program's back.
func (c *crew) sql(query string) {
	c.t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(c.dir, job.RegisterFile))
	require.NoError(c.t, err)
	defer db.Close()
	_, err = db.ExecContext(c.t.Context(), query)
	require.NoError(c.t, err)
}
