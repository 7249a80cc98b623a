// Package benchtest starts simulated sites for the tests of other packages, and
// holds every client to the budget of password tries.
package benchtest

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/pace"
)

// budget is how many wrong passwords a device may be offered: no test takes an
// hour, and job sheets leave the default.
const budget = 2

// hurried is the pace of sites that lose no frames: where some are lost, how long is
// waited for others is what is tested.
const hurried pace.Pace = 4

// Hurry lets a site's hosts answer sooner, if it loses no frames, and gives the pace at
// which a client of it may go.
func Hurry(s *bench.Site) pace.Pace {
	if s.Loss == 0 && s.Pace == 0 {
		s.Pace = hurried
	}
	return s.Pace
}

// Start brings a site up that is described in YAML, until the test ends. It
// gives the path of the Unix socket to plug in at, and the hosts' log.
func Start(t testing.TB, site string) (socket string, logs *bench.Log) {
	t.Helper()
	s, err := bench.Parse([]byte(site))
	require.NoError(t, err)
	socket, logs, _ = StartSite(t, s)
	return socket, logs
}

// StartSite brings up a site that is there already. It gives the bench too, at
// whose devices a test can do what a person would. When the test ends, no device
// may have been offered more wrong passwords than the budget, nor have locked itself.
func StartSite(t testing.TB, s *bench.Site) (socket string, logs *bench.Log, b *bench.Bench) {
	t.Helper()
	socket, logs, b, stop := StartUntil(t, s)
	t.Cleanup(stop)
	return socket, logs, b
}

// StartUntil does what StartSite does, until stop is called, for tests that bring
// up more sites than may run at once.
func StartUntil(t testing.TB, s *bench.Site) (socket string, logs *bench.Log, b *bench.Bench, stop func()) {
	t.Helper()
	return StartWithin(t, s, budget)
}

// StartWithin does so for a job that may offer a device so many wrong passwords.
func StartWithin(t testing.TB, s *bench.Site, tries int) (socket string, logs *bench.Log, b *bench.Bench, stop func()) {
	t.Helper()
	socket, logs, b, end := StartForHours(t, s)
	return socket, logs, b, func() {
		end()
		hold(t, s, logs.Events(), tries)
	}
}

// StartForHours does so for a test that plays hours, over which a device may be offered
// more than its budget of one.
func StartForHours(t testing.TB, s *bench.Site) (socket string, logs *bench.Log, b *bench.Bench, stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	logs = bench.NewLog(nil)
	b, err := bench.Start(ctx, s, logs)
	require.NoError(t, err)
	// The path of a Unix socket is short, and t.TempDir() may be too long.
	dir, err := os.MkdirTemp("", "jb")
	require.NoError(t, err)
	socket = filepath.Join(dir, "b")
	l, err := net.Listen("unix", socket)
	require.NoError(t, err)
	var serving sync.WaitGroup
	serving.Go(func() { _ = b.Serve(ctx, l) }) // ends with ctx
	return socket, logs, b, func() {
		cancel()
		serving.Wait()
		b.Stop()
		os.RemoveAll(dir)
	}
}

// HoldFile does the same with the log file of a bench that ran by itself, on a
// site described in YAML, or a built-in one by its name.
func HoldFile(t testing.TB, site, log string) {
	t.Helper()
	s, err := bench.Load(site)
	require.NoError(t, err)
	f, err := os.Open(log)
	require.NoError(t, err)
	defer f.Close()
	var events []bench.Event
	for lines := json.NewDecoder(f); ; {
		var e bench.Event
		err := lines.Decode(&e)
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err, log)
		events = append(events, e)
	}
	hold(t, s, events, budget)
}

func hold(t testing.TB, s *bench.Site, events []bench.Event, tries int) {
	lockedBefore := map[string]bool{}
	for _, u := range s.Devices {
		lockedBefore[u.ID] = u.Locked || slices.Contains(u.Manners, "counts viewers") // by its recorder
	}
	wrong := map[string]int{}
	for _, e := range events {
		switch e.What {
		case bench.EventWrongPassword:
			wrong[e.Host]++
		case bench.EventLocked:
			assert.True(t, lockedBefore[e.Host], "%s has locked itself", e.Host)
			wrong[e.Host]++
		}
	}
	for host, n := range wrong {
		assert.LessOrEqual(t, n, tries, "%s was offered more wrong passwords than its budget", host)
	}
}
