// Package benchtest starts simulated sites for the tests of other packages.
package benchtest

import (
	"context"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

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
// whose devices a test can do what a person would.
func StartSite(t testing.TB, s *bench.Site) (socket string, logs *bench.Log, b *bench.Bench) {
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
	t.Cleanup(func() {
		cancel()
		serving.Wait()
		b.Stop()
		os.RemoveAll(dir)
	})
	return socket, logs, b
}
