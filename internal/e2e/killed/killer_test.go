//go:build unix

package killed

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
)

// killer interrupts commissions of one site, many times, each from the start.
type killer struct {
	tries    atomic.Int64
	t        *testing.T
	site     string
	template string // a job that is ready to be commissioned
	program  string
	budget   int           // of tries of passwords, by the job sheet
	folder   func() string // for a job
	right    func(w driver.Worker, what string, logs *bench.Log, b *bench.Bench, prove bool)
	wait     sync.WaitGroup
}

// places bounds how many interrupted jobs are carried on beside each other, over all
// tests. They wait for restarts and address probes most of the time.
var places = make(chan struct{}, 36)

func newKiller(t *testing.T, site string) *killer {
	k := newKillerOf(t, site, prepare)
	k.right = assertRight
	return k
}

// newKillerOf does so for a job that is made ready in another way.
func newKillerOf(t *testing.T, site string, prepare func(driver.Worker)) *killer {
	k := &killer{t: t, budget: 2, site: site, template: filepath.Join(t.TempDir(), "template"), folder: t.TempDir}
	self, err := os.Executable()
	require.NoError(t, err)
	// Called by this name, the test is the program.
	k.program = filepath.Join(t.TempDir(), "janustat")
	require.NoError(t, os.Symlink(self, k.program))
	s, err := bench.Parse([]byte(site))
	require.NoError(t, err)
	socket, _, _, stop := benchtest.StartUntil(t, s)
	defer stop()
	w := driver.Worker{T: t, Program: k.program, Job: k.template, Wire: "bench:" + socket, Env: []string{dieAt + "=0"}}
	prepare(w)
	return k
}

// proveEvery is how many tries there are to one whose end the program itself proves too,
// beside what the devices tell of themselves.
const proveEvery = 6

// try brings the site up anew, has interrupt do its worst to a commission, and
// looks whether another one makes it right.
func (k *killer) try(what string, interrupt func(*exec.Cmd)) {
	k.tryOn(what, func(c *exec.Cmd, _ *bench.Log) { interrupt(c) })
}

// tryOn does so with an interruption that sees what happens on the site.
func (k *killer) tryOn(what string, interrupt func(*exec.Cmd, *bench.Log)) {
	places <- struct{}{}
	k.wait.Go(func() {
		defer func() { <-places }()
		s, err := bench.Parse([]byte(k.site))
		if !assert.NoError(k.t, err) {
			return
		}
		socket, logs, b, stop := benchtest.StartWithin(k.t, s, k.budget)
		defer stop()
		w := driver.Worker{T: k.t, Program: k.program, Job: filepath.Join(k.folder(), "job"), Wire: "bench:" + socket, Env: []string{dieAt + "=0"}}
		if !assert.NoError(k.t, os.CopyFS(w.Job, os.DirFS(k.template)), what) {
			return
		}
		c := w.Command("commission", "--yes", "--quiet")
		interrupt(c, logs)
		k.right(w, what, logs, b, k.tries.Add(1)%proveEvery == 0)
	})
}

// atBoundary lets the program kill itself at a boundary of its journal.
func atBoundary(n int) func(*exec.Cmd) {
	return func(c *exec.Cmd) {
		c.Env = append(c.Env, fmt.Sprintf("%s=%d", dieAt, n))
		_ = c.Run() // killed
	}
}

// atOperation kills the program as soon as a host has carried out so many of some operations.
func atOperation(host string, operations []string, n int) func(*exec.Cmd, *bench.Log) {
	return func(c *exec.Cmd, logs *bench.Log) {
		if c.Start() != nil {
			return
		}
		over := make(chan struct{})
		go func() {
			defer close(over)
			_ = c.Wait()
		}()
		for {
			done := 0
			for _, e := range logs.Events() {
				if e.Host == host && e.OK && slices.Contains(operations, e.Op) {
					done++
				}
			}
			if done >= n {
				_ = c.Process.Kill()
			}
			select {
			case <-over:
				return
			case <-time.After(2 * time.Millisecond):
			}
		}
	}
}

// after kills the program at a moment.
func after(d time.Duration) func(*exec.Cmd) {
	return func(c *exec.Cmd) {
		if c.Start() == nil {
			stop := time.AfterFunc(d, func() { _ = c.Process.Kill() })
			_ = c.Wait()
			stop.Stop()
		}
	}
}

// stopped interrupts the program at a moment, as ctrl-C or the end of the system does. It
// has to end within two seconds of that.
func (k *killer) stopped(what string, d time.Duration, with os.Signal) func(*exec.Cmd) {
	return func(c *exec.Cmd) {
		if c.Start() != nil {
			return
		}
		var told atomic.Int64
		stop := time.AfterFunc(d, func() {
			told.Store(time.Now().UnixNano())
			_ = c.Process.Signal(with)
		})
		defer stop.Stop()
		_ = c.Wait()
		if at := told.Load(); at != 0 {
			assert.Less(k.t, time.Since(time.Unix(0, at)), heedLimit, "%s: it goes on after it was stopped", what)
		}
	}
}

// heedLimit is how long an interrupted program may go on: two seconds, and what a machine
// that runs dozens of them at once adds.
const heedLimit = 2*time.Second + 4*time.Second

// longest is more than a commission of the twelve takes when left alone.
const longest = 14 * time.Second

// writes counts those of a commission that nothing interrupts.
func (k *killer) writes() int {
	s, err := bench.Parse([]byte(k.site))
	require.NoError(k.t, err)
	socket, _, _, stop := benchtest.StartUntil(k.t, s)
	defer stop()
	w := driver.Worker{T: k.t, Program: k.program, Job: filepath.Join(k.t.TempDir(), "job"), Wire: "bench:" + socket, Env: []string{dieAt + "=0"}}
	require.NoError(k.t, os.CopyFS(w.Job, os.DirFS(k.template)))
	var result struct{ Writes int }
	require.NoError(k.t, json.Unmarshal([]byte(w.Must("commission", "--yes", "--json")), &result))
	return result.Writes
}
