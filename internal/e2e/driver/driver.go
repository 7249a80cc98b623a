// Package driver runs the program for tests, as a process of its own, on a job and a wire.
package driver

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// KeyWork is the scrypt work factor of the keyrings of tests: their hundreds of commands would
// take the usual work twice each.
const KeyWork = 10

// build builds the program once for all tests of a package.
var build = sync.OnceValues(func() (dir string, err error) {
	if dir, err = os.MkdirTemp("", "janustat-built"); err != nil {
		return "", err
	}
	c := exec.Command("go", "build", "-trimpath", "-ldflags", fmt.Sprint("-s -w -X main.keyWork=", KeyWork), "-o", filepath.Join(dir, "janustat"), "janustat/cmd/janustat")
	c.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := c.CombinedOutput(); err != nil {
		return dir, fmt.Errorf("%w\n%s", err, out)
	}
	built = dir
	return dir, nil
})

var built string // where the program was built, if it was

// Built is the program as it is delivered: static and stripped.
func Built(t testing.TB) string {
	dir, err := build()
	require.NoError(t, err)
	return filepath.Join(dir, "janustat")
}

// garbage is how much may lie about until it is collected, in percent of what is in use.
const garbage = 400

// Run runs the tests of a package, so many beside each other: they wait for restarts
// and address probes most of the time. The program built for them goes when they end. They and
// the programs they run collect garbage less often than a person's, whose laptop does other
// things beside it: on two processors that is what they would do most of the time.
func Run(m *testing.M, atOnce int) int {
	if os.Getenv("GOGC") == "" {
		os.Setenv("GOGC", strconv.Itoa(garbage))
		debug.SetGCPercent(garbage)
	}
	_ = flag.Set("test.parallel", strconv.Itoa(atOnce)) // known to the package testing
	defer func() {
		if built != "" {
			os.RemoveAll(built)
		}
	}()
	return m.Run()
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
	// Each job has a machine of its own, as far as tries of passwords go: the MACs of test
	// sites are the same everywhere.
	c.Env = append(append(os.Environ(), "JANUSTAT_PASSPHRASE=ferry at quillmere", "JANUSTAT_STATE="+w.Job+"-state"), w.Env...)
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
