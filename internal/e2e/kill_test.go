package e2e

import (
	"bufio"
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
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
	t.Parallel()
	socket, logs := benchtest.Start(t, twelve)
	w := worker{t, built(t), filepath.Join(t.TempDir(), "job"), "bench:" + socket}
	w.prepare()
	for _, step := range []string{"key ", "clock", "name", "address", "restart", "gateway"} {
		c := w.command("commission", "--yes")
		errs, err := c.StderrPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		lines := bufio.NewScanner(errs)
		for lines.Scan() && !strings.Contains(lines.Text(), "  "+step) {
		}
		require.NoError(t, c.Process.Kill())
		_ = c.Wait()
	}
	out := w.must("commission", "--yes", "--json")
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
	assert.Contains(t, w.must("prove"), "12 of 12 devices proved")
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
