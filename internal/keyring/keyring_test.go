package keyring

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
	"janustat/internal/intake"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func quickKeyring(path, passphrase string) *Keyring {
	k := New(path, passphrase)
	k.work = 4 // weak, for tests
	return k
}

func TestKeyring(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keyring.age")
	_, err := Open(path, "x")
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

	got, err := Open(path, "ferry at quillmere")
	require.NoError(t, err)
	assert.Equal(t, "Harbour-Light-42", got.Site().Reveal())
	user, p, ok := got.For(mac)
	assert.True(t, ok)
	assert.Equal(t, []string{"admin", "Quay-side7"}, []string{user, p.Reveal()})

	_, err = Open(path, "wrong")
	require.ErrorIs(t, err, ErrPassphrase)
	_, err = Open(path, "")
	require.ErrorIs(t, err, ErrPassphrase)
	for name, damage := range map[string][]byte{
		"cut off": onDisk[:len(onDisk)-9], "changed": append(bytes.Clone(onDisk[:len(onDisk)-1]), onDisk[len(onDisk)-1]^1), "empty": nil, "other": []byte("hello"),
	} {
		require.NoError(t, os.WriteFile(path, damage, 0o600))
		_, err = Open(path, "ferry at quillmere")
		require.ErrorIs(t, err, ErrKeyring, name)
		assert.NotContains(t, err.Error(), "Harbour")
	}
}

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
	_, err = Open(path, "quay")
	require.Error(t, err)
	assert.NotErrorIs(t, err, ErrNoKeyring)
}

func TestUsersOnTheKeyring(t *testing.T) {
	path := filepath.Join(t.TempDir(), "k")
	k := New(path, "phrase")
	k.SetWork(10)
	mac := device.MAC{2, 1}
	assert.True(t, k.UserFor(mac, "viewer").IsZero())
	k.SetUserFor(mac, "viewer", secret.New("a"))
	k.SetUserFor(mac, "guard", secret.New("b"))
	k.SetSharedUser("viewer", secret.New("c"))
	require.NoError(t, k.Save())
	k, err := Open(path, "phrase")
	require.NoError(t, err)
	assert.Equal(t, []string{"guard", "viewer"}, k.UserNames(mac))
	assert.Equal(t, "a", k.UserFor(mac, "viewer").Reveal())
	assert.Equal(t, "c", k.SharedUser("viewer").Reveal())
}

// A key that a device has proved to refuse is not among those that it is offered.
func TestAKeyThatWasRefusedIsNotOfferedAgain(t *testing.T) {
	k := New(filepath.Join(t.TempDir(), "k"), "x")
	mac := device.MAC{2, 0, 0, 0, 0, 1}
	old := commission.Credential{User: "admin", Password: secret.New("Once-1"), Origin: commission.FromEarlier}
	other := commission.Credential{User: "admin", Password: secret.New("Once-2"), Origin: commission.FromEarlier}
	refused, ok := evidence.Prove(evidence.Of(evidence.ByPath), old)
	require.True(t, ok)
	assert.True(t, k.NoteRefused(mac, []evidence.Proven[commission.Credential]{refused}))
	assert.Equal(t, []commission.Credential{other}, k.NotRefused(mac, []commission.Credential{old, other}))
	assert.Len(t, k.NotRefused(device.MAC{2, 0, 0, 0, 0, 2}, []commission.Credential{old, other}), 2, "another device may have it")
}

func TestAKeyringHasBounds(t *testing.T) {
	path := filepath.Join(t.TempDir(), "endless")
	require.NoError(t, os.Symlink("/dev/zero", path))
	_, err := Open(path, "quay")
	require.ErrorIs(t, err, intake.ErrRefused)
}

// What a keyring names as its work is what it was written with.
func TestTheWorkOfAKeyring(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keyring.age")
	k := New(path, "ferry at quillmere")
	k.SetWork(11)
	require.NoError(t, k.Save())
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, 11, workOf(data))
	assert.Equal(t, maxWork, workOf([]byte("age-encryption.org/v1\n-> X25519 abc\n")))
	assert.Equal(t, maxWork, workOf(nil))
}
