package killed

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/internal/e2e/driver"
)

// TestADiskThatFillsInTheMiddle fills the disk that holds the job at each kind of
// step: what the program cannot record it does not do, and says so.
func TestADiskThatFillsInTheMiddle(t *testing.T) {
	t.Parallel()
	driver.NeedRoot(t)
	k := newKiller(t, twelve)
	k.program = driver.Built(t)
	k.folder = func() string { return driver.SmallDisk(t, "3m") }
	for _, step := range []string{"key ", "rekey", "name", "user", "ntp", "address", "restart"} {
		k.try("a disk that fills at the step "+step, func(c *exec.Cmd) {
			if untilItSays(t, c, step) {
				fill := driver.FillDisk(t, filepath.Dir(jobOf(c)))
				assert.Error(t, c.Wait(), "it cannot end well")
				assert.NoError(t, os.Remove(fill))
			}
		})
	}
	k.wait.Wait()
}

// jobOf is the folder that a command is to work in.
func jobOf(c *exec.Cmd) string {
	for i, a := range c.Args {
		if a == "--job" {
			return c.Args[i+1]
		}
	}
	return ""
}
