package cli

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
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
