//go:build unix

// Package killed interrupts the program at every moment there is, and looks whether
// one more run makes everything right.
package killed

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/internal/cli"
	"janustat/internal/e2e/driver"
	"janustat/internal/job"
)

const twelve = `
site: Twelve
seed: 9
pace: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 4, restart: 1s}
  - {id: bullet, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B, count: 4, restart: 1s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: C, count: 2, restart: 1s, clock: 300h}
  - {id: cube, model: tallow-cube, mac: "02:7a:11:00:04:01", serial: D1, lose_move: true}
  - {id: factory, model: tallow-cube, mac: "02:7a:11:00:05:01", serial: E1, password: Factory-111}
`

// prepare carries a new job on that site up to where it can be commissioned, with
// every kind of write before it: a first password, a factory one to be replaced,
// further users, servers, name, address, gateway, restart.
func prepare(w driver.Worker) {
	w.Must("begin", w.Job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	sheet := filepath.Join(w.Job, job.SheetFile)
	text, err := os.ReadFile(sheet)
	require.NoError(w.T, err)
	more := "password: {style: each, factory: [{user: admin, password: Factory-111}]}\nusers: [{name: viewer, role: user, on: [C01, C05, C09]}]\n" +
		"names: {C01: Dock, C05: Stair, C09: Gate, C11: Quay}\n"
	written := strings.Replace(string(text), "network:\n", "network:\n  dns: [10.61.8.1]\n  ntp: [10.61.8.1]\n", 1) + more
	require.NoError(w.T, os.WriteFile(sheet, []byte(written), 0o600))
	w.Must("survey")
	w.Must("take", "all", "02:7a:11:00:05:01", "--yes")
	w.Must("allot")
}

// TestMain runs the program instead of the tests where it is called by its name.
func TestMain(m *testing.M) {
	if filepath.Base(os.Args[0]) == "janustat" {
		os.Exit(janustat())
	}
	os.Exit(driver.Run(m, 4))
}

// janustat is the program, with keyrings that cost little, and mortal if told so.
func janustat() int {
	at, err := strconv.ParseInt(os.Getenv(dieAt), 10, 64)
	if err != nil {
		return 99
	}
	app := cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv, KeyWork: driver.KeyWork, Pace: hurry}
	app.Journal = func(j commission.Journal) commission.Journal {
		return &mortal{Journal: j, left: at, job: os.Getenv(folderAt), disk: os.Getenv(diskAt)}
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return app.Run(ctx, os.Args[1:])
}

// dieAt is the environment variable that tells the program, where it is run by a
// test, at which boundary of a journaled step to kill itself; 0 is never.
const dieAt = "JANUSTAT_TEST_DIE_AT"

// diskAt names a file that holds what the disk has of the register of the job in folderAt, as far as
// its syncs go; where it is not set nothing is lost but what the process has not written.
const (
	diskAt   = "JANUSTAT_TEST_DISK"
	folderAt = "JANUSTAT_TEST_JOB"
)

// hurry is the pace of the sites that the program is killed on, and of itself.
const hurry = 4

// mortal is a journal that kills its own process (SIGKILL: nothing is cleaned up)
// at a boundary of a step: right after the intent is recorded, or right before the
// outcome would be.
type mortal struct {
	commission.Journal
	mu        sync.Mutex
	left      int64
	job, disk string
}

// synced keeps what the disk has once an intent is on it.
func (m *mortal) synced(ctx context.Context) error {
	if m.disk == "" {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	db, err := sql.Open("sqlite", filepath.Join(m.job, job.RegisterFile))
	if err != nil {
		return err
	}
	defer db.Close()
	next := m.disk + ".next"
	_ = os.Remove(next) // of a copy that was cut short
	if _, err := db.ExecContext(ctx, "VACUUM INTO ?", next); err != nil {
		return err
	}
	return os.Rename(next, m.disk)
}

func (m *mortal) boundary() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.left--; m.left == 0 {
		_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
		select {} // the signal is on its way
	}
}

func (m *mortal) Begin(ctx context.Context, p commission.Plan, w commission.Write) (int64, error) {
	id, err := m.Journal.Begin(ctx, p, w)
	if err == nil {
		err = m.synced(ctx)
	}
	m.boundary()
	return id, err
}

func (m *mortal) End(ctx context.Context, id int64, outcome, detail string) error {
	m.boundary()
	return m.Journal.End(ctx, id, outcome, detail)
}

// TestTheDeliveredProgramGoesOn kills the program as it is delivered, right after
// it has said that it begins a step, once for each kind of step.
func TestTheDeliveredProgramGoesOn(t *testing.T) {
	t.Parallel()
	k := newKiller(t, twelve)
	k.program = driver.Built(t)
	for _, step := range []string{"key ", "rekey", "clock", "name", "picture", "user", "dns", "ntp", "address", "restart", "gateway"} {
		k.try("at the step "+step, func(c *exec.Cmd) {
			if untilItSays(t, c, step) {
				_ = c.Process.Kill()
			}
			_ = c.Wait()
		})
	}
	k.wait.Wait()
}

// untilItSays starts a commission and reads on until it begins a step.
func untilItSays(t *testing.T, c *exec.Cmd, step string) bool {
	c.Args = slices.DeleteFunc(c.Args, func(a string) bool { return a == "--quiet" })
	told, err := c.StderrPipe()
	if !assert.NoError(t, err) || !assert.NoError(t, c.Start()) {
		return false
	}
	lines := bufio.NewScanner(told)
	for lines.Scan() {
		if strings.Contains(lines.Text(), "  "+step) {
			return true
		}
	}
	assert.Fail(t, "no step "+step)
	return false
}

// TestKilledAtEveryBoundary kills a commission of twelve devices with SIGKILL after
// every intent and before every outcome that its journal records.
func TestKilledAtEveryBoundary(t *testing.T) {
	t.Parallel()
	k := newKiller(t, twelve)
	most := 2 * k.writes()
	require.Greater(t, most, 100)
	first, step := 1, 1
	if os.Getenv("CI") != "" { // a third of them each day: intents and outcomes in turn
		first, step = 1+time.Now().YearDay()%3, 3
	}
	t.Logf("every boundary from %d on, by %d", first, step)
	for n := first; n <= most; n += step {
		k.try(fmt.Sprintf("boundary %d", n), atBoundary(n))
	}
	k.wait.Wait()
}

// TestThePowerGoesAtBoundaries switches the machine off: what was written of the register since the
// last intent is lost, and the next run finds out what was done.
func TestThePowerGoesAtBoundaries(t *testing.T) {
	t.Parallel()
	k := newKiller(t, twelve)
	most := 2 * k.writes()
	var lost atomic.Int64
	step := 4
	if os.Getenv("CI") != "" {
		step = 9
	}
	for n := 1 + time.Now().YearDay()%step; n <= most; n += step {
		k.try(fmt.Sprintf("the power goes at boundary %d", n), func(c *exec.Cmd) {
			folder := c.Args[slices.Index(c.Args, "--job")+1]
			disk := filepath.Join(filepath.Dir(folder), "disk.db")
			c.Env = append(c.Env, folderAt+"="+folder, diskAt+"="+disk)
			atBoundary(n)(c)
			register := filepath.Join(folder, job.RegisterFile)
			if _, err := os.Stat(disk); err != nil {
				return // before the first intent
			}
			for _, beside := range []string{"-wal", "-shm"} {
				_ = os.Remove(register + beside) // a register that was closed has none
			}
			if assert.NoError(t, os.Rename(disk, register)) {
				lost.Add(1)
			}
		})
	}
	k.wait.Wait()
	assert.Greater(t, lost.Load(), int64(most/step/2), "so often something was lost")
}

// TestKilledAtRandomMoments does so at moments drawn from a seed.
func TestKilledAtRandomMoments(t *testing.T) {
	t.Parallel()
	k := newKiller(t, twelve)
	draw := rand.New(rand.NewPCG(4, 2))
	for n := range 16 {
		d := time.Duration(draw.Int64N(int64(longest)))
		k.try(fmt.Sprintf("moment %d, after %s", n+1, d.Round(time.Millisecond)), after(d))
	}
	k.wait.Wait()
}

// TestInterruptedAtRandomMoments stops it by SIGINT and SIGTERM instead, which it hears.
func TestInterruptedAtRandomMoments(t *testing.T) {
	t.Parallel()
	k := newKiller(t, twelve)
	draw := rand.New(rand.NewPCG(8, 1))
	for n := range 16 {
		d := time.Duration(draw.Int64N(int64(longest)))
		with := []os.Signal{os.Interrupt, syscall.SIGTERM}[n%2]
		what := fmt.Sprintf("stopped %d, by %s after %s", n+1, with, d.Round(time.Millisecond))
		k.try(what, k.stopped(what, d, with))
	}
	k.wait.Wait()
}

// TestKilledWhileDevicesFail does so where devices lose answers and restart by
// themselves too.
func TestKilledWhileDevicesFail(t *testing.T) {
	t.Parallel()
	k := newKiller(t, twelve)
	// A try whose answer is lost counts, so such devices want more than two an hour.
	k.budget = 4
	sheet := filepath.Join(k.template, job.SheetFile)
	text, err := os.ReadFile(sheet)
	require.NoError(t, err)
	text = bytes.Replace(text, []byte("password: {style: each,"), []byte("password: {style: each, tries_per_hour: 4,"), 1)
	require.NoError(t, os.WriteFile(sheet, text, 0o600))
	draw := rand.New(rand.NewPCG(4, 3))
	for n := range 12 {
		k.site = strings.Replace(twelve, "seed: 9", fmt.Sprintf("seed: %d\nfaults: {lose_answer: 0.08, lose_read: 0.004, restart: 0.01}", n), 1)
		d := time.Duration(draw.Int64N(int64(longest)))
		k.try(fmt.Sprintf("failing devices %d, after %s", n+1, d.Round(time.Millisecond)), after(d))
	}
	k.wait.Wait()
}
