package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A camera of other hands, at an address that nobody would guess and that says nothing by itself,
// is looked for where something is missing, and so is one where nothing answers at all.
func TestWhatIsMissingIsLookedForFurther(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{{"--expect", "1"}, nil} {
		c := hire(t, `site: Far
seed: 3
pace: 4
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: far, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, address: 10.0.77.9/24, restart: 1s, manners: [no discovery, announces nothing, deaf to groups]}
`, "--subnet", "10.61.8.0/23")
		c.sheet("survey: {rate: 20000}\n")
		code, out, errs := c.run("", append([]string{"survey"}, args...)...)
		require.Equal(t, ExitDone, code, out+errs)
		assert.Contains(t, out, "10.0.77.9")
		assert.Contains(t, strings.Join(strings.Fields(errs), " "), "something is missing: looking through 192.168.0.0/16 as well, 1 of 5")
		assert.Contains(t, errs, "10.0.0.0/16")
		assert.NotContains(t, errs, "172.16.0.0/16", "it is there")
	}
}
