//go:build !unix

package cli

import "io/fs"

// ownerOf is not known on this system.
func ownerOf(fs.FileInfo) (uid int, known bool) { return 0, false }
