package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Who has forgotten the passphrase opens the keyring by the firm's key; another key opens nothing, and what
// is in the copy is what is on the keyring.
func TestTheKeyringOpensByTheFirmsKey(t *testing.T) {
	t.Parallel()
	c := hire(t, outsideSite, "--subnet", "10.61.8.0/23")
	firm, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	file := func(id *age.X25519Identity) string {
		path := filepath.Join(t.TempDir(), "key")
		require.NoError(t, os.WriteFile(path, []byte("# a key\n"+id.String()+"\n"), 0o600))
		return path
	}
	c.prepare()
	c.must("commission", "C01", "--yes", "--quiet")
	code, _, errs := c.run("", "key", "recover", "--identity", file(firm), "--check")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "password.recovery")

	c.sheet("password: {recovery: [" + firm.Recipient().String() + "]}\n")
	c.must("commission", "--yes", "--quiet")
	copied := filepath.Join(c.dir, "keyring-recovery.age")
	info, err := os.Stat(copied)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	assert.Contains(t, c.must("key", "recover", "--identity", file(firm), "--check"), "passwords of 3 devices")
	code, _, errs = c.run("", "key", "recover", "--identity", file(other), "--check")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, errs, "was not made for this key")
	code, _, errs = c.run("", "key", "recover", "--identity", filepath.Join(t.TempDir(), "none"))
	assert.Equal(t, ExitUsage, code, errs)

	was := strings.TrimSpace(c.must("key", "show", "C01"))
	require.NoError(t, os.Remove(filepath.Join(c.dir, "keyring.age"))) // as good as forgotten
	code, out, errs := c.run("ferry at quillmere\nferry at quillmere\n", "key", "recover", "--identity", file(firm))
	require.Equal(t, ExitDone, code, out+errs)
	assert.Equal(t, was, strings.TrimSpace(c.must("key", "show", "C01")))
	c.must("prove", "--quiet")

	// Without the line the copy goes with the next change.
	path := filepath.Join(c.dir, "jobsheet.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), "recovery: ["+firm.Recipient().String()+"]", "", 1)), 0o600))
	c.must("commission", "--yes", "--quiet")
	assert.NoFileExists(t, copied)
}
