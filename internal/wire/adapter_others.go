//go:build !linux

package wire

import "fmt"

func openAdapter(name string) (Wire, error) {
	return nil, fmt.Errorf("%w: raw frames on %s need Linux; here --wire plain and bench:PATH work", ErrNoAdapter, name)
}

// OpenBridge needs packet sockets, which this system lacks.
func OpenBridge(name string) (Wire, error) { return openAdapter(name) }

// gone knows no errors of this system.
func gone(error) bool { return false }
