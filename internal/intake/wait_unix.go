//go:build unix

package intake

import "syscall"

// dontWait has opening a pipe that nobody writes to come back at once.
const dontWait = syscall.O_NONBLOCK
