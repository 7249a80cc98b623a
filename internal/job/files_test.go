package job

import (
	"bytes"
	"context"
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/secret"
)

func TestLockNamesItsHolder(t *testing.T) {
	j := begin(t)
	lock, err := j.Lock("survey")
	require.NoError(t, err)
	_, err = j.Lock("commission")
	require.ErrorIs(t, err, ErrLocked)
	assert.ErrorContains(t, err, "`janustat survey` (process")
	lock.Unlock()
	lock, err = j.Lock("commission")
	require.NoError(t, err)
	lock.Unlock()
}

func TestOpenTellsWhatIsMissing(t *testing.T) {
	_, err := Open(t.Context(), t.TempDir())
	require.ErrorIs(t, err, ErrNoJob)
	j := begin(t)
	require.Error(t, Begin(t.Context(), j.Dir, NewSheet("y", "", "", time.Now())), "a job is not begun twice")
	require.NoError(t, j.Close())
	require.NoError(t, os.WriteFile(j.Path(RegisterFile), []byte(strings.Repeat("no register ", 500)), 0o600))
	_, err = Open(t.Context(), j.Dir)
	require.ErrorContains(t, err, "is it no register?")
}

// A job that lost its register is told from one that never was; begin gives it another
// and keeps its sheet.
func TestAJobWithoutItsRegister(t *testing.T) {
	j := begin(t)
	require.NoError(t, j.Close())
	require.NoError(t, os.Remove(j.Path(RegisterFile)))
	_, err := Open(t.Context(), j.Dir)
	require.ErrorIs(t, err, ErrNoJob)
	assert.ErrorContains(t, err, "a job sheet and no register.db")
	_, err = os.Stat(j.Path(RegisterFile))
	assert.ErrorIs(t, err, os.ErrNotExist, "none is made in passing")
	before, err := os.ReadFile(j.Path(SheetFile))
	require.NoError(t, err)
	require.ErrorIs(t, Begin(t.Context(), j.Dir, NewSheet("another", "", "", time.Now())), ErrSheetKept)
	after, err := os.ReadFile(j.Path(SheetFile))
	require.NoError(t, err)
	assert.Equal(t, before, after)
	again, err := Open(t.Context(), j.Dir)
	require.NoError(t, err)
	require.NoError(t, again.Close())
}

// Nothing of a job is written through a link, and its register is for its owner alone.
func TestNoLinkIsFollowed(t *testing.T) {
	j := begin(t)
	info, err := os.Stat(j.Path(RegisterFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, j.Close())
	require.NoError(t, os.Chmod(j.Path(RegisterFile), 0o644))
	again, err := Open(t.Context(), j.Dir)
	require.NoError(t, err)
	info, err = os.Stat(j.Path(RegisterFile))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "an older one is closed to others")
	for _, name := range []string{KeyringFile, lockFile, holderFile, "handover.csv"} {
		target := filepath.Join(t.TempDir(), "target")
		require.NoError(t, os.WriteFile(target, []byte("mine"), 0o600))
		_ = os.Remove(j.Path(name))
		require.NoError(t, os.Symlink(target, j.Path(name)))
		switch name {
		case lockFile, holderFile:
			_, err = again.Lock("test")
		default:
			err = WriteFile(j.Path(name), []byte("theirs"), 0o600)
		}
		assert.ErrorIs(t, err, ErrLink, name)
		text, rerr := os.ReadFile(target)
		require.NoError(t, rerr)
		assert.Equal(t, "mine", string(text), name)
		require.NoError(t, os.Remove(j.Path(name)))
	}
	require.NoError(t, again.Close())
	require.NoError(t, os.Rename(j.Path(RegisterFile), j.Path("elsewhere")))
	require.NoError(t, os.Symlink(j.Path("elsewhere"), j.Path(RegisterFile)))
	_, err = Open(t.Context(), j.Dir)
	assert.ErrorIs(t, err, ErrLink)
	require.NoError(t, os.Symlink(t.TempDir(), j.Path(HandoverDir)))
	assert.ErrorIs(t, OwnDir(j.Path(HandoverDir)), ErrLink)
}

func TestANewerRegisterIsRefused(t *testing.T) {
	j := begin(t)
	_, err := j.Register.db.ExecContext(t.Context(), "INSERT INTO schema_version (is_applied, version_id) VALUES (1, 99)")
	require.NoError(t, err)
	require.NoError(t, j.Close())
	_, err = Open(t.Context(), j.Dir)
	require.ErrorIs(t, err, ErrNewer)
	assert.ErrorContains(t, err, "use that version for it")
}

