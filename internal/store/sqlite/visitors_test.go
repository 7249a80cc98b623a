package sqlite

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVisitorsAreKeptForMinutes(t *testing.T) {
	r, err := OpenRegister(t.Context(), t.TempDir()+"/register.db", "tester")
	require.NoError(t, err)
	defer r.Close()
	site, other := netip.MustParsePrefix("10.61.8.0/23"), netip.MustParsePrefix("192.168.77.0/24")
	want := map[netip.Prefix]netip.Addr{site: netip.MustParseAddr("10.61.8.9"), other: netip.MustParseAddr("192.168.77.22")}
	require.NoError(t, r.KeepVisitors(t.Context(), want))
	require.NoError(t, r.KeepVisitors(t.Context(), map[netip.Prefix]netip.Addr{site: netip.MustParseAddr("10.61.8.12")}))
	want[site] = netip.MustParseAddr("10.61.8.12")
	got, err := r.Visitors(t.Context())
	require.NoError(t, err)
	assert.Equal(t, want, got)
	_, err = r.db.ExecContext(t.Context(), "UPDATE visitor SET at=? WHERE subnet=?", stamp(time.Now().Add(-visitorsLast-time.Second)), other.String())
	require.NoError(t, err)
	got, err = r.Visitors(t.Context())
	require.NoError(t, err)
	assert.Equal(t, map[netip.Prefix]netip.Addr{site: want[site]}, got, "what is older is forgotten")
}
