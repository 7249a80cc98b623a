// Package advice says what to do next about what went wrong, without saying by which
// command: that is for whoever shows it.
package advice

import (
	"errors"
	"fmt"
	"strings"
)

// Act is something that the program can be told to do next.
type Act string

// The acts.
const (
	Admit           Act = "commission newcomers" // carry it out, new devices included
	Allot           Act = "allot"                // decide addresses
	AllotAgain      Act = "allot again"          // decide that of one device anew
	Renumber        Act = "renumber"             // decide it anew whatever address it has now
	Commission      Act = "commission"           // carry it out
	Firmware        Act = "firmware"             // bring devices to the versions that are agreed on
	Handover        Act = "handover"             // write the record
	KeyAdd          Act = "key add"              // put a password of earlier work on the keyring
	KeyChange       Act = "key change"           // give a device, or a user on it, a new password
	KeyGenerate     Act = "key generate"         // make a site password
	KeyList         Act = "key list"             // show which devices have a key
	KeySet          Act = "key set"              // put a device's password, or the site's, on the keyring
	Leave           Act = "leave"                // never touch a device
	Lease           Act = "lease"                // give devices without an address theirs by DHCP
	ListAll         Act = "list all"             // show everything that is known
	Prove           Act = "prove"                // read everything back
	ReplaceChannels Act = "replace channels"     // give the job's cameras channels that others have, on one recorder
	Reset           Act = "reset"                // put a device back into its factory state
	Restore         Act = "restore"              // bring a reset device, or its replacement, back
	Swap            Act = "swap"                 // give two devices each other's tags
	Show            Act = "show"                 // show one device
	Survey          Act = "survey"               // find what is on the LAN
	Take            Act = "take"                 // put a device into the job
	TakeByHand      Act = "take by hand"         // the same, of one that does not say what it is
	TakeAll         Act = "take all"             // put everything that can be set up into the job
	UseWire         Act = "use adapter"          // do so on the adapter that is named
	Web             Act = "web"                  // open a device's own page
	Wire            Act = "wire"                 // look at what the laptop is plugged into
	WireByName      Act = "wire by name"         // the same, of an adapter that is named
)

// Acts are all of them, for those who have to put each into words.
var Acts = []Act{
	Admit, Allot, AllotAgain, Commission, Firmware, Handover, KeyAdd, KeyChange, KeyGenerate, KeyList, KeySet, Lease, Leave, ListAll,
	Prove, Renumber, ReplaceChannels, Reset, Restore, Show, Survey, Swap, Take, TakeAll, TakeByHand, UseWire, Web, Wire, WireByName,
}

// Step is an act with what it is done to: a device's tag, and the name of a user on it.
// Both may be empty.
type Step struct {
	Act      Act
	On, User string
}

// On gives the act done to one device.
func (a Act) On(tag string) Step { return Step{Act: a, On: tag} }

// OfUser gives the step for one user of the device.
func (s Step) OfUser(name string) Step { s.User = name; return s }

// Advice is a sentence with steps in it. The zero value is none.
type Advice struct {
	format string
	args   []any
}

// Say makes advice of a format as for fmt.Sprintf, whose %s may stand for an Act or a Step.
func Say(format string, args ...any) Advice { return Advice{format, args} }

// IsZero reports whether there is nothing to say.
func (a Advice) IsZero() bool { return a.format == "" }

// Text gives the sentence, with every step as put tells it; nil is in plain words.
func (a Advice) Text(put func(Step) string) string {
	if put == nil {
		return a.String()
	}
	if len(a.args) == 0 {
		return a.format
	}
	said := make([]any, len(a.args))
	for i, x := range a.args {
		switch x := x.(type) {
		case Act:
			said[i] = put(Step{Act: x})
		case Step:
			said[i] = put(x)
		default:
			said[i] = x
		}
	}
	return fmt.Sprintf(a.format, said...)
}

// String gives the sentence with the acts in plain words, for logs and tests.
func (a Advice) String() string {
	return a.Text(func(s Step) string {
		text := string(s.Act)
		for _, word := range []string{s.On, s.User} {
			if word != "" {
				text += " " + word
			}
		}
		return text
	})
}

// Error is an error with what to do about it.
type Error struct {
	Err  error
	Next Advice
}

// Error gives both, the acts in plain words.
func (e *Error) Error() string { return e.Err.Error() + ": " + e.Next.String() }

// Unwrap gives the error without the advice.
func (e *Error) Unwrap() error { return e.Err }

// Wrap gives err with advice, made as by Say.
func Wrap(err error, format string, args ...any) error {
	return &Error{Err: err, Next: Say(format, args...)}
}

// TextOf gives the text of an error, with every step of its advice as put tells it.
func TextOf(err error, put func(Step) string) string {
	text := err.Error()
	var e *Error
	if errors.As(err, &e) {
		text = strings.Replace(text, e.Next.String(), e.Next.Text(put), 1)
	}
	return text
}
