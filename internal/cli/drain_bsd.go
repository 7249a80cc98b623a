//go:build darwin || dragonfly || freebsd || netbsd || openbsd

package cli

import "golang.org/x/sys/unix"

// drain forgets what was typed on a terminal and not read yet (TIOCFLUSH with FREAD).
func drain(fd int) { _ = unix.IoctlSetPointerInt(fd, unix.TIOCFLUSH, 1) } // a terminal that is gone has nothing
