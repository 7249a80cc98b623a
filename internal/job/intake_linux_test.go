package job

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/intake"
)

// A keyring says how much work its passphrase is. One of somebody else's that asks for the
// memory of the laptop is refused before any is spent.
func TestAKeyringThatAsksForTooMuchWork(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keyring.age")
	var out strings.Builder
	to, err := age.NewScryptRecipient("quay")
	require.NoError(t, err)
	to.SetWorkFactor(10)
	w, err := age.Encrypt(&out, to)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	head := strings.Replace(out.String(), " 10\n", " 22\n", 1)
	require.NoError(t, os.WriteFile(path, []byte(head), 0o600))
	_, err = OpenKeyring(path, "quay")
	require.Error(t, err)
	assert.NotErrorIs(t, err, ErrNoKeyring)
}

func TestASheetHasBounds(t *testing.T) {
	_, err := ParseSheet([]byte("names:\n" + strings.Repeat("  C01: x\n", maxLines+1)))
	require.ErrorIs(t, err, ErrSheet)
	assert.ErrorContains(t, err, "lines")
	dir := t.TempDir()
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(dir, "endless")))
	_, err = ReadSheet(filepath.Join(dir, "endless"))
	require.ErrorIs(t, err, intake.ErrRefused)
	_, err = OpenKeyring(filepath.Join(dir, "endless"), "quay")
	require.ErrorIs(t, err, intake.ErrRefused)
}
