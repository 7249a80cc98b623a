//go:build unix

package cli

import "golang.org/x/sys/unix"

// ahead reports whether a further line waits on a terminal already.
func ahead(fd int) bool {
	n, err := unix.Poll([]unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}, 0)
	return err == nil && n > 0
}
