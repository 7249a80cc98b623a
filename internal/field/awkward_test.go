package field

import (
	"testing"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/reach"
	"janustat/internal/wire"

	"github.com/stretchr/testify/require"
)

func TestTryAwkward(t *testing.T) {
	s, err := bench.Load("awkward")
	require.NoError(t, err)
	path, _, _ := benchtest.StartSite(t, s)
	w, err := wire.DialBench(path)
	require.NoError(t, err)
	n := reach.New(w)
	t.Cleanup(func() { n.Close() })
	f := findings(t, n)
	for _, d := range device.Merge(f.Sightings) {
		t.Log(d.MAC, d.Kind, d.Access, d.Make, d.Model, d.Serial, d.Addresses, d.Clashing, d.Ports, d.Host, d.Offers, d.Asks, d.Settings)
	}
	t.Log(f.VLANs, f.Unvisited)
}
