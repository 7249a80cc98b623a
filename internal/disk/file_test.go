package disk

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

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
