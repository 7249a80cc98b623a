package job

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/disk"
	"janustat/internal/sheetfile"
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
	require.Error(t, Begin(t.Context(), j.Dir, sheetfile.New("y", "", "", time.Now())), "a job is not begun twice")
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
	require.ErrorIs(t, Begin(t.Context(), j.Dir, sheetfile.New("another", "", "", time.Now())), ErrSheetKept)
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
			err = disk.WriteFile(j.Path(name), []byte("theirs"), 0o600)
		}
		assert.ErrorIs(t, err, disk.ErrLink, name)
		text, rerr := os.ReadFile(target)
		require.NoError(t, rerr)
		assert.Equal(t, "mine", string(text), name)
		require.NoError(t, os.Remove(j.Path(name)))
	}
	require.NoError(t, again.Close())
	require.NoError(t, os.Rename(j.Path(RegisterFile), j.Path("elsewhere")))
	require.NoError(t, os.Symlink(j.Path("elsewhere"), j.Path(RegisterFile)))
	_, err = Open(t.Context(), j.Dir)
	assert.ErrorIs(t, err, disk.ErrLink)
	require.NoError(t, os.Symlink(t.TempDir(), j.Path(HandoverDir)))
	assert.ErrorIs(t, disk.OwnDir(j.Path(HandoverDir)), disk.ErrLink)
}

func TestBeginEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	dir := filepath.Join(t.TempDir(), "j")
	err := Begin(ctx, dir, sheetfile.New("x", "", "", time.Now()))
	require.Error(t, err)
	_, err = os.Stat(filepath.Join(dir, SheetFile))
	require.True(t, errors.Is(err, os.ErrNotExist), "no sheet without a register")
}

func begin(t *testing.T) *Job {
	dir := filepath.Join(t.TempDir(), "a job % with ? odd # name")
	require.NoError(t, Begin(t.Context(), dir, sheetfile.New("x", "", "", time.Now())))
	j, err := Open(t.Context(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { j.Close() })
	return j
}
