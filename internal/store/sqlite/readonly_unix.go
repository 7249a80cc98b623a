//go:build unix

package sqlite

import "golang.org/x/sys/unix"

// writableDir reports whether files can be made in a folder.
func writableDir(dir string) bool { return unix.Access(dir, unix.W_OK) == nil }
