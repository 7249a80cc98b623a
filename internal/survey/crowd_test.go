package survey

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
	"janustat/internal/bench"
	"janustat/internal/reach/reachtest"
)

// A site of many devices on several factory addresses is described whole, and no device answers
// the same question of every visitor over and over.
func TestACrowdIsAskedByOneVisitorAtATime(t *testing.T) {
	if testing.Short() {
		t.Skip("what it races is raced by others, and the detector makes it slow")
	}
	t.Parallel()
	n, logs := reachtest.Site(t, `
site: Crowd
seed: 3
loss: 0.02
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/24]}
devices:
  - {id: a, model: verrine-dome, mac: "02:e4:42:00:10:01", serial: A, count: 60}
  - {id: b, model: oakhollow-eye, mac: "02:0a:c0:00:20:01", serial: B, count: 60}
  - {id: c, model: tallow-cube, mac: "02:7a:11:00:30:01", serial: C, count: 60}
`)
	found := device.Merge(findings(t, n).Sightings)
	described := 0
	for i := range found {
		if found[i].Model != "" {
			described++
		}
	}
	assert.Equal(t, 180, described)
	answers := 0
	for _, e := range logs.Events() {
		if e.What == bench.EventDiscovery && e.OK {
			answers++
		}
	}
	require.Positive(t, answers)
	assert.Less(t, answers, 180*20, "answers to discovery in all")
}
