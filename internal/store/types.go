// Package store is what a job is kept in: every device, what happened to it, and what was decided.
// How it is kept is said by the packages below, of which each passes conform.
package store

import (
	"encoding/json"
	"errors"
	"net/netip"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/lan"
)

// Entry is one step of a device's history.
type Entry struct {
	Step    string    `json:"step"`
	Intent  string    `json:"intent"`
	Begun   time.Time `json:"begun_at"`
	Outcome string    `json:"outcome"` // done, refused, unknown; empty when cut short
	Detail  string    `json:"detail,omitempty"`
	Ended   time.Time `json:"ended_at,omitzero"`
	InClear bool      `json:"in_clear,omitempty"` // carried a password without encryption
}

// SurveyRecord is what a survey saw beside devices.
type SurveyRecord struct {
	At     time.Time
	Took   time.Duration
	Found  int            // devices in the register
	Met    int            // that answered
	Laptop []netip.Prefix // the laptop's own addresses on the wire
	Offers []lan.Offer
	// Unasked are the subnets in which not every address was asked for.
	Unasked []lan.Unasked
}

// Proof is what one proving of a device gave.
type Proof struct {
	At     time.Time       `json:"at"`
	OK     bool            `json:"ok"`
	Checks json.RawMessage `json:"checks"`
}

// Notes is what a person knows of one device, by field.
type Notes map[string]string

// Before is what was there before a change that a person made and that touched no device.
type Before struct {
	What    string          `json:"what"` // in words: "take of 3 devices"
	At      time.Time       `json:"at"`
	Devices []device.Device `json:"devices"` // those that were changed
	// Sheet is the job sheet's text, nil where it was not changed; SheetAfter is the hash of
	// what it became.
	Sheet      []byte `json:"sheet,omitempty"`
	SheetAfter string `json:"sheet_after,omitempty"`
	// Rows are those of other tables, by table and column.
	Rows map[string][]map[string]any `json:"rows"`
}

// ErrNothingToUndo is returned where no change is kept.
var ErrNothingToUndo = errors.New("there is no change to take back")

// Try is one offer of a password that was not known to fit.
type Try struct {
	ID      string
	At      time.Time
	User    string
	Origin  commission.Origin
	Outcome string // fitted, refused, locked; empty where no answer came
	Hold    time.Duration
	Boot    string
	Booted  time.Duration
}

// The outcomes of a try.
const (
	TryFitted  = "fitted"
	TryRefused = "refused"
	TryLocked  = "locked"
)

// Age tells how long ago a try was. Within one start of the system its own clock counts,
// which no setting of the time moves.
func (t Try) Age(now time.Time, boot string, booted time.Duration) time.Duration {
	if t.Boot != "" && t.Boot == boot {
		return booted - t.Booted
	}
	return now.Sub(t.At)
}

// ErrGone is returned for a device that is not in the register any more.
var ErrGone = errors.New("it is gone from the register")

// ErrNewer is wrapped when a newer version of the program has written a file.
var ErrNewer = errors.New("written by a newer version of janustat")

// ErrReadOnly is wrapped when a job is to be changed in a folder that cannot be written.
var ErrReadOnly = errors.New("the job folder can be read only: copy it to where you can write, and give the copy with --job")
