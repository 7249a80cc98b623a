package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/job"
)

const screens = `
site: Screens
seed: 3
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: named, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: N1, restart: 1s}
  - {id: plain, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: P1, restart: 1s}
  - {id: none, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: X1, restart: 1s}
  - {id: unnamed, model: tallow-cube, mac: "02:7a:11:00:04:01", serial: U1, restart: 1s}
`

// The pictures of cameras that have a name show it, where they can; nothing else on the
// screen is touched, and what nobody named stays.
func TestPicturesShowTheNames(t *testing.T) {
	t.Parallel()
	c := hire(t, screens, "--subnet", "10.61.8.0/23")
	c.prepare()
	c.sheet("names: {N1: Quay & ramp, P1: Gangway, X1: Mess}\n")
	dry := c.must("commission", "--dry-run")
	assert.Contains(t, dry, "picture Quay & ramp")
	assert.Equal(t, 2, strings.Count(dry, "picture "), "the one that tells its serial number only with a password: %s", dry)
	c.must("commission", "--yes", "--quiet")
	for id, want := range map[string]struct {
		source string
		texts  []string
	}{
		"named": {"Quay & ramp", []string{"", "Quay & ramp"}}, "plain": {"Gangway", []string{"", "Gangway"}},
		"none": {"Mess", nil}, "unnamed": {"VideoSource_1", []string{"", "Cube C"}},
	} {
		source, texts := c.bench.Device(id).Screen()
		assert.Equal(t, want.source, source, id)
		assert.Equal(t, want.texts, texts, id)
	}
	out := c.must("prove", "--quiet")
	assert.Contains(t, out, "CAPTION")
	assert.Contains(t, out, "4 of 4 devices proved: every check passed")
	assert.Contains(t, c.must("log", "N1"), `caption of its pictures set to "Quay & ramp"`)

	_, mark := c.events(0)
	c.must("commission", "--yes", "--quiet")
	since, _ := c.events(mark)
	for _, e := range since {
		assert.NotEqual(t, bench.EventWrite, e.What, "a second run writes: %+v", e)
	}

	sheet := filepath.Join(c.dir, job.SheetFile)
	written, err := os.ReadFile(sheet)
	require.NoError(t, err)
	written = append(bytes.Replace(written, []byte("Quay & ramp"), []byte("Harbour"), 1), "captions: false\n"...)
	require.NoError(t, os.WriteFile(sheet, written, 0o600))
	c.must("commission", "--yes", "--quiet")
	source, texts := c.bench.Device("named").Screen()
	assert.Equal(t, "Quay & ramp", source, "pictures are left as they are")
	assert.Equal(t, []string{"", "Quay & ramp"}, texts)
}
