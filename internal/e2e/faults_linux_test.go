package e2e

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
)

const two = `
site: Two
seed: 9
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2}
`

// TestAFullDiskSendsNothing fills the disk that holds the job: what cannot be
// recorded is not done, and once there is room the same command goes on.
func TestAFullDiskSendsNothing(t *testing.T) {
	t.Parallel()
	needRoot(t)
	dir := t.TempDir()
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=2m"))
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	socket, logs := benchtest.Start(t, two)
	job := filepath.Join(dir, "job")
	w := worker{t, built(t), job, "bench:" + socket}
	w.prepare()
	before, err := os.ReadFile(filepath.Join(job, "register.db"))
	require.NoError(t, err)

	fill := filepath.Join(dir, "fill")
	f, err := os.Create(fill)
	require.NoError(t, err)
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	require.NoError(t, f.Close())

	for _, args := range [][]string{{"commission", "--yes"}, {"survey", "--for", "2s"}, {"handover"}} {
		out, err := w.command(args...).CombinedOutput()
		var exit *exec.ExitError
		require.True(t, errors.As(err, &exit), "%v succeeds on a full disk", args)
		assert.NotZero(t, exit.ExitCode())
		assert.Regexp(t, "no space left|disk is full|is the disk full", string(out), "%v", args)
	}
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrite, e.What, "sent though it could not be recorded: %+v", e)
	}
	after, err := os.ReadFile(filepath.Join(job, "register.db"))
	require.NoError(t, err)
	assert.Equal(t, before, after)

	require.NoError(t, os.Remove(fill))
	w.must("commission", "--yes")
	w.must("prove")
	w.must("handover")
}
