package keeper

import (
	"errors"
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// kind is that of keys which hold what they are given (user_keyring(7)).
const kind = "user"

// ring is where the kernel's key retention service keeps it (keyrings(7)): the keyring of the
// session, or its user's where there is none. Asked for that of the session alone, the kernel
// would make one for this process, and it would be gone with it.
func ring() (int, error) {
	session, err := unix.KeyctlGetKeyringID(unix.KEY_SPEC_SESSION_KEYRING, false)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrNone, err)
	}
	users, err := unix.KeyctlGetKeyringID(unix.KEY_SPEC_USER_SESSION_KEYRING, false)
	if err != nil || session != users {
		return unix.KEY_SPEC_SESSION_KEYRING, nil
	}
	return unix.KEY_SPEC_USER_SESSION_KEYRING, nil
}

func keep(name, secret string, d time.Duration) error {
	in, err := ring()
	if err != nil {
		return err
	}
	id, err := unix.AddKey(kind, name, []byte(secret), in)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNone, err)
	}
	if _, err := unix.KeyctlInt(unix.KEYCTL_SET_TIMEOUT, id, int(d.Seconds()), 0, 0); err != nil {
		_, uerr := unix.KeyctlInt(unix.KEYCTL_UNLINK, id, in, 0, 0)
		return errors.Join(fmt.Errorf("%w: %w", ErrNone, err), uerr) // not for ever
	}
	return nil
}

func get(name string) (string, bool) {
	in, err := ring()
	if err != nil {
		return "", false
	}
	id, err := unix.KeyctlSearch(in, kind, name, 0)
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
	in, err := ring()
	if err != nil {
		return nil // then none is kept
	}
	id, err := unix.KeyctlSearch(in, kind, name, 0)
	if errors.Is(err, unix.ENOKEY) || errors.Is(err, unix.EKEYEXPIRED) || errors.Is(err, unix.EKEYREVOKED) {
		return nil
	}
	if err == nil {
		_, err = unix.KeyctlInt(unix.KEYCTL_UNLINK, id, in, 0, 0)
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNone, err)
	}
	return nil
}
