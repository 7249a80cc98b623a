package cli

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const backupSite = `
site: Backups
seed: 11
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: fetched, model: verrine-dome, mac: "02:e4:42:00:10:01", serial: A1, restart: 1s, manners: [backup, backup elsewhere]}
  - {id: attached, model: verrine-bullet, mac: "02:e4:42:00:10:02", serial: A2, restart: 1s, manners: [backup attached]}
  - {id: inside, model: oakhollow-eye, mac: "02:e4:42:00:10:03", serial: A3, restart: 1s, manners: [backup inside]}
  - {id: none, model: tallow-cube, mac: "02:e4:42:00:10:04", serial: A4, restart: 1s}
`

// unpacked gives the files of a tar.
func unpacked(t *testing.T, data []byte) map[string]string {
	out := map[string]string{}
	for r := tar.NewReader(bytes.NewReader(data)); ; {
		h, err := r.Next()
		if err == io.EOF {
			return out
		}
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.NotContains(t, h.Name, "/", "a device does not say where its file goes")
		out[h.Name] = string(text)
	}
}

// A device's own backup is fetched in each of the ways that the standard has, from the device itself and not
// from a host that it names; it is kept encrypted, opens by the keyring and by the firm's key, and its hash is
// in the record.
func TestBackupsAreKept(t *testing.T) {
	t.Parallel()
	c := hire(t, backupSite, "--subnet", "10.61.8.0/23")
	firm, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	c.sheet("password: {recovery: [" + firm.Recipient().String() + "]}\n")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	var all []backupJSON
	c.json(&all, "backup")
	require.Len(t, all, 4)
	kept := 0
	for _, b := range all {
		if b.File == "" {
			assert.Contains(t, b.Why, "gives no backup")
			continue
		}
		kept++
		path := filepath.Join(c.dir, filepath.FromSlash(b.File))
		sealed, err := os.ReadFile(path)
		require.NoError(t, err)
		sum := sha256.Sum256(sealed)
		assert.Equal(t, b.SHA256, hex.EncodeToString(sum[:]))
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

		out := filepath.Join(t.TempDir(), "out.tar")
		c.must("backup", "open", path, "--out", out)
		plain, err := os.ReadFile(out)
		require.NoError(t, err)
		files := unpacked(t, plain)
		assert.Contains(t, files["settings.cfg"], "user.admin="+strings.TrimSpace(c.must("key", "show", b.Tag)))
		assert.Contains(t, files["backup.json"], b.MAC.String())
		opened, err := age.Decrypt(bytes.NewReader(sealed), firm)
		require.NoError(t, err)
		same, err := io.ReadAll(opened)
		require.NoError(t, err)
		assert.Equal(t, plain, same)
	}
	assert.Equal(t, 3, kept)
	text := c.must("backup", "--quiet")
	assert.Contains(t, text, "3 backups of 4 devices")
	assert.Contains(t, text, "has no backup to give")
	c.must("handover", "--quiet")
	record, err := os.ReadFile(filepath.Join(c.dir, "handover", "register.json"))
	require.NoError(t, err)
	var r struct {
		Devices []struct {
			Backup *struct{ File, SHA256 string }
		}
	}
	require.NoError(t, json.Unmarshal(record, &r))
	hashes := 0
	for _, d := range r.Devices {
		if d.Backup != nil && len(d.Backup.SHA256) == 64 {
			hashes++
		}
	}
	assert.Equal(t, 3, hashes)
	c.must("prove", "--quiet")
	c.writesNothing()
}

// A backup can have passwords in it: a capture holds none of them, and nothing is fetched without encryption
// where the job sheet forbids that for passwords.
func TestABackupIsAsSecretAsAPassword(t *testing.T) {
	t.Parallel()
	c := hire(t, backupSite, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.must("commission", "--yes", "--quiet")
	capture := filepath.Join(t.TempDir(), "backup.pcapng")
	assert.Contains(t, c.must("backup", "--quiet", "--capture", capture), "3 backups of 4 devices")
	whole, err := os.ReadFile(capture)
	require.NoError(t, err)
	for _, of := range []string{"user.admin=", "serial=A1", "serial=A2"} { // passwords that the keyring does not know are in there too
		assert.NotContains(t, string(whole), of)
	}
	assert.Empty(t, c.foundIn(capture))

	c.sheet("password: {require_tls: true}\n")
	code, out, _ := c.run("", "backup", "--quiet")
	assert.Equal(t, ExitNeeds, code)
	assert.Contains(t, out, "1 backup of 4 devices")
	assert.Contains(t, out, "require_tls in the job sheet forbids")
}
