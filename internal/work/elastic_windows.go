package work

import (
	"time"

	"golang.org/x/sys/windows"
)

// processorTime gives the time that this process has used so far (GetProcessTimes).
func processorTime() time.Duration {
	var made, ended, kernel, user windows.Filetime
	if windows.GetProcessTimes(windows.CurrentProcess(), &made, &ended, &kernel, &user) != nil {
		return 0
	}
	ticks := func(f windows.Filetime) int64 { return int64(f.HighDateTime)<<32 | int64(f.LowDateTime) } // of 100 ns
	return time.Duration(100 * (ticks(kernel) + ticks(user)))
}
