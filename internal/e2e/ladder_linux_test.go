package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
)

// manyDevices are two hundred, of four models.
const manyDevices = `
site: Two Hundred
seed: 5
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 60, restart: 1s}
  - {id: bullet, model: verrine-bullet, mac: "02:e4:41:00:02:01", serial: VB, count: 60, restart: 1s}
  - {id: eye, model: oakhollow-eye, mac: "02:0a:c0:00:03:01", serial: OE, count: 60, restart: 1s}
  - {id: door, model: oakhollow-door, mac: "02:0a:c0:00:05:01", serial: OPS, count: 20, restart: 1s}
`

// The ladder's screen at both sizes, with two hundred devices: it grows, is searched, names,
// swaps, scrolls, resizes, does without colour, and leaves the terminal as it was.
func TestTheLadderWithTwoHundredDevices(t *testing.T) {
	t.Parallel()
	for _, size := range []struct {
		columns, rows int
		colour        bool
	}{{80, 24, false}, {200, 60, true}} {
		t.Run(fmt.Sprintf("%dx%d", size.columns, size.rows), func(t *testing.T) {
			t.Parallel()
			site, err := bench.Parse([]byte(manyDevices))
			require.NoError(t, err)
			socket, _, b := benchtest.StartSite(t, site)
			w := driver.Worker{T: t, Program: driver.Built(t), Job: filepath.Join(t.TempDir(), "job"), Wire: "bench:" + socket}
			w.Must("begin", w.Job, "--name", "Two Hundred", "--subnet", "10.61.8.0/23")
			late := b.Device("eye-60")
			late.Unplug()
			w.Must("survey")
			w.Must("take", "all", "--yes")

			c := w.Command("ladder")
			c.Env = append(c.Env, "TERM=xterm-256color")
			if !size.colour {
				c.Env = append(c.Env, "NO_COLOR=1")
			}
			s := driver.NewScreen(t, c, size.columns, size.rows)
			s.Sees("199 devices, 0 named")
			s.Gone("looking")
			for _, line := range strings.Split(s.Text(), "\n") {
				assert.LessOrEqual(t, len([]rune(line)), size.columns)
			}

			// It is found by the end of its MAC, and named; the next without a name comes by itself.
			s.Press("01:03")
			s.Sees("find: 01:03_")
			s.Sees("02:e4:42:00:01:03")
			s.Press("\r")
			s.Sees("Name:")
			s.Press("Ticket hall east\r")
			s.Sees("is called Ticket hall east")
			s.Sees("199 devices, 1 named")
			s.Press("\r")
			s.Sees("Name:")
			s.Press("nobody\x1b")
			s.Gone("Name:")

			// Everything scrolls.
			s.Press("\x1b[F") // End
			s.Until("the last rows", func(text string) bool { return strings.Contains(text, "–199") && strings.Contains(text, "▶ C179") })
			s.Press("\x1b[H")
			s.Sees("▶ D01")

			// One that is plugged in appears at the top, and is the next to be named.
			late.Plug()
			s.Sees("appeared: Enter names it")
			s.Sees("200 devices, 1 named")
			s.Press("\x14") // Ctrl-T takes it
			s.Sees("C180: taken")
			s.Press("\r")
			s.Sees("Name:")
			s.Press("Quay\r")
			s.Sees("C180 is called Quay")

			// Two tags change places.
			s.Press("C180")
			s.Sees("find: C180_")
			s.Press("\x18") // Ctrl-X
			s.Sees("Swap the tag of C180")
			s.Press("\x1b") // Esc: no
			s.Gone("Swap the tag")
			s.Press("C180")
			s.Sees("find: C180_")
			s.Press("\x18")
			s.Sees("Swap the tag of C180")
			s.Gone("find:")
			s.Press("C178") // a slip in the search does not end the swap
			s.Sees("find: C178_")
			s.Press("\x1b")
			s.Gone("find:")
			s.Sees("Swap the tag of C180")
			s.Press("C179")
			s.Sees("find: C179_")
			s.Press("\x18")
			s.Sees("C179 and C180 are swapped")
			s.Press("\x1b")
			s.Gone("find:")

			// The one in front of me is the one that I unplug.
			b.Device("dome-7").Unplug()
			s.Press("\x15")
			s.Sees("disconnected: that is the one")
			s.Sees("02:e4:42:00:01:07")

			s.Resize(100, 30)
			s.Until("thirty rows", func(text string) bool {
				return len(strings.Split(text, "\n")) == 30 && strings.Contains(text, "^C end")
			})
			s.Resize(size.columns, 12)
			s.Until("a low screen", func(text string) bool {
				return len(strings.Split(text, "\n")) == 12 && strings.Contains(text, "02:e4:42:00:01:07")
			})

			s.Press("\x03")
			assert.Equal(t, 0, s.Ends())
			s.AsItWas()
			s.Sees("2 devices named here")
			if all := s.All(); !size.colour {
				assert.NotRegexp(t, regexp.MustCompile("\x1b\\[[0-9;]*3[0-9]m"), all, "no colour was asked for")
			} else {
				assert.Contains(t, all, "\x1b[?1049l", "the screen from before comes back")
			}
			assert.Contains(t, w.Must("list", "--find", "Ticket hall east", "--csv"), "02:e4:42:00:01:03")
			assert.Contains(t, w.Must("list", "C179", "--csv"), "Quay")
		})
	}
}

// What has no terminal is told what to do instead.
func TestTheLadderWantsATerminal(t *testing.T) {
	t.Parallel()
	c := exec.Command(driver.Built(t), "ladder", "--job", t.TempDir())
	c.Env = append(os.Environ(), "JANUSTAT_STATE="+t.TempDir())
	out, err := c.CombinedOutput()
	require.Error(t, err)
	assert.Equal(t, 2, c.ProcessState.ExitCode())
	assert.Contains(t, string(out), "janustat survey --watch")
}
