// Package setting is the kind of thing that a device is to have: what the job sheet says of it, when
// it is due, how it is read, set and proved, and how all that is told. Each is a folder of
// core/settings, and one list has them all.
package setting

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Name is that of a setting: of its step in the journal, of its check, and of its value in the record.
type Name string

// Values are those of a device, by setting, each in the form that its own package writes. A setting
// that the device does not tell is not among them.
type Values map[Name]string

// Setting is one of them.
type Setting struct {
	Name  Name
	Title string // in words, as in "refuses its RTSP port"
	Told  string // how the log tells it once it is set: a format of the value
	Head  string // of its column in a proof
	Holds string // when its check holds, in words

	// Key is where the job sheet says it, as in ports.rtsp; Form and Meaning are what its reference
	// says of that, and Otherwise what holds where the sheet says nothing.
	Key, Form, Meaning, Otherwise string
	// Check tells what is wrong with what the sheet says.
	Check func(said string) error
	// Wanted gives what a device is to have by what the sheet says; "" is nothing, and err says why
	// what is meant for it cannot be.
	Wanted func(said string, d Device) (value string, err error)

	// Ports reads what the sheet says of a port; nil is a setting that is none.
	Ports func(said string) (Ports, error)

	// Optional is a setting that a device need not have: one that does not tell it is left without.
	Optional bool
	// Watched is a setting that is read of every device, and is in its record, wanted or not.
	Watched bool
	// Untold is what is said of a device that has been opened and does not tell it; "" is nothing.
	Untold string
	// OneWay is a setting that is removed and cannot be put back as it was found.
	OneWay bool
	// Opens is a setting by which a device is spoken with: the conversation begins anew with it. Unless it is
	// one of the last, a device that takes it from everyone is given its first password after it.
	Opens bool
	// Last is a setting that is set once the device is at its address.
	Last bool
	// Read reads the value in a conversation that has the ability. told is false where the device
	// does not tell.
	Read func(ctx context.Context, conversation any) (value string, told bool, err error)
	// Settles is how long a device may take, once it is set, until its picture is there again; zero where
	// that does not change.
	Settles time.Duration
	// Set sets it.
	Set func(ctx context.Context, conversation any, value string) error
}

// Device is what a setting may go by.
type Device struct {
	Camera  bool         // it shows a picture: a camera, or a door station
	Address netip.Prefix // that it is to have, with its subnet
}

// OneOf gives the check of a setting for which the sheet has one of some words.
func OneOf(words ...string) func(said string) error {
	return func(said string) error {
		if !slices.Contains(words, said) {
			return fmt.Errorf("%q: write %s, or leave it out", said, strings.Join(words, " or "))
		}
		return nil
	}
}

// BrokenError tells that a device took a setting, and that nothing came of it: it is not set again in this
// run.
type BrokenError struct {
	Told string // to the installer, of the device
	Err  error
}

// Error says what came of it.
func (e *BrokenError) Error() string { return "it does not work: " + e.Err.Error() }

// Unwrap gives what came of it.
func (e *BrokenError) Unwrap() error { return e.Err }

// UnableError tells that a device has no ability in the tongue that is spoken with it.
type UnableError struct{ What string }

// Error names what it cannot do.
func (e *UnableError) Error() string { return "its " + e.What + " cannot be set over the LAN" }

// Able gives an ability of a conversation.
func Able[A any](conversation any, what string) (A, error) {
	a, ok := conversation.(A)
	if !ok {
		return a, &UnableError{what}
	}
	return a, nil
}
