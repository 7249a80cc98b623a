// Package e2e drives the built program: by scripts against a bench, and in
// network namespaces against a bench on a real wire and hosts on the kernel's
// own IP stack.
package e2e

import (
	"context"
	"net"
	"os"
	"os/signal"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

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
