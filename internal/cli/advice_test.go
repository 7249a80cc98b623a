package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/advice"
)

// Every act that advice may name is a command line that the program takes.
func TestEveryAdviceIsACommand(t *testing.T) {
	for _, act := range advice.Acts {
		if act == advice.UseWire {
			assert.Equal(t, "--wire eth0", command(act.On("eth0")))
			continue
		}
		words, known := commands[act]
		require.True(t, known, act)
		tried := 0
		for form, step := range map[string]advice.Step{
			words.plain: {Act: act}, words.on: act.On("C01"), words.ofUser: act.On("C01").OfUser("viewer"),
		} {
			if act == advice.Swap { // of two devices
				step.On += " C02"
			}
			if form == "" {
				continue
			}
			tried++
			line := strings.Trim(command(step), "`")
			args := strings.Fields(strings.TrimPrefix(line, "janustat "))
			app := &App{}
			c, rest, err := app.Root().Find(args)
			require.NoError(t, err, line)
			require.NoError(t, c.ParseFlags(rest), line)
			assert.NoError(t, c.ValidateArgs(c.Flags().Args()), line)
		}
		assert.Positive(t, tried, act)
	}
}
