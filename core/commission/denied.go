package commission

import "errors"

// deniedError tells that the device itself has refused a write, and that this is on record.
type deniedError struct{ err error }

func (e *deniedError) Error() string { return e.err.Error() }

// Unwrap gives what the device said.
func (e *deniedError) Unwrap() error { return e.err }

// denied reports whether an error is the device's own refusal of a write, and no failure on the
// way to it or of the register.
func denied(err error) bool {
	var d *deniedError
	return errors.As(err, &d)
}
