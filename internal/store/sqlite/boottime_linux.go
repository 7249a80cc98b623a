package sqlite

import (
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// bootMoment tells the moment by the time since the system started, which goes on while
// it sleeps and which nobody sets (clock_gettime(2), CLOCK_BOOTTIME), and which start it
// was (random(4), boot_id). An empty boot means that the system does not tell.
func bootMoment() (boot string, since time.Duration) {
	id, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "", 0
	}
	var t unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &t); err != nil {
		return "", 0
	}
	return strings.TrimSpace(string(id)), time.Duration(t.Nano())
}
