package sqlite

import (
	"database/sql"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/policy"
	"janustat/core/secret"
	"janustat/internal/store"
	"janustat/internal/store/conform"
)

// opened is a register of its own.
type opened struct {
	Register *Register
	path     string
}

func begin(t *testing.T) opened {
	dir := filepath.Join(t.TempDir(), "a job % with ? odd # name")
	require.NoError(t, os.Mkdir(dir, 0o700))
	path := filepath.Join(dir, "register.db")
	r, err := OpenRegister(t.Context(), path, "tester")
	require.NoError(t, err)
	t.Cleanup(func() { r.Close() })
	return opened{r, path}
}

func camera(n byte) device.Device {
	return device.Device{
		Tag: "C0" + string('0'+n), InJob: device.Taken, MAC: device.MAC{2, 0, 0, 0, 0, n}, Endpoint: "urn:uuid:x",
		Addresses: []netip.Addr{netip.MustParseAddr("192.168.77.20")}, Clashing: []device.MAC{{2, 9}}, Condition: device.Clash, Why: "because",
		Facts:     device.Facts{Kind: device.Camera, Make: "Verrine", Serial: "S", Access: device.Fresh, Rules: &secret.Rules{MinLen: 9}, Ports: []uint16{80}},
		FirstSeen: time.Date(2026, 1, 2, 3, 4, 5, 6, time.UTC), SeenAt: time.Date(2026, 1, 2, 3, 4, 6, 0, time.UTC),
		Allotted: &device.Settings{Address: netip.MustParseAddr("10.61.8.42"), Prefix: 23},
	}
}

func TestJournalAndAttempts(t *testing.T) {
	j := begin(t)
	list := []device.Device{camera(1)}
	require.NoError(t, j.Register.Record(t.Context(), "test", list))
	p := commission.Plan{ID: list[0].ID, MAC: list[0].MAC}
	id, err := j.Register.Begin(t.Context(), p, commission.Write{Step: commission.StepKey, Intent: "administrator admin", InClear: true})
	require.NoError(t, err)
	history, err := j.Register.History(t.Context(), p.ID)
	require.NoError(t, err)
	require.Len(t, history, 1)
	assert.Empty(t, history[0].Outcome, "cut short until it ends")
	require.NoError(t, j.Register.End(t.Context(), id, "unknown", "no reply"))
	require.Error(t, j.Register.End(t.Context(), id, "nonsense", ""))
	history, err = j.Register.History(t.Context(), p.ID)
	require.NoError(t, err)
	assert.Equal(t, "unknown", history[0].Outcome)
	assert.False(t, history[0].Ended.IsZero())

	maybe, err := j.Register.MaybeKeyed(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[int64]bool{p.ID: true}, maybe, "an unknown outcome may have been carried out")
	require.NoError(t, j.Register.End(t.Context(), id, "refused", ""))
	maybe, err = j.Register.MaybeKeyed(t.Context())
	require.NoError(t, err)
	assert.Empty(t, maybe)

	found := commission.Found{Settings: device.Settings{Address: netip.MustParseAddr("192.168.77.20"), Prefix: 24}}
	require.NoError(t, j.Register.Found(t.Context(), p, found))
	require.NoError(t, j.Register.Found(t.Context(), p, commission.Found{}), "the first reading stands")
	got, err := j.Register.Devices(t.Context())
	require.NoError(t, err)
	assert.Equal(t, &found.Settings, got[0].AsFound)
}

// A register of every earlier version keeps what it holds.
func TestMigrationsKeepWhatIsThere(t *testing.T) {
	for version := int64(1); version <= 4; version++ {
		path := filepath.Join(t.TempDir(), "register.db")
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		files, err := fs.Sub(migrations, "migrations")
		require.NoError(t, err)
		p, err := goose.NewProvider(goose.DialectSQLite3, db, files)
		require.NoError(t, err)
		_, err = p.UpTo(t.Context(), version)
		require.NoError(t, err)
		for _, q := range []string{
			"INSERT INTO device (id, tag, mac, first_seen, seen_at) VALUES (7, 'C01', '02:00:00:00:00:01', '2026-11-23T09:00:00Z', '2026-11-23T09:00:00Z')",
			"INSERT INTO journal (device_id, step, intent, begun_at, outcome) VALUES (7, 'key', 'administrator admin', '2026-11-23T09:00:00Z', 'done')",
			"INSERT INTO attempt (device_id, at) VALUES (7, '2026-11-23T09:00:00Z')",
		} {
			_, err = db.ExecContext(t.Context(), q)
			require.NoError(t, err, "version %d", version)
		}
		require.NoError(t, db.Close())
		r, err := OpenRegister(t.Context(), path, "tester")
		require.NoError(t, err, "version %d", version)
		devices, err := r.Devices(t.Context())
		require.NoError(t, err)
		require.Len(t, devices, 1)
		assert.Equal(t, "C01", devices[0].Tag)
		history, err := r.History(t.Context(), 7)
		require.NoError(t, err)
		require.Len(t, history, 1)
		assert.Equal(t, "done", history[0].Outcome)
		assert.False(t, history[0].InClear, "what was not recorded is not claimed")
		require.NoError(t, r.Close())
	}
}

