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
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"listening": listening},
	})
}

// listening waits until something accepts connections on a Unix socket.
func listening(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 1 {
		ts.Fatalf("usage: listening SOCKET")
	}
	deadline := time.Now().Add(20 * time.Second)
	for time.Now().Before(deadline) {
		if c, err := net.Dial("unix", args[0]); err == nil {
			c.Close()
			return
		}
		time.Sleep(20 * time.Millisecond) // polls for the event; there is none to wait on
	}
	ts.Fatalf("nothing listens on %s", args[0])
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
