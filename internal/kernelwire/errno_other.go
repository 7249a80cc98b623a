//go:build !windows

package kernelwire

import "syscall"

// What a connection that is refused is called, and a host that is not there.
const (
	refusedError     = syscall.ECONNREFUSED
	unreachableError = syscall.EHOSTUNREACH
)
