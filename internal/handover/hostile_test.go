package handover

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A record of somebody else's names no file outside, and puts nothing into a terminal or a
// table: a tag is a tag, and every text in it is harmless, keys too.
func TestARecordOfSomebodyElses(t *testing.T) {
	dir := t.TempDir()
	write := func(record string) string {
		path := filepath.Join(dir, "register.json")
		require.NoError(t, os.WriteFile(path, []byte(record), 0o600))
		return path
	}
	for _, tag := range []string{"../../escaped", "C02 bank.example intranet", "C1", "\u001b[2J", "C01\n"} {
		said, err := json.Marshal(tag)
		require.NoError(t, err)
		_, err = Read(write(`{"devices":[{"tag":` + string(said) + `,"mac":"02:00:00:00:00:01"}]}`))
		require.ErrorIs(t, err, ErrNoRecord, tag)
		assert.NotContains(t, err.Error(), "\u001b")
	}
	r, err := Read(write(`{"site":"a\u001b[2Jb","devices":[{"tag":"C01","mac":"02:00:00:00:00:01","name":"x\u202e\u001b]0;y\u0007","own":{"k\u001b[1m":"v\u001b[1m"}}]}`))
	require.NoError(t, err)
	back, err := json.Marshal(r)
	require.NoError(t, err)
	assert.NotContains(t, string(back), `\u001b`)
	assert.NotContains(t, string(back), "\u202e")
}
