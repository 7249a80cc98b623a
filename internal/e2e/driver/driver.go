// Package driver runs the program for tests, as a process of its own, on a job and a wire.
package driver

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// Built is the program as it is delivered: static and stripped.
func Built(t testing.TB) string {
	path := filepath.Join(t.TempDir(), "janustat")
	c := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", path, "janustat/cmd/janustat")
	c.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	return path
}

// Worker is the built program at work on one job.
type Worker struct {
	T                  testing.TB
	Program, Job, Wire string
	Env                []string // beside its own
}

// Command is the program with arguments, on the worker's job and wire.
func (w Worker) Command(args ...string) *exec.Cmd {
	c := exec.Command(w.Program, append(args, "--job", w.Job, "--wire", w.Wire)...)
	c.Env = append(append(os.Environ(), "JANUSTAT_PASSPHRASE=ferry at quillmere"), w.Env...)
	return c
}

// Must runs a command that has to succeed, and gives its standard output.
func (w Worker) Must(args ...string) string {
	w.T.Helper()
	out, err := w.Command(append(args, "--quiet")...).Output()
	require.NoError(w.T, err, "%v\n%s", args, out)
	return string(out)
}

// Prepare carries a new job up to where it can be commissioned.
func (w Worker) Prepare() {
	w.T.Helper()
	w.Must("begin", w.Job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	w.Must("survey")
	w.Must("take", "all", "--yes")
	w.Must("allot")
}

// NeedRoot skips without root, and fails where the continuous build would
// otherwise pass by skipping.
func NeedRoot(t testing.TB) {
	if os.Geteuid() == 0 {
		return
	}
	if os.Getenv("CI") != "" {
		t.Fatal("the continuous build has to run this as root")
	}
	t.Skip("network namespaces need root")
}
