package driver

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// SmallDisk gives a folder on a disk of its own, of so many bytes (as in "2m"),
// until the test ends. It needs root.
func SmallDisk(t testing.TB, size string) string {
	t.Helper()
	NeedRoot(t)
	dir := t.TempDir()
	require.NoError(t, syscall.Mount("tmpfs", dir, "tmpfs", 0, "size="+size))
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	return dir
}

// FillDisk leaves no room on the disk of a folder, and names the file that takes it.
func FillDisk(t testing.TB, dir string) string {
	fill := filepath.Join(dir, "fill")
	f, err := os.Create(fill)
	require.NoError(t, err)
	for err == nil {
		_, err = f.Write(make([]byte, 4096))
	}
	require.ErrorIs(t, err, syscall.ENOSPC)
	require.NoError(t, f.Close())
	return fill
}
