//go:build unix

package killed

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/e2e/driver"
	"janustat/internal/job"
)

// oddKeys are devices that keep another password than they were given, keep it late, or say
// nothing of it.
const oddKeys = `
site: Odd keys
seed: 5
pace: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: cut, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: B1, restart: 1s, manners: [cuts 8]}
  - {id: late, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: A1, restart: 1s, manners: [late users]}
  - {id: mute, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: C1, restart: 1s, manners: [swallows]}
  - {id: slow, model: tallow-cube, mac: "02:7a:11:00:04:01", serial: D1, restart: 1s, manners: [late passwords]}
`

func prepareOddKeys(w driver.Worker) {
	w.Must("begin", w.Job, "--subnet", "10.61.8.0/23")
	sheet := filepath.Join(w.Job, job.SheetFile)
	text, err := os.ReadFile(sheet)
	require.NoError(w.T, err)
	require.NoError(w.T, os.WriteFile(sheet, append(text, "password: {style: each, tries_per_hour: 4}\n"...), 0o600))
	w.Must("survey")
	w.Must("take", "all", "--yes")
	w.Must("allot")
}

// assertKept runs commissions until all is done, which takes no more than a few, and makes
// sure that the keyring opens every device, none of which ever had more than one password.
func assertKept(w driver.Worker, what string, _ *bench.Log, b *bench.Bench, _ bool) {
	t := w.T
	var out []byte
	var err error
	settle(b)
	for range 4 {
		if out, err = w.Command("commission", "--yes", "--quiet").CombinedOutput(); err == nil {
			break
		}
		anHourLater(w)
	}
	if !assert.NoError(t, err, "%s: %s", what, out) {
		return
	}
	for _, d := range b.Devices() {
		had := slices.Compact(d.Passwords()) // the same one twice is one
		if !assert.Len(t, had, 1, "%s: %s was given another before it was known what became of the first", what, d.MAC()) {
			continue
		}
		key, err := w.Command("key", "show", d.MAC().String()).Output()
		assert.NoError(t, err, what)
		assert.True(t, len(key) > 1 && strings.HasPrefix(had[0], strings.TrimSpace(string(key))), "%s: %s: the keyring has another", what, d.MAC())
	}
}

// anHourLater has the record of tries of the machine, and of the job, as good as new.
func anHourLater(w driver.Worker) {
	assert.NoError(w.T, os.RemoveAll(w.Job+"-state"))
	db, err := sql.Open("sqlite", filepath.Join(w.Job, job.RegisterFile))
	if assert.NoError(w.T, err) {
		_, err = db.ExecContext(w.T.Context(), "DELETE FROM try")
		assert.NoError(w.T, err)
		assert.NoError(w.T, db.Close())
	}
}

// settle waits until devices are opened by what they were given last: some take their time over
// that, and a person does not come back within the second.
func settle(b *bench.Bench) {
	for _, d := range b.Devices() {
		had := d.Passwords()
		for begun := time.Now(); len(had) > 0 && !d.OpenedBy(had[len(had)-1]) && time.Since(begun) < 5*time.Second; {
			time.Sleep(20 * time.Millisecond)
		}
	}
}

// TestKilledWhereKeysAreOdd kills it at every boundary of the keys, and at random.
func TestKilledWhereKeysAreOdd(t *testing.T) {
	t.Parallel()
	k := newKillerOf(t, oddKeys, prepareOddKeys)
	k.right, k.budget = assertKept, 1000 // over hours
	for n := 1; n <= 12; n++ {
		k.try(fmt.Sprintf("odd keys, boundary %d", n), atBoundary(n))
	}
	draw := rand.New(rand.NewPCG(11, 1))
	for n := range 8 {
		d := time.Duration(draw.Int64N(int64(8 * time.Second)))
		what := fmt.Sprintf("odd keys %d, after %s", n+1, d.Round(time.Millisecond))
		if n%2 == 0 {
			k.try(what, k.stopped(what, d, os.Interrupt))
		} else {
			k.try(what, after(d))
		}
	}
	k.wait.Wait()
}
