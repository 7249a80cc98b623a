package sqlite

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

// What is written durably is on the disk before it is answered: the intents of writes rest on that.
func TestTheRegisterIsSyncedToTheDisk(t *testing.T) {
	const full = 2 // https://sqlite.org/pragma.html#pragma_synchronous
	j := begin(t)
	ask := func() (mode int) {
		require.NoError(t, j.Register.db.QueryRowContext(t.Context(), "PRAGMA synchronous").Scan(&mode))
		return mode
	}
	assert.Equal(t, full, ask())
	devices := []device.Device{{MAC: device.MAC{2, 0, 0, 0, 0, 1}, Tag: "C01", InJob: device.Taken}}
	require.NoError(t, j.Register.Record(t.Context(), "test", devices))
	require.NoError(t, j.Register.Happened(t.Context(), "test", devices[0].ID, device.Tagged{Tag: "C02"}))
	j.Register.db.SetMaxOpenConns(1)
	assert.Equal(t, full, ask(), "after a result, which needs no sync of its own")
}
