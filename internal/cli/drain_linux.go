package cli

import "golang.org/x/sys/unix"

// drain forgets what was typed on a terminal and not read yet (POSIX, tcflush: TCIFLUSH).
func drain(fd int) { _ = unix.IoctlSetInt(fd, unix.TCFLSH, unix.TCIFLUSH) } // a terminal that is gone has nothing
