package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/internal/bench"
	"janustat/internal/bench/benchtest"
	"janustat/internal/e2e/driver"
)

// From boxes to the record at the demo site, by as few keys as tired hands have left in them.
func TestTheWholeJobByKeystrokes(t *testing.T) {
	t.Parallel()
	site, err := bench.Load(bench.Demo)
	require.NoError(t, err)
	socket, _, b := benchtest.StartSite(t, site)
	dir := t.TempDir()
	c := exec.Command(driver.Built(t))
	c.Dir = dir
	c.Env = append(os.Environ(), "TERM=xterm-256color", "JANUSTAT_STATE="+filepath.Join(dir, "state"), "JANUSTAT_WIRE=bench:"+socket, "JANUSTAT_KEEP=0", "JANUSTAT_PASSPHRASE=")
	s := driver.NewScreen(t, c, 130, 50)
	const name, typed = "Quillmere Ferry Terminal", len("janustat\n")

	s.Sees("Enter: start a new job, step by step")
	s.Types("\r")
	s.Sees("What is the site called?")
	s.Press(name + "\r") // a name, which nobody can leave out
	s.Sees("Is that every device you installed?")
	s.Types("\r")
	s.Sees("Password of the recorder Ledger 16 at 10.61.8.10 (protected)")
	s.Types("Harbour-Light-42\r")
	s.Types(lastWord(s) + "\r")
	s.Sees("1. camera Dome 420 at 10.61.8.47 (protected)")
	s.Sees("Which are the site's?")
	s.Types("\r")
	s.Sees("$ janustat leave 02:e4:42:00:01:99")
	s.Sees("have no name yet")
	s.Types("\r")
	s.Sees("recorder channels: 18 cameras on the free channels of R01 R02")
	s.Sees("Write that into the job sheet?")
	s.Types("\r")
	s.Sees("Type 33 to set up 33 devices")
	s.Types("33\r")
	s.Sees("Done. The handover record:")
	assert.Equal(t, 0, s.Ends())
	s.AsItWas()
	t.Logf("%d keys, and the site's name", typed+s.Keys())
	assert.Less(t, typed+s.Keys(), 40)
	assert.FileExists(t, filepath.Join(dir, "quillmere-ferry-terminal", "handover", "handover.pdf"))
	_ = b
}

// lastWord reads the last word of the passphrase that is shown.
func lastWord(s *driver.Screen) string {
	text := s.Sees("Type its last word")
	_, text, _ = strings.Cut(text, "It opens with this passphrase:")
	words := strings.Fields(strings.Split(strings.TrimSpace(text), "\n")[0])
	return words[len(words)-1]
}

const smallSite = `
site: Small
seed: 2
laptop: {mac: "02:1a:70:00:00:01", addresses: [10.61.8.200/23]}
devices:
  - {id: dome, model: verrine-dome, mac: "02:e4:42:00:01:01", serial: VD, count: 2, restart: 1s}
`

// person sits at a terminal in a folder of their own.
type person struct {
	t   *testing.T
	dir string
	env []string
}

func (p person) types(args ...string) *driver.Screen {
	p.t.Helper()
	c := exec.Command(driver.Built(p.t), args...)
	c.Dir = p.dir
	c.Env = append(append(os.Environ(), "TERM=xterm-256color", "JANUSTAT_STATE="+filepath.Join(p.dir, "state"), "JANUSTAT_PASSPHRASE="), p.env...)
	return driver.NewScreen(p.t, c, 100, 40)
}

