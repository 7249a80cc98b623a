//go:build unix

package cli

import (
	"io/fs"
	"syscall"
)

// ownerOf gives the user whom a file belongs to.
func ownerOf(info fs.FileInfo) (uid int, known bool) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return int(s.Uid), true
}
