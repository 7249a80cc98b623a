package cli

import (
	"context"
	"database/sql"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/job"
)

// A device that stalls, and the hand that has waited long enough: what was proved until
// then is recorded and shown, and the others are as they were.
func TestAnInterruptedProvingKeepsWhatItHas(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 3, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	c.must("prove", "--quiet")
	c.sql("UPDATE device SET proved_at=''")
	c.sql("DELETE FROM proof")
	c.bench.Device("dome-2").Stall(9 * time.Second)
	db, err := sql.Open("sqlite", filepath.Join(c.dir, job.RegisterFile))
	require.NoError(t, err)
	defer db.Close()
	ctx, stop := context.WithCancel(t.Context())
	go func() {
		defer stop()
		waitFor(t, "two proofs", func() bool {
			n := 0
			return db.QueryRowContext(t.Context(), "SELECT count(*) FROM proof").Scan(&n) == nil && n == 2
		})
	}()
	code, out, errs := c.runUntil(ctx, "", "prove", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "2 of 3 are proved again, and recorded")
	assert.Contains(t, out, "2 of 3 devices looked at")
	assert.NotContains(t, out, "handover")
	rows, err := db.QueryContext(t.Context(), "SELECT tag FROM device WHERE coalesce(proved_at, '')<>'' ORDER BY tag")
	require.NoError(t, err)
	defer rows.Close()
	var proved []string
	for rows.Next() {
		var tag string
		require.NoError(t, rows.Scan(&tag))
		proved = append(proved, tag)
	}
	require.NoError(t, rows.Err())
	assert.Equal(t, []string{"C01", "C03"}, proved)
}

// A device that answers discovery and is too busy to say what it is, is told as such, and asked
// again before the survey ends: it is no bystander.
func TestADeviceThatIsNotReadIsTold(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	busy := c.bench.Device("dome-2")
	busy.Stall(time.Minute)
	out := c.must("survey", "--quiet", "--for", "1s")
	assert.Contains(t, out, "02:e4:42:00:01:02 at 192.168.77.20 is a device by its answer to discovery")
	assert.Contains(t, c.must("list", "access=unread"), "02:e4:42:00:01:02")
	busy.Stall(0)
	out = c.must("survey", "--quiet", "--for", "1s")
	assert.Contains(t, out, "access unread → fresh")
	assert.NotContains(t, out, "by its answer to discovery")
}

// One that was taken though it was not read is asked again before it is commissioned.
func TestADeviceThatWasNotReadIsReadAgain(t *testing.T) {
	t.Parallel()
	c := hire(t, mumbling+`  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A, count: 2, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	busy := c.bench.Device("dome-2")
	busy.Stall(time.Minute)
	c.must("survey", "--quiet", "--for", "1s")
	assert.NotContains(t, c.must("take", "all", "--yes"), "02:e4:42:00:01:02")
	c.must("take", "02:e4:42:00:01:02", "--yes")
	c.must("allot")
	busy.Stall(0)
	code, out, errs := c.run("", "commission", "--yes")
	assert.Equal(t, ExitDone, code, out+errs)
	assert.Contains(t, errs, "C02 has not answered yet to the question what it is: asking again")
	listed := c.must("list")
	assert.Equal(t, 2, strings.Count(listed, "settled"), listed)
	assert.NotContains(t, listed, "unread")
}
