package kernelwire

import "golang.org/x/sys/windows"

// What this system calls a connection that is refused, and a host that is not there: the names of
// package syscall are others, which no socket returns.
const (
	refusedError     = windows.WSAECONNREFUSED
	unreachableError = windows.WSAEHOSTUNREACH
)