func TestGroundIsKept(t *testing.T) {
	j := begin(t)
	k, err := j.Register.KeptGround(t.Context())
	require.NoError(t, err)
	assert.False(t, k.Subnet.IsValid())
	g := ground.Ground{
		Subnet: netip.MustParsePrefix("10.61.8.0/23"), SubnetFrom: "recorder R01", NTP: []netip.Addr{netip.MustParseAddr("10.61.8.4")}, NTPFrom: "x",
		Ranks: ground.Ranks{Subnet: ground.FromRecorder, NTP: ground.FromLAN},
	}
	for range 2 {
		require.NoError(t, j.Register.KeepGround(t.Context(), g))
		k, err = j.Register.KeptGround(t.Context())
		require.NoError(t, err)
		assert.Equal(t, g, k.Ground)
	}
}

func quickKeyring(path, passphrase string) *Keyring {
	k := NewKeyring(path, passphrase)
	k.work = 4 // weak, for tests
	return k
}

func TestKeyring(t *testing.T) {
	path := filepath.Join(t.TempDir(), KeyringFile)
	_, err := OpenKeyring(path, "x")
	require.ErrorIs(t, err, ErrNoKeyring)
	k := quickKeyring(path, "ferry at quillmere")
	mac := device.MAC{2, 0, 0, 0, 0, 1}
	k.SetSite(secret.New("Harbour-Light-42"))
	assert.True(t, k.Set(mac, "admin", secret.New("Quay-side7")))
	assert.False(t, k.Set(mac, "admin", secret.New("Quay-side7")))
	require.NoError(t, k.Save())

	onDisk, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.NotContains(t, string(onDisk), "Harbour")
	assert.NotContains(t, string(onDisk), mac.String())
	info, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	got, err := OpenKeyring(path, "ferry at quillmere")
	require.NoError(t, err)
	assert.Equal(t, "Harbour-Light-42", got.Site().Reveal())
	user, p, ok := got.For(mac)
	assert.True(t, ok)
	assert.Equal(t, []string{"admin", "Quay-side7"}, []string{user, p.Reveal()})

	_, err = OpenKeyring(path, "wrong")
	require.ErrorIs(t, err, ErrPassphrase)
	_, err = OpenKeyring(path, "")
	require.ErrorIs(t, err, ErrPassphrase)
	for name, damage := range map[string][]byte{
		"cut off": onDisk[:len(onDisk)-9], "changed": append(bytes.Clone(onDisk[:len(onDisk)-1]), onDisk[len(onDisk)-1]^1), "empty": nil, "other": []byte("hello"),
	} {
		require.NoError(t, os.WriteFile(path, damage, 0o600))
		_, err = OpenKeyring(path, "ferry at quillmere")
		require.ErrorIs(t, err, ErrKeyring, name)
		assert.NotContains(t, err.Error(), "Harbour")
	}
}

func TestWriteFileLeavesTheOldOneOnFailure(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "f")
	require.NoError(t, WriteFile(path, []byte("old"), 0o644))
	require.Error(t, WriteFile(filepath.Join(dir, "none", "f"), []byte("x"), 0o644))
	blocked := filepath.Join(dir, "blocked")
	require.NoError(t, os.MkdirAll(filepath.Join(blocked, "full"), 0o755))
	require.Error(t, WriteFile(blocked, []byte("x"), 0o644), "a folder stands there")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "no half file is left behind")
}

func TestBeginEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	dir := filepath.Join(t.TempDir(), "j")
	err := Begin(ctx, dir, NewSheet("x", "", "", time.Now()))
	require.Error(t, err)
	_, err = os.Stat(filepath.Join(dir, SheetFile))
	require.True(t, errors.Is(err, os.ErrNotExist), "no sheet without a register")
}

// A register of an earlier version, whose table of versions had another name, is taken over.
func TestARegisterOfAnEarlierVersionIsTakenOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), RegisterFile)
	r, err := OpenRegister(t.Context(), path)
	require.NoError(t, err)
	_, err = r.db.ExecContext(t.Context(), "ALTER TABLE schema_version RENAME TO goose_db_version")
	require.NoError(t, err)
	require.NoError(t, r.Close())
	for range 2 {
		r, err = OpenRegister(t.Context(), path)
		require.NoError(t, err)
		var tables int
		require.NoError(t, r.db.QueryRowContext(t.Context(), "SELECT count(*) FROM sqlite_schema WHERE name IN ('schema_version', 'goose_db_version')").Scan(&tables))
		assert.Equal(t, 1, tables)
		require.NoError(t, r.Close())
	}
}
