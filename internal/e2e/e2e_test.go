// Package e2e drives the built program: by scripts against a bench, and in
// network namespaces against a bench on a real wire and hosts on the kernel's
// own IP stack.
package e2e

import (
	"context"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"janustat/internal/cli"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){"janustat": func() { os.Exit(janustat()) }})
}

func janustat() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	app := cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv}
	return app.Run(ctx, os.Args[1:])
}

func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir:           "testdata/script",
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
		Setup: func(e *testscript.Env) error {
			// A socket's path is short, and a script's own folder is not.
			dir, err := os.MkdirTemp("", "j")
			if err != nil {
				return err
			}
			e.Defer(func() { os.RemoveAll(dir) })
			e.Setenv("SOCK", dir+"/b")
			e.Setenv("JANUSTAT_PASSPHRASE", "ferry at quillmere")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"listening": listening, "appears": appears},
	})
}

// listening waits until something accepts connections on a Unix socket.
func listening(ts *testscript.TestScript, neg bool, args []string) {
	await(ts, neg, args, func(path string) bool {
		c, err := net.Dial("unix", path)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

// appears waits until a file is there.
func appears(ts *testscript.TestScript, neg bool, args []string) {
	await(ts, neg, args, func(path string) bool {
		_, err := os.Stat(ts.MkAbs(path))
		return err == nil
	})
}

// await looks again and again, since neither event can be waited on.
func await(ts *testscript.TestScript, neg bool, args []string, there func(string) bool) {
	if neg || len(args) != 1 {
		ts.Fatalf("one path is wanted")
	}
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		if there(args[0]) {
			return
		}
	}
	ts.Fatalf("%s did not come", args[0])
}

// built is the program as it is delivered: static and stripped.
func built(t testing.TB) string {
	path := filepath.Join(t.TempDir(), "janustat")
	c := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", path, "janustat/cmd/janustat")
	c.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	return path
}

// worker is the built program at work on one job.
type worker struct {
	t                  testing.TB
	program, job, wire string
}

// command is the program with arguments, on the worker's job and wire.
func (w worker) command(args ...string) *exec.Cmd {
	c := exec.Command(w.program, append(args, "--job", w.job, "--wire", w.wire)...)
	c.Env = append(os.Environ(), "JANUSTAT_PASSPHRASE=ferry at quillmere")
	return c
}

// must runs a command that has to succeed, and gives its standard output.
func (w worker) must(args ...string) string {
	w.t.Helper()
	out, err := w.command(append(args, "--quiet")...).Output()
	require.NoError(w.t, err, "%v\n%s", args, out)
	return string(out)
}

// prepare carries a new job up to where it can be commissioned.
func (w worker) prepare() {
	w.t.Helper()
	w.must("begin", w.job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	w.must("survey")
	w.must("take", "all", "--yes")
	w.must("allot")
}
