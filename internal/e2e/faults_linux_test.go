package e2e

import (
	"context"
	"errors"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
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
	needRoot(t)
	program := built(t)
	dir := t.TempDir()
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=2m"))
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	sockets, err := os.MkdirTemp("", "jf")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(sockets) })
	site, err := bench.Parse([]byte(two))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	logs := bench.NewLog(nil)
	b, err := bench.Start(ctx, site, logs)
	require.NoError(t, err)
	defer b.Stop()
	defer cancel()
	l, err := net.Listen("unix", filepath.Join(sockets, "b"))
	require.NoError(t, err)
	go func() { _ = b.Serve(ctx, l) }()

	job := filepath.Join(dir, "job")
	run := func(args ...string) (string, error) {
		c := exec.Command(program, append(args, "--job", job, "--wire", "bench:"+filepath.Join(sockets, "b"), "--quiet")...)
		c.Env = append(os.Environ(), "JANUSTAT_PASSPHRASE=ferry at quillmere")
		out, err := c.CombinedOutput()
		return string(out), err
	}
	must := func(args ...string) {
		t.Helper()
		out, err := run(args...)
		require.NoError(t, err, "%v\n%s", args, out)
	}
	must("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	must("survey", "--for", "2s")
	must("take", "all", "--yes")
	must("allot")
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
		out, err := run(args...)
		var exit *exec.ExitError
		require.True(t, errors.As(err, &exit), "%v succeeds on a full disk", args)
		assert.NotZero(t, exit.ExitCode())
		assert.Regexp(t, "no space left|disk is full|is the disk full", out, "%v", args)
	}
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrite, e.What, "sent though it could not be recorded: %+v", e)
	}
	after, err := os.ReadFile(filepath.Join(job, "register.db"))
	require.NoError(t, err)
	assert.Equal(t, before, after)

	require.NoError(t, os.Remove(fill))
	must("commission", "--yes")
	must("prove")
	must("handover")
}
