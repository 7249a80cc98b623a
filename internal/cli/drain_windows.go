package cli

import "golang.org/x/sys/windows"

// drain forgets what was typed in a console and not read yet.
func drain(fd int) { _ = windows.FlushConsoleInputBuffer(windows.Handle(fd)) } // a console that is gone has nothing
