// Package e2e drives the built program: by scripts against a bench, and in
// network namespaces against a bench on a real wire and hosts on the kernel's
// own IP stack.
package e2e

import (
	"context"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench/benchtest"
	"janustat/internal/cli"
	"janustat/internal/e2e/driver"
)

// all are the tests of this package.
type all struct{ *testing.M }

// builds is a folder for what is built for several of them.
var builds string

func (a all) Run() (code int) {
	var err error
	if builds, err = os.MkdirTemp("", "janustat-builds"); err != nil {
		panic(err)
	}
	defer os.RemoveAll(builds)
	return driver.Run(a.M, 5)
}

func TestMain(m *testing.M) {
	testscript.Main(all{m}, map[string]func(){"janustat": func() { os.Exit(janustat()) }})
}

func janustat() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	app := cli.App{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv, KeyWork: driver.KeyWork}
	return app.Run(ctx, os.Args[1:])
}

func TestScripts(t *testing.T) {
	t.Parallel()
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
			e.Defer(func() { holdBenches(e.T().(testing.TB), e.WorkDir) })
			e.Setenv("SOCK", dir+"/b")
			e.Setenv("JANUSTAT_STATE", dir+"/state")
			e.Setenv("JANUSTAT_PASSPHRASE", "ferry at quillmere")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"listening": listening, "appears": appears},
	})
}

// holdBenches holds what a script did to the budget of tries. Its sites are in
// NAME.yaml, and what their hosts experienced is in NAME.log.
func holdBenches(t testing.TB, dir string) {
	logs, err := filepath.Glob(filepath.Join(dir, "*.log"))
	require.NoError(t, err)
	for _, log := range logs {
		benchtest.HoldFile(t, strings.TrimSuffix(log, ".log")+".yaml", log)
	}
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
