package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A recorder that is too small by one camera is told before anything is sent to any device.
func TestARecorderThatIsTooSmall(t *testing.T) {
	t.Parallel()
	c := hire(t, `site: Crowd
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: rec, model: brightmoor-recorder, mac: "02:b7:16:00:00:10", serial: LG1, address: 10.61.8.10/23, password: Harbour-Light-42, restart: 1s}
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 17, restart: 1s}
`, "--subnet", "10.61.8.0/23")
	c.must("survey", "--quiet")
	c.must("take", "all", "02:b7:16:00:00:10", "--yes")
	c.sheet("channels: auto\n")
	assert.NotContains(t, c.must("allot"), "free for", "a recorder that nobody has opened has told nothing")
	code, out, errs := c.run("Harbour-Light-42\n", "key", "set", "R01")
	assert.Equal(t, ExitDone, code, out+errs)
	_, mark := c.events(0)
	told := strings.Join(strings.Fields(c.must("allot")), " ")
	assert.Contains(t, told, "note: R01: 16 channels free for 17 cameras, so none for C17. Leave cameras out of `channels`")
	since, _ := c.events(mark)
	assert.Empty(t, writes(since))

	// The planner's list, in their own words, is held against the job as it stands.
	plan := filepath.Join(t.TempDir(), "plan.csv")
	require.NoError(t, os.WriteFile(plan, []byte("Nr;MAC-Adresse;Seriennummer;Bezeichnung;Standort\n1;02:e4:42:00:01:01;;Dock 7;Quay\n2;;LG1;Plant room;\n"), 0o600))
	differs := c.must("compare", plan, c.dir)
	assert.Regexp(t, `C01 +name +Dock 7`, differs)
	assert.Regexp(t, `C01 +place +Quay`, differs)
	assert.Regexp(t, `C17 +new`, differs, "it is not in the list")
	assert.NotContains(t, differs, "firmware", "of which the list says nothing")
	code, _, errs = c.run("", "compare", plan, plan)
	assert.Equal(t, ExitUsage, code, errs)

	c.must("leave", "C17", "--yes")
	assert.NotContains(t, c.must("allot"), "free for")
}
