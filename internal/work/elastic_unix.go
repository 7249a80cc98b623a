//go:build unix

package work

import (
	"time"

	"golang.org/x/sys/unix"
)

// processorTime gives the time that this process has used so far (getrusage(2)).
func processorTime() time.Duration {
	var u unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &u) != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
