//go:build !linux

package wire

import "janustat/core/lan"

// more knows nothing further on this system.
func more(*lan.Adapter) {}
