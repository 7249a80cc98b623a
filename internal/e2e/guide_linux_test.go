package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
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

	s.Sees("Enter: be guided")
	s.Types("\r")
	s.Sees("What is the site called?")
	s.Press(name + "\r") // a name, which nobody can leave out
	s.Sees("Is that all that was hung?")
	s.Types("\r")
	s.Sees("Ledger 16 at 10.61.8.10 is protected. Its password")
	s.Types("Harbour-Light-42\r")
	s.Sees("A passphrase for the job's keyring")
	s.Types("\r")
	s.Sees("Write it down")
	s.Sees("10.61.8.47 is protected. Its password")
	s.Types("\r")
	s.Sees("without a name in the job sheet")
	s.Types("\r")
	s.Sees("Enter commissions 33 devices")
	s.Types("\r")
	s.Sees("That is the job. The record:")
	assert.Equal(t, 0, s.Ends())
	s.AsItWas()
	t.Logf("%d keys, and the site's name", typed+s.Keys())
	assert.Less(t, typed+s.Keys(), 40)
	assert.FileExists(t, filepath.Join(dir, "quillmere-ferry-terminal", "handover", "handover.pdf"))
	_ = b
}
