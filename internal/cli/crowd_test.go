package cli

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/device"
)

// behindALimit is a site behind a switch that lets few frames for everyone pass: devices, and
// hosts that nothing shows but an answer to who has their address.
func behindALimit(storm string) string {
	return "site: Storm\nseed: 5\nstorm: " + storm + `
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 4, restart: 1s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: OE, count: 2, restart: 1s}
others:
  - {id: pc, role: quiet, mac: "02:5c:00:00:10:01", address: 10.61.8.41/23, count: 30}
  - {id: far, role: quiet, mac: "02:5c:00:00:11:01", address: 10.61.9.120/23, count: 30}
`
}

// What a switch keeps back is not taken for nobody: every host is found behind a limit on
// broadcasts, on multicasts, on both, and behind a port that is shut for a while; no camera
// is put onto one of them; the person is told, and what was learnt is kept for the job.
func TestNothingIsConcludedFromSilence(t *testing.T) {
	for name, x := range map[string]struct {
		storm string
		slow  bool
	}{
		"broadcasts":     {"{broadcasts: 100}", true},
		"few broadcasts": {"{broadcasts: 70}", true},
		"multicasts":     {"{multicasts: 40}", false},
		"both":           {"{broadcasts: 100, multicasts: 60}", true},
		"a port is shut": {"{broadcasts: 150, multicasts: 500, shut: 4s}", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := hire(t, behindALimit(x.storm), "--subnet", "10.61.8.0/23")
			var found surveyJSON
			require.NoError(t, json.Unmarshal([]byte(c.must("survey", "--json", "--quiet")), &found))
			kinds := map[device.Kind]int{}
			for i := range found.Devices {
				kinds[found.Devices[i].Kind]++
			}
			assert.Equal(t, 6, kinds[device.Camera])
			assert.Equal(t, 60, kinds[device.Other])
			assert.Equal(t, x.slow, found.Broadcasts > 0)
			assert.Equal(t, x.slow, len(found.Unasked) > 0, "what is not asked is named: %v", found.Unasked)
			c.must("take", "all", "--yes")
			out := c.must("allot")
			assert.Contains(t, out, "10.61.8.71", "the first that is free")
			assert.NotContains(t, out, "10.61.8.41 ")
			if !x.slow {
				return
			}
			_, told, _ := c.run("", "survey", "--quiet")
			assert.Contains(t, told, "storm control")
			assert.Contains(t, c.must("commission", "--yes", "--quiet"), "6 done, 0 need you")
		})
	}
}
