package keeper

import (
	"errors"
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// The kernel's key retention service (keyrings(7), user-session-keyring(7)): the session's
// keyring, or the user's where there is none.
const (
	ring = unix.KEY_SPEC_SESSION_KEYRING
	kind = "user"
)

func keep(name, secret string, d time.Duration) error {
	id, err := unix.AddKey(kind, name, []byte(secret), ring)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNone, err)
	}
	if _, err := unix.KeyctlInt(unix.KEYCTL_SET_TIMEOUT, id, int(d.Seconds()), 0, 0); err != nil {
		_, uerr := unix.KeyctlInt(unix.KEYCTL_UNLINK, id, ring, 0, 0)
		return errors.Join(fmt.Errorf("%w: %w", ErrNone, err), uerr) // not for ever
	}
	return nil
}

func get(name string) (string, bool) {
	id, err := unix.KeyctlSearch(ring, kind, name, 0)
	if err != nil {
		return "", false
	}
	buf := make([]byte, 64<<10)
	n, err := unix.KeyctlBuffer(unix.KEYCTL_READ, id, buf, 0)
	if err != nil || n > len(buf) {
		return "", false
	}
	return string(buf[:n]), true
}

func drop(name string) error {
	id, err := unix.KeyctlSearch(ring, kind, name, 0)
	if errors.Is(err, unix.ENOKEY) || errors.Is(err, unix.EKEYEXPIRED) || errors.Is(err, unix.EKEYREVOKED) {
		return nil
	}
	if err == nil {
		_, err = unix.KeyctlInt(unix.KEYCTL_UNLINK, id, ring, 0, 0)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNone, err)
	}
	return nil
}
