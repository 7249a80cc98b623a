package e2e

import (
	"bytes"
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

// TestAFolderThatCannotBeWritten is read like any other, with what its write-ahead log holds;
// what would change it says so.
func TestAFolderThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	dir := driver.SmallDisk(t, "8m")
	socket, _ := benchtest.Start(t, two)
	tmp := t.TempDir()
	w := driver.Worker{T: t, Program: driver.Built(t), Job: filepath.Join(dir, "job"), Wire: "bench:" + socket, Env: []string{"TMPDIR=" + tmp}}
	w.Prepare()
	listed := w.Must("list")
	require.NoError(t, syscall.Mount("", dir, "", syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
	assert.Equal(t, listed, w.Must("list"))
	assert.Contains(t, w.Must("show", "C01"), "10.61.8.41")
	for _, args := range [][]string{{"survey"}, {"note", "C01", "x"}, {"commission", "--yes"}} {
		out, err := w.Command(args...).CombinedOutput()
		require.Error(t, err, "%v", args)
		assert.Contains(t, string(out), "can be read only: copy it to where you can write", "%v", args)
	}
	left, err := os.ReadDir(tmp)
	require.NoError(t, err)
	assert.Empty(t, left, "no copy stays")
}

// TestAFullOutput is an error, for tables and help too: who reads half of a list takes it for all.
func TestAFullOutput(t *testing.T) {
	t.Parallel()
	socket, _ := benchtest.Start(t, two)
	w := driver.Worker{T: t, Program: driver.Built(t), Job: filepath.Join(t.TempDir(), "job"), Wire: "bench:" + socket}
	w.Prepare()
	for _, args := range [][]string{{"list"}, {"list", "--json"}, {}, {"--help"}, {"show", "C01"}, {"log", "C01"}} {
		full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
		require.NoError(t, err)
		c := w.Command(args...)
		var told bytes.Buffer
		c.Stdout, c.Stderr = full, &told
		err = c.Run()
		require.NoError(t, full.Close())
		require.Error(t, err, "%v", args)
		assert.Contains(t, told.String(), "no space left on device", "%v", args)
	}
}