func TestANewerRegisterIsRefused(t *testing.T) {
	j := begin(t)
	_, err := j.Register.db.ExecContext(t.Context(), "INSERT INTO schema_version (is_applied, version_id) VALUES (1, 99)")
	require.NoError(t, err)
	require.NoError(t, j.Register.Close())
	_, err = OpenRegister(t.Context(), j.path, "tester")
	require.ErrorIs(t, err, store.ErrNewer)
	assert.ErrorContains(t, err, "use that version for it")
}

// A register of an earlier version, whose table of versions had another name, is taken over.
func TestARegisterOfAnEarlierVersionIsTakenOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "register.db")
	r, err := OpenRegister(t.Context(), path, "tester")
	require.NoError(t, err)
	_, err = r.db.ExecContext(t.Context(), "ALTER TABLE schema_version RENAME TO goose_db_version")
	require.NoError(t, err)
	require.NoError(t, r.Close())
	for range 2 {
		r, err = OpenRegister(t.Context(), path, "tester")
		require.NoError(t, err)
		var tables int
		require.NoError(t, r.db.QueryRowContext(t.Context(), "SELECT count(*) FROM sqlite_schema WHERE name IN ('schema_version', 'goose_db_version')").Scan(&tables))
		assert.Equal(t, 1, tables)
		require.NoError(t, r.Close())
	}
}

func TestTheRegisterIsAStore(t *testing.T) {
	conform.Run(t, func(t *testing.T) store.Store { return begin(t).Register })
}

// Steps that an earlier version has journaled, in words, count as they did.
func TestAJournalInWordsIsTakenOver(t *testing.T) {
	j := begin(t)
	list := []device.Device{camera(1)}
	require.NoError(t, j.Register.Record(t.Context(), "test", list))
	for step, words := range map[commission.Step]string{commission.StepUser: "night guard as viewer as user", commission.StepAddress: "10.61.8.41/23, DHCP off", "zone": "GMT0BST"} {
		_, err := j.Register.db.ExecContext(t.Context(), "INSERT INTO journal (device_id, step, intent, begun_at, outcome, detail) VALUES (?,?,?,?,'done',?)", list[0].ID, step, words, stamp(time.Now()), commission.AtRestart)
		require.NoError(t, err)
	}
	got, err := j.Register.Progress(t.Context())
	require.NoError(t, err)
	assert.Equal(t, policy.Progress{
		Moved: true, Pending: commission.Place{Address: netip.MustParseAddr("10.61.8.41"), Prefix: 23},
		Users:    map[commission.Account]bool{{Name: "night guard as viewer", Level: commission.Viewer}: true},
		Answered: map[commission.Step]string{"zone": `"GMT0BST"`},
	}, got[list[0].ID])
	told, err := j.Register.History(t.Context(), list[0].ID)
	require.NoError(t, err)
	require.Len(t, told, 3)
	for _, e := range told {
		assert.NotContains(t, e.Intent, "{")
	}
}

// An address that was asked for, which earlier versions told by the reason's words, stays so.
func TestAnAddressThatWasAskedForIsTakenOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "register.db")
	r, err := OpenRegister(t.Context(), path, "tester")
	require.NoError(t, err)
	list := []device.Device{camera(1), camera(2)}
	list[0].Why, list[1].Why = "as asked for; next free in block camera", "next free in block camera"
	require.NoError(t, r.Record(t.Context(), "test", list))
	for _, as := range []string{"ALTER TABLE device DROP COLUMN asked", "DROP TABLE event", "DROP INDEX device_called", "DROP INDEX device_before_events", "ALTER TABLE device DROP COLUMN name", "ALTER TABLE device DROP COLUMN version", "DELETE FROM schema_version WHERE version_id >= 12"} {
		_, err = r.db.ExecContext(t.Context(), as)
		require.NoError(t, err)
	}
	require.NoError(t, r.Close())
	r, err = OpenRegister(t.Context(), path, "tester")
	require.NoError(t, err)
	defer r.Close()
	got, err := r.Devices(t.Context())
	require.NoError(t, err)
	require.Len(t, got, 2)
	for _, d := range got {
		assert.Equal(t, strings.HasPrefix(d.Why, "as asked for"), d.Asked, d.Why)
	}
	// And as it is written now.
	require.NoError(t, r.Happened(t.Context(), "test", got[1].ID, device.Allotment{At: time.Now(), Settings: device.Settings{Address: netip.MustParseAddr("10.61.8.50"), Prefix: 23}, Why: "in other words", Asked: true}))
	got, err = r.Devices(t.Context())
	require.NoError(t, err)
	assert.True(t, got[1].Asked)
}
