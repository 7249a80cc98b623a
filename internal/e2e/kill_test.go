package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

const twelve = `
site: Twelve
seed: 9
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 4, restart: 1s}
  - {id: bullet, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B, count: 4, restart: 1s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: C, count: 2, restart: 1s}
  - {id: cube, model: tallow-cube, mac: "02:7a:11:00:04:01", serial: D, count: 2, lose_move: true}
`

// TestAKilledRunGoesOn kills the program with SIGKILL right after it has said
// that it begins a step, once for each kind of step, and then runs it again.
func TestAKilledRunGoesOn(t *testing.T) {
	program := built(t)
	tmp, err := os.MkdirTemp("", "jk")
	require.NoError(t, err)
	defer os.RemoveAll(tmp)
	site, err := bench.Parse([]byte(twelve))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	logs := bench.NewLog(nil)
	b, err := bench.Start(ctx, site, logs)
	require.NoError(t, err)
	defer b.Stop()
	defer cancel()
	l, err := net.Listen("unix", filepath.Join(tmp, "b"))
	require.NoError(t, err)
	go func() { _ = b.Serve(ctx, l) }()

	job := filepath.Join(tmp, "job")
	command := func(args ...string) *exec.Cmd {
		c := exec.Command(program, append(args, "--job", job, "--wire", "bench:"+filepath.Join(tmp, "b"))...)
		c.Env = append(os.Environ(), "JANUSTAT_PASSPHRASE=ferry at quillmere")
		return c
	}
	must := func(args ...string) string {
		t.Helper()
		out, err := command(args...).Output()
		require.NoError(t, err, "%v\n%s", args, out)
		return string(out)
	}
	must("begin", job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	must("survey", "--quiet")
	must("take", "all", "--yes")
	must("allot")
	for _, step := range []string{"key ", "clock", "name", "address", "restart", "gateway"} {
		c := command("commission", "--yes")
		errs, err := c.StderrPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		lines := bufio.NewScanner(errs)
		for lines.Scan() && !strings.Contains(lines.Text(), "  "+step) {
		}
		require.NoError(t, c.Process.Kill())
		_ = c.Wait()
	}
	out := must("commission", "--yes", "--quiet", "--json")
	var result struct {
		Results []struct{ Tag, Address, Status, Reason string }
	}
	require.NoError(t, json.Unmarshal([]byte(out), &result))
	require.Len(t, result.Results, 12)
	seen := map[string]bool{}
	for _, r := range result.Results {
		assert.Equal(t, "done", r.Status, "%s: %s", r.Tag, r.Reason)
		assert.False(t, seen[r.Address], "%s is doubled", r.Address)
		seen[r.Address] = true
	}
	assert.Contains(t, must("prove", "--quiet"), "12 of 12 devices proved")
	created := map[string]int{}
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%+v", e)
		if e.Op == "CreateUsers" && e.OK {
			created[e.Host]++
		}
	}
	assert.Len(t, created, 12)
	for host, n := range created {
		assert.Equal(t, 1, n, "%s was given its first password again", host)
	}
}