// The guided way is stopped at every question, and goes on from there the next time; a slip
// in typing the passphrase costs a line.
func TestTheGuidedWayStopsAndGoesOn(t *testing.T) {
	t.Parallel()
	socket, _ := benchtest.Start(t, smallSite)
	p := person{t, t.TempDir(), []string{"JANUSTAT_WIRE=bench:" + socket, "JANUSTAT_KEEP=0"}}
	s := p.types("go")
	s.Sees("What is the site called?")
	s.Press("q\r")
	assert.Equal(t, 0, s.Ends())
	s.Sees("To continue: `janustat go`")

	s = p.types("go")
	s.Sees("What is the site called?")
	s.Press("Quay & Co\r")
	s.Sees("2 cameras. Is that every device you installed?")
	s.Press("s\r") // look again
	s.Sees("Nothing new or changed since the last survey")
	s.Until("the question again", func(text string) bool { return strings.HasSuffix(text, "q: stop here)") })
	s.Press("q\r")
	assert.Equal(t, 0, s.Ends())

	p.dir = filepath.Join(p.dir, "quay-co")
	p.env = append(p.env, "JANUSTAT_JOB="+p.dir)
	s = p.types()
	s.Sees("Enter: continue the job, step by step")
	s.Press("\r")
	s.Sees("Is that every device you installed?")
	s.Press("2\r") // the number that was hung
	s.Sees("everything expected is there")
	s.Until("the question again", func(text string) bool { return strings.HasSuffix(text, "q: stop here)") })
	s.Press("\r")
	s.Sees("have no name yet")
	s.Press("q\r")
	assert.Equal(t, 0, s.Ends())

	s = p.types("go")
	s.Sees("have no name yet")
	s.Press("\r")
	s.Sees("Type 2 to set up 2 devices")
	s.Press("2\r")
	s.Sees("Type its last word, or a passphrase of your own")
	s.Press("quay\r")
	s.Sees("That is not the last word of")
	s.Press("quay co\r")
	s.Sees("this passphrase will not do")
	s.Press("four gulls over water\r")
	s.Sees("Your own passphrase once more")
	s.Press("four gulls over water\r")
	s.Sees("Done. The handover record:")
	assert.Equal(t, 0, s.Ends())

	s = p.types("key", "list")
	s.Sees("passphrase of the job's keyring")
	s.Press("four gulls over watre\r")
	s.Sees("does not open the keyring: once more")
	s.Until("the question again", func(text string) bool { return strings.Count(text, "passphrase of the job's keyring:") == 2 })
	s.Press("four gulls over water\r")
	s.Sees("keyed")
	assert.Equal(t, 0, s.Ends())
	s.AsItWas()

	s = p.types()
	s.Sees("nothing is open, and the record in handover is up to date")
	assert.Equal(t, 0, s.Ends())
}

// The kernel keeps a passphrase that was typed, until it is told to forget it.
func TestThePassphraseIsAskedForOnce(t *testing.T) {
	t.Parallel()
	socket, _ := benchtest.Start(t, smallSite)
	p := person{t, t.TempDir(), []string{"JANUSTAT_WIRE=bench:" + socket}}
	run := func(args ...string) {
		t.Helper()
		c := exec.Command(driver.Built(t), args...)
		c.Dir, c.Env = p.dir, append(os.Environ(), "JANUSTAT_STATE="+filepath.Join(p.dir, "state"), "JANUSTAT_WIRE=bench:"+socket, "JANUSTAT_PASSPHRASE=ferry at quillmere")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%v\n%s", args, out)
	}
	run("begin", "quay", "--subnet", "10.61.8.0/23")
	p.dir = filepath.Join(p.dir, "quay")
	run("survey")
	run("take", "all", "--yes")
	run("allot")
	run("commission", "--yes")
	s := p.types("key", "list")
	s.Sees("passphrase of the job's keyring")
	s.Press("ferry at quillmere\r")
	s.Sees("kept in the system's memory for 1h")
	assert.Equal(t, 0, s.Ends())
	s = p.types("prove")
	assert.Equal(t, 0, s.Ends())
	assert.NotContains(t, s.All(), "passphrase of")
	s = p.types("key", "lock")
	s.Sees("the passphrase is forgotten")
	s = p.types("key", "list")
	s.Sees("passphrase of the job's keyring")
	s.Press("\x03")
	assert.Equal(t, 1, s.Ends(), "interrupted")
	s.AsItWas()
}

// Without a person, and told so, the guided way goes as far as it can.
func TestTheGuidedWayByItself(t *testing.T) {
	t.Parallel()
	socket, _ := benchtest.Start(t, smallSite)
	dir := t.TempDir()
	run := func(args ...string) (int, string) {
		c := exec.Command(driver.Built(t), args...)
		c.Dir = dir
		c.Env = append(os.Environ(), "JANUSTAT_STATE="+filepath.Join(dir, "state"), "JANUSTAT_WIRE=bench:"+socket, "JANUSTAT_PASSPHRASE=ferry at quillmere")
		out, _ := c.CombinedOutput()
		return c.ProcessState.ExitCode(), string(out)
	}
	code, out := run("begin", "quay", "--subnet", "10.61.8.0/23")
	require.Equal(t, 0, code, out)
	code, out = run("go", "--yes", "--job", "quay")
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "$ janustat commission --yes")
	assert.FileExists(t, filepath.Join(dir, "quay", "handover", "handover.pdf"))
	c := exec.Command(driver.Built(t), "reset", "C01", "--job", "quay")
	c.Dir, c.Stdin = dir, strings.NewReader("C01\n")
	c.Env = append(os.Environ(), "JANUSTAT_STATE="+filepath.Join(dir, "state"), "JANUSTAT_WIRE=bench:"+socket, "JANUSTAT_PASSPHRASE=ferry at quillmere")
	told, err := c.CombinedOutput()
	require.NoError(t, err, string(told))
	code, out = run("go", "--yes", "--job", "quay")
	assert.Equal(t, 0, code, out)
	assert.Contains(t, out, "$ janustat restore C01 --yes", "a device that was reset is brought back")
	assert.Contains(t, out, "2 of 2 devices proved")
	code, out = run("go", "--yes", "--json")
	assert.Equal(t, 2, code, out)
}
