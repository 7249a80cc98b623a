// Package benchtest starts simulated sites for the tests of other packages, and
// holds every client to the budget of password tries.
package benchtest

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

// budget is how many wrong passwords a device may be offered: no test takes an
// hour, and job sheets leave the default.
const budget = 2

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
		holdToBudget(t, s, logs)
	}
}

func holdToBudget(t testing.TB, s *bench.Site, logs *bench.Log) {
	lockedBefore := map[string]bool{}
	for _, u := range s.Devices {
		lockedBefore[u.ID] = u.Locked
	}
	wrong := map[string]int{}
	for _, e := range logs.Events() {
		switch e.What {
		case bench.EventWrongPassword:
			wrong[e.Host]++
		case bench.EventLocked:
			assert.True(t, lockedBefore[e.Host], "%s has locked itself", e.Host)
			wrong[e.Host]++
		}
	}
	for host, n := range wrong {
		assert.LessOrEqual(t, n, budget, "%s was offered more wrong passwords than its budget", host)
	}
}
