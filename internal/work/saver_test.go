package work

import (
	"fmt"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/keyring"
)

// What one device has learnt is on disk when it goes on, though many learn at once; what
// changes nothing costs no writing; and a disk that is full is told.
func TestTheKeyringIsOnDiskBeforeADeviceGoesOn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "keyring.age")
	keys := keyring.New(path, "quay")
	keys.SetWork(10)
	s := newSaver(keys)
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			mac, p := device.MAC{2, 0, 0, 0, 0, byte(i)}, secret.New(fmt.Sprintf("Quay-side-%d", i))
			assert.NoError(t, s.keep(func() bool { return keys.Set(mac, "admin", p) }))
			disk, err := keyring.Open(path, "quay")
			if assert.NoError(t, err) {
				_, got, _ := disk.For(mac)
				assert.Equal(t, p, got)
			}
		})
	}
	all.Wait()
	require.NoError(t, s.keep(func() bool { return false }))

	bad := keyring.New(filepath.Join(path, "no folder", "keyring.age"), "quay")
	bad.SetWork(10)
	assert.Error(t, newSaver(bad).keep(func() bool { return true }))
}
