package e2e

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
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
	dir := driver.SmallDisk(t, "2m")
	socket, logs := benchtest.Start(t, two)
	job := filepath.Join(dir, "job")
	w := driver.Worker{T: t, Program: driver.Built(t), Job: job, Wire: "bench:" + socket}
	w.Prepare()
	before, err := os.ReadFile(filepath.Join(job, "register.db"))
	require.NoError(t, err)

	fill := driver.FillDisk(t, dir)

	for _, args := range [][]string{{"commission", "--yes"}, {"survey", "--for", "2s"}, {"handover"}} {
		out, err := w.Command(args...).CombinedOutput()
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
	w.Must("commission", "--yes")
	w.Must("prove")
	w.Must("handover")
}
