//go:build !linux

package sqlite

import "time"

// bootMoment is told on Linux only; elsewhere the clock on the wall has to do.
func bootMoment() (boot string, since time.Duration) { return "", 0 }
