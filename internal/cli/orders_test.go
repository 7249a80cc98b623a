package cli

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
)

// A running bench unplugs devices and pulls the cable by command.
func TestABenchTakesOrders(t *testing.T) {
	t.Parallel()
	c := hire(t, addressed, "--subnet", "10.61.8.0/23")
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	socket := filepath.Join(t.TempDir(), "b.do")
	l, err := listenSocket(socket)
	require.NoError(t, err)
	go func() { _ = c.bench.TakeOrders(ctx, l) }()
	order := func(text string) string {
		said, err := bench.Order(t.Context(), socket, text)
		if err != nil {
			return err.Error()
		}
		return said
	}
	assert.Equal(t, "dome-1 dome-2 dome-3 dome-4", order("devices"))
	assert.Equal(t, "dome-1: unplug done", order("unplug dome-1"))
	out := c.must("survey", "--quiet", "--for", "2s")
	assert.NotContains(t, out, "02:e4:42:00:01:01")
	assert.Contains(t, out, "02:e4:42:00:01:02")
	assert.Equal(t, "the cable is out", order("cable out"))
	_, out, _ = c.run("", "survey", "--quiet", "--for", "1s")
	assert.Contains(t, out, "No device answered")
	assert.Equal(t, "the cable is in", order("cable in"))
	assert.Equal(t, "dome-1: plug done", order("plug dome-1"))
	waitFor(t, "it is back", func() bool { return containsMAC(c, "02:e4:42:00:01:01") })
	for bad, told := range map[string]string{"unplug nobody": `there is no device "nobody"`, "burn dome-1": "use unplug DEVICE", "cable sideways": "cable out or cable in", "": "use unplug DEVICE"} {
		assert.Contains(t, order(bad), told)
	}
	code, _, errs := c.run("", "bench", "--socket", filepath.Join(t.TempDir(), "none"), "--do", "devices")
	assert.Equal(t, ExitUsage, code)
	assert.Contains(t, errs, "no bench takes orders there")
}

func containsMAC(c *crew, mac string) bool {
	_, out, _ := c.run("", "survey", "--quiet", "--for", "1s")
	return strings.Contains(out, mac)
}
