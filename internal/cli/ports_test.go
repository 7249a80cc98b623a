package cli

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/internal/bench"
)

// Cameras that are joined already get ports of their own, and their recorder follows; a second run
// writes nothing, and one that is put back plays where it played.
func TestEachCameraPlaysAtAPortOfItsOwn(t *testing.T) {
	t.Parallel()
	c := watched(t, true, "", 2)
	c.sheet("ports: {rtsp: 5000+}\n")
	assert.Contains(t, c.must("commission", "--dry-run"), "RTSP port 5041")
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "3 done, 0 need you")
	laid, _ := c.bench.Device("rec").Laid()
	for i := range 2 {
		assert.Contains(t, laid[i].URI, fmt.Sprintf("rtsp://10.61.8.4%d:504%d/", i+1, i+1), "the recorder follows at once")
	}
	c.writesNothing()
	proof := c.must("prove", "--quiet")
	assert.Contains(t, proof, "RTSP")
	assert.Contains(t, proof, "3 of 3 devices proved: every check passed")
	assert.Contains(t, c.must("log", "C01"), "RTSP port set to 5041")
	assert.Contains(t, c.must("show", "C01"), "5041")

	// Somebody sets it back at the device's own page.
	c.bench.Device("dome-1").Replay(554)
	_, out, _ = c.run("", "prove", "--quiet")
	assert.Contains(t, out, "should be 5041, is: 554")
	c.must("commission", "--yes", "--quiet")
	assert.Contains(t, c.must("prove", "--quiet"), "every check passed")
}

// A device that has no such setting is told, one that does not say is told once, and both are set up.
func TestAPortThatCannotBeSetIsTold(t *testing.T) {
	t.Parallel()
	c := hire(t, `
site: Ports
seed: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, restart: 1s, manners: [fixed ports]}
  - {id: mute, model: verrine-dome, mac: "02:e4:42:00:01:02", serial: VM, restart: 1s, manners: [empty answers]}
`, "--subnet", "10.61.8.0/23")
	c.sheet("ports: {rtsp: 8554}\n")
	c.prepare()
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "2 done, 0 need you")
	assert.Contains(t, out, "RTSP port (8554)")
	c.writesNothing()
	assert.Contains(t, c.must("prove", "--quiet"), "except what devices refuse")
}

const servedSite = `
site: Served
seed: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: cube, model: tallow-cube, mac: "02:7a:11:00:01:01", serial: TC, restart: 1s}
  - {id: dome, model: oakhollow-eye, mac: "02:0a:c0:00:01:01", serial: VD, restart: 1s, manners: [keystore]}
  - {id: rec, model: brightmoor-recorder, mac: "02:b7:16:00:01:01", serial: BR, restart: 1s}
  - {id: deaf, model: verrine-dome, mac: "02:e4:42:00:01:02", serial: VE, restart: 1s, manners: [ports without effect]}
`

// Each device serves HTTP, and HTTPS, at ports of its own, and everything goes on there: proof, survey, restart and a
// change of its password, also of a device that announces nothing. One that does not serve there is told.
func TestEachDeviceServesAtPortsOfItsOwn(t *testing.T) {
	t.Parallel()
	c := hire(t, servedSite, "--subnet", "10.61.8.0/23")
	c.sheet("https: on\nports: {http: 6000+, https: 7000+, rtsp: 8000+}\n")
	c.prepare()
	assert.Contains(t, c.must("commission", "--dry-run"), "HTTP port 6041")
	out := c.must("commission", "--yes", "--quiet")
	assert.Contains(t, out, "4 done, 0 need you")
	assert.Contains(t, out, "accepts")
	assert.Contains(t, out, "does not answer there")
	ports := func() string { return c.must("list", "--columns", "tag,mac,http_port,https_port") }
	assert.Regexp(t, `02:7a:11:00:01:01 +604\d`, ports())
	assert.Regexp(t, `02:0a:c0:00:01:01 +604\d +704\d`, ports())
	c.writesNothing()
	_, proof, _ := c.run("", "prove", "--quiet")
	assert.Contains(t, proof, "except what devices refuse")
	assert.NotContains(t, c.must("survey", "--for", "2s", "--quiet"), "ALARM")
	c.must("restart", "kind=camera", "--yes", "--quiet")
	c.must("key", "change", "kind=camera", "--yes", "--quiet")
	c.writesNothing()

	c.sheet("discovery: off\n")
	c.must("commission", "--yes", "--quiet")
	c.must("survey", "--for", "2s", "--quiet")
	c.writesNothing()
	c.run("", "prove", "--quiet")
}

// A run that was cut off when a port was set is gone on with where the device serves since.
func TestAPortThatIsCutOffIsGoneOnWith(t *testing.T) {
	t.Parallel()
	for host, mac := range map[string]string{"cube": "02:7a:11:00:01:01", "dome": "02:0a:c0:00:01:01"} {
		t.Run(host, func(t *testing.T) {
			t.Parallel()
			c := hire(t, servedSite, "--subnet", "10.61.8.0/23")
			c.sheet("https: on\nports: {http: 6000+, https: 7000+}\n")
			c.prepare()
			ctx, cancel := context.WithCancel(t.Context())
			set := 0
			stop := c.logs.On(func(e bench.Event) {
				if e.Host == host && e.Op == "SetNetworkProtocols" {
					if set++; set == 1 && host == "cube" || set == 2 {
						cancel()
					}
				}
			})
			code, out, errs := c.runUntil(ctx, "", "commission", mac, "--yes", "--quiet")
			stop()
			assert.NotEqual(t, ExitDone, code, out+errs)
			assert.Contains(t, c.must("commission", mac, "--yes", "--quiet"), "1 done")
			assert.Contains(t, c.must("prove", mac, "--quiet"), "1 of 1 devices proved")
		})
	}
}

// Ports that two devices would have behind one forwarded address are refused.
func TestPortsThatMeetAreTold(t *testing.T) {
	t.Parallel()
	c := hire(t, servedSite, "--subnet", "10.61.8.0/23")
	c.sheet("ports: {http: 6000+, rtsp: 6100+}\n")
	c.must("survey", "--quiet")
	c.must("take", "all", "--yes")
	code, out, errs := c.run("", "allot")
	assert.Contains(t, out+errs, "meet: keep them 512 apart at least", code)
}
