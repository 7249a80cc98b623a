package killed

import (
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/internal/e2e/driver"
)

// TestADiskThatFillsInTheMiddle fills the disk that holds the job at each kind of
// step: what the program cannot record it does not do, and says so. Where all that was left found
// room in the files that were there, it may end well; what it did then is right like any other.
func TestADiskThatFillsInTheMiddle(t *testing.T) {
	t.Parallel()
	driver.NeedRoot(t)
	k := newKiller(t, twelve)
	k.program = driver.Built(t)
	k.folder = func() string { return driver.SmallDisk(t, "3m") }
	var failed atomic.Int64
	steps := []string{"key ", "rekey", "name", "user", "ntp", "address", "restart"}
	for _, step := range steps {
		k.try("a disk that fills at the step "+step, func(c *exec.Cmd) {
			if untilItSays(t, c, step) {
				fill := driver.FillDisk(t, filepath.Dir(jobOf(c)))
				if c.Wait() != nil {
					failed.Add(1)
				}
				assert.NoError(t, os.Remove(fill))
			}
		})
	}
	k.wait.Wait()
	assert.GreaterOrEqual(t, failed.Load(), int64(len(steps)-2), "it says so where it could not record")
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
