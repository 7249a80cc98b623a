package cli

import (
	"encoding/json"
	"strings"
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

// A host that looks like a device and answers nothing is a line, a state and open work until
// somebody has said what it is; it is no device that a survey waits for.
func TestAHostThatLooksLikeADeviceAndIsMute(t *testing.T) {
	t.Parallel()
	c := hire(t, `site: Mute
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices: [{id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: V, restart: 1s}]
others:
  - {id: old, role: computer, mac: "02:5c:00:00:00:77", address: 10.61.8.77/23, ports: [80, 554]}
  - {id: bell, role: computer, mac: "02:5c:00:00:00:78", address: 10.61.8.78/23, ports: [443, 5060]}
  - {id: pc, role: computer, mac: "02:5c:00:00:00:79", address: 10.61.8.79/23, ports: [80, 445]}
`, "--subnet", "10.61.8.0/23")
	out := c.must("survey", "--quiet")
	flat := strings.Join(strings.Fields(out), " ")
	assert.Contains(t, flat, "10.61.8.77 (02:5c:00:00:00:77), 10.61.8.78 (02:5c:00:00:00:78): looks like a device")
	assert.Regexp(t, `02:5c:00:00:00:77 +10\.61\.8\.77 .*mute`, out)
	assert.Regexp(t, `02:5c:00:00:00:79 +10\.61\.8\.79 .*unmanaged`, out)
	c.must("take", "kind=camera", "--yes")
	status := strings.Join(strings.Fields(c.must()), " ")
	assert.Contains(t, status, "looks like a device by its open ports")
	assert.Equal(t, 2, strings.Count(c.must("list", "--all", "access=mute"), "mute"))

	// One is taken, to be set up by hand; the other is left alone.
	c.must("take", "02:5c:00:00:00:77", "--kind", "camera", "--yes")
	c.must("leave", "02:5c:00:00:00:78", "--yes")
	assert.NotContains(t, c.must("survey", "--quiet"), "looks like a device")
	assert.NotContains(t, c.must(), "looks like a device")
	assert.Contains(t, c.must("allot"), "C02")
}
