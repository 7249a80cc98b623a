//go:build unix

package killed

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/e2e/driver"
	"janustat/internal/job"
)

// together is a site whose devices are to know each other.
const together = `
site: Together
seed: 9
pace: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: rec, model: brightmoor-recorder, mac: "02:b7:16:00:00:10", serial: LG1, restart: 1s}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 2, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS1, restart: 1s}
  - {id: hall, model: oakhollow-hall, mac: "02:0a:c0:00:05:11", serial: OHH1, restart: 1s}
  - {id: gate, model: tallow-gate, mac: "02:7a:11:00:06:01", serial: GH1, restart: 1s}
others:
  - {id: server, role: server, mac: "02:5c:00:00:00:06", address: 10.61.8.6/23, ports: [7700]}
`

func prepareTogether(w driver.Worker) {
	ready(w, "channels: auto\nintercoms: {D01: {I01: {floor: 1, flat: 101}}}\nreporting: {server: 10.61.8.6, port: 7700}\n")
}

// ready carries a new job, with more in its sheet, up to where it can be commissioned.
func ready(w driver.Worker, more string) {
	w.Must("begin", w.Job, "--subnet", "10.61.8.0/23", "--gateway", "10.61.8.1")
	sheet := filepath.Join(w.Job, job.SheetFile)
	text, err := os.ReadFile(sheet)
	require.NoError(w.T, err)
	require.NoError(w.T, os.WriteFile(sheet, append(text, more...), 0o600))
	w.Must("survey")
	w.Must("take", "all", "--yes")
	w.Must("allot")
}

// assertTogether runs one commission: whatever happened before, everything is joined up
// once, and no password was offered in vain.
func assertTogether(w driver.Worker, what string, logs *bench.Log, b *bench.Bench, prove bool) {
	t := w.T
	out, err := w.Command("commission", "--yes", "--quiet").CombinedOutput()
	assert.NoError(t, err, "%s: %s", what, out)
	uris, states := b.Device("rec").Watched()
	assert.Len(t, uris, 2, what)
	assert.Equal(t, []string{"Connected", "Connected"}, states, what)
	assert.Equal(t, 1, b.Device("door").Paired(), what)
	made := map[string]int{}
	for _, e := range logs.Events() {
		assert.NotEqual(t, bench.EventWrongPassword, e.What, "%s: %+v", what, e)
		if e.OK {
			made[e.Op]++
		}
	}
	assert.Equal(t, 2, made["CreateRecording"], "%s: no channel is made twice", what)
	assert.Equal(t, 2, made["CreateReceiver"], "%s: nor a receiver", what)
	if prove {
		out, err := w.Command("prove", "--quiet").CombinedOutput()
		assert.NoError(t, err, "%s: %s", what, out)
		assert.Contains(t, string(out), "6 of 6 devices proved", what)
	}
}

// TestJoiningKilledAtBoundaries kills the program at every third boundary of the journal of a
// commission that joins devices up.
func TestJoiningKilledAtBoundaries(t *testing.T) {
	t.Parallel()
	k := newKillerOf(t, together, prepareTogether)
	k.right = assertTogether
	most := 2 * k.writes()
	require.Greater(t, most, 40)
	for n := 1; n <= most; n += 3 { // intents and outcomes in turn
		k.try(fmt.Sprintf("joining, boundary %d", n), atBoundary(n))
	}
	k.wait.Wait()
}

// TestJoiningInterrupted stops it by ctrl-C and SIGKILL in turn at moments drawn from a seed.
func TestJoiningInterrupted(t *testing.T) {
	t.Parallel()
	k := newKillerOf(t, together, prepareTogether)
	k.right = assertTogether
	draw := rand.New(rand.NewPCG(10, 1))
	for n := range 8 {
		d := time.Duration(draw.Int64N(int64(7 * time.Second)))
		what := fmt.Sprintf("joining %d, stopped after %s", n+1, d.Round(time.Millisecond))
		if n%2 == 0 {
			k.try(what, k.stopped(what, d, syscall.SIGINT))
		} else {
			k.try(what, after(d))
		}
	}
	k.wait.Wait()
}
