package policy

import (
	"time"

	"janustat/core/commission"
)

// Progress is what the journal tells of how far a device is.
type Progress struct {
	// Refused are the settings that it last refused, with what was to be set, as the journal has it.
	Refused map[commission.Step]string
	// Answered are the settings that it last took or refused, likewise.
	Answered         map[commission.Step]string
	HasAdministrator bool                        // it refused to create the first one
	InClear          bool                        // a password that it has now was set without encryption
	KeyInClear       bool                        // its administrator's was
	UsersInClear     map[commission.Account]bool // those of further users were
	Users            map[commission.Account]bool // further users made
	Pending          commission.Place            // an address that waits for a restart; zero without one
	Rekey            Sent                        // of the last password that replaced another
	Keyed            bool                        // it has confirmed a password of this job, and was not reset since
	Moved            bool                        // an address, a name or a restart was sent to it
	Certified        bool                        // a certificate of the site's own authority was sent to it, since it was last reset
	Reset            Sent                        // the last time that it was to be reset
}

// Sent is a write that was sent, or may have been.
type Sent struct {
	At        time.Time // when its intent was recorded; zero if there was none
	Confirmed bool      // by the device
}
