// Package commission carries one device through its steps (password, clock,
// name, address, restart, verification) and runs a crew over many devices.
//
// It decides and orders; what it needs of the world comes in through Site,
// Session, Journal and Attempts. It starts no goroutine and reads no clock of
// its own.
package commission

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/secret"
)

// Step is one thing done to a device.
type Step string

// The steps, in the order of a device that needs all of them.
const (
	StepVisit   Step = "visit"    // take a visitor address in its subnet
	StepFind    Step = "find"     // meet it at its old or its new address
	StepKey     Step = "key"      // create the administrator
	StepFirst   Step = "first"    // create the administrator, where it may have one already
	StepRekey   Step = "rekey"    // give an administrator another password
	StepClock   Step = "clock"    // set UTC
	StepName    Step = "name"     // set the name
	StepPicture Step = "picture"  // name its picture sources, and show the name in the picture
	StepDNS     Step = "dns"      // set the DNS servers
	StepNTP     Step = "ntp"      // set the NTP servers, and the clock to follow them
	StepChannel Step = "channel"  // have a recorder record a camera
	StepPair    Step = "pair"     // tell a door or indoor station of the other
	StepRest    Step = "rest"     // have a recorder not connect to a camera for a while
	StepPart    Step = "part"     // have a door or indoor station forget the other
	StepReport  Step = "report"   // tell a panel which server it reports to
	StepAwait   Step = "await"    // wait for other devices of the job
	StepUnlock  Step = "unlock"   // wait until a device that its recorder has locked answers again
	StepFare    Step = "fare"     // wait until links do what they are for
	StepUser    Step = "user"     // create a further user, or give one its level and password
	StepProbe   Step = "probe"    // RFC 5227 probe of the allotted address
	StepAddress Step = "address"  // set address and mask, DHCP off
	StepGateway Step = "gateway"  // set the default gateway
	StepRestart Step = "restart"  // restart it, where it asks for that
	StepReturn  Step = "return"   // wait for it to come back
	StepVerify  Step = "verify"   // read everything back
	StepDismiss Step = "dismiss"  // take a further user away that the job has made
	StepDHCP    Step = "dhcp"     // have it ask for its address by DHCP, as it was found
	StepFlash   Step = "firmware" // replace its firmware
	StepReset   Step = "reset"    // back to the factory state
	StepPower   Step = "power"    // a person powers it off and on, to open its settings window
	StepHand    Step = "by hand"  // a person types the address into the device
	StepTurn    Step = "turn"     // wait for a place in the crew
	StepOpen    Step = "open"     // wait until its service answers
	StepRead    Step = "read"     // make sure who it is, open it and read it
)

// Manner is how a device comes to its address.
type Manner string

// The manners.
const (
	ByService     Manner = ""            // by its device service
	ByHand        Manner = "by hand"     // typed in by a person: it speaks nothing that can be configured
	ByReservation Manner = "reservation" // leased by DHCP, and nothing else can be configured
)

// ClockTolerance is how far a device's clock may be off when it is proved.
const ClockTolerance = 2 * time.Second

// clockSet is how far it may be off before it is set. Devices tell whole seconds, so
// that two readings of one clock differ by up to one. A slow reading tells less, but
// what would not be proved is always set.
const clockSet = ClockTolerance - time.Second

// ErrReplyLost is wrapped by a Session when a request was sent and no answer
// came: whether it was carried out is unknown (safety rule 6).
var ErrReplyLost = errors.New("no reply")

// ErrWindow is wrapped by a Session when the device takes no settings now: some
// take them only for a while after power-on.
var ErrWindow = errors.New("takes no settings now")

// ErrShut is wrapped by a Session whose other end refuses the password that has opened it in
// the same conversation, and was sent it twice since.
var ErrShut = errors.New("its password was changed, or another device answers there")

// LockedError tells that a device says that it answers no password now, since too many
// were wrong.
type LockedError struct {
	Wait evidence.Heard[time.Duration] // how long yet; 0 where it does not say
	By   evidence.Witness              // of its word; none where anybody may have said it
}

// Error says so. No longer wait is told than the budget of tries would ask for by itself.
func (e *LockedError) Error() string {
	text := "locked after too many wrong passwords"
	if wait := e.Wait.Said(); wait > 0 {
		text += fmt.Sprintf(", for another %s", min(wait, secret.BudgetWindow))
	}
	if !e.By.Stands() {
		text = "it says that it is " + text + "; anybody on the LAN may have sent that"
	}
	return text
}

// Proven gives how long it is locked, where it has proved who says so.
func (e *LockedError) Proven() (evidence.Proven[time.Duration], bool) {
	return evidence.Prove(e.By, e.Wait.Said())
}

// PasswordError is wrapped by a Session whose other end refuses a password that is set, or the
// name of the user that it is for.
type PasswordError struct {
	Objection secret.Objection
	Err       error
}

// Error gives what the device said.
func (e *PasswordError) Error() string { return e.Err.Error() }

// Unwrap gives what the device said.
func (e *PasswordError) Unwrap() error { return e.Err }

// ErrInUse is wrapped by a Claim when something else answers for the address.
var ErrInUse = errors.New("address in use")

// Write is what is about to be sent to a device.
type Write struct {
	Step   Step   `json:"step"`
	Intent string `json:"intent"` // in words
	// Value is what the journal keeps of it, as JSON; nil is its words.
	Value any `json:"-"`
	// InClear tells that it carries a password without encryption.
	InClear bool `json:"in_clear,omitempty"`
}

// Status is how a device's commissioning ended.
type Status string

// The statuses.
const (
	Done     Status = "done"
	NeedsYou Status = "needs you"
	NotTried Status = "not tried"
)

// Result is how commissioning one device ended.
type Result struct {
	Plan   Plan
	Status Status
	Reason string        // why it needs the installer
	Next   advice.Advice // what the installer can do
	Writes []Step        // writes carried out, in order
	Opened bool          // a password opened it
	Sent   bool          // a first password was sent to it
	Key    Credential    // which one, or the one that took its place
	// Refused are the keys that it has proved not to be opened by, and Doubted those that
	// were refused by a word that anybody may have said.
	Refused []evidence.Proven[Credential]
	Doubted []Credential
	// Admitted are further users that were given a password and have opened it since.
	Admitted []string
	// Pins are the keys, in tongues that have such, that it has proved to have.
	Pins map[device.Tongue]string
	// Alarm says why nothing was offered to it, where it is not what it was.
	Alarm string
	// Hammered are the devices on which it tried a password that is not the keyring's, until it
	// was told the right one in this run.
	Hammered []int64
	// Locked is for how long yet it says that it answers no password; 0 where it says nothing.
	Locked time.Duration
	// Reset tells that it was put back into its factory state, or may have been.
	Reset Outcome
	// Flashed is what came of its firmware, where that was to be replaced; nil where it was not come to.
	Flashed *Flashed
	// Factory tells that a factory password opens it still.
	Factory bool
	// KeepsOnly is how many characters of a password it has shown to keep; 0 where it has not.
	KeepsOnly int
	At        netip.Addr // where it was last met
	// Reserved tells that the device takes no static address, so that it keeps
	// the allotted one by a reservation on the site's DHCP server.
	Reserved bool
	Spent    map[Step]time.Duration // by step; what they leave of Took went into nothing of these
	Took     time.Duration          // from its beginning to its end
	Left     Found
	Notes    []string // what the installer may want to know, though nothing has to be done
}

// Outcome is what became of a write.
type Outcome string

// The outcomes.
const (
	OutcomeNone    Outcome = ""
	OutcomeDone    Outcome = "done"
	OutcomeRefused Outcome = "refused"
	OutcomeUnknown Outcome = "unknown"
)

// Trouble is an error that the installer has to deal with.
type Trouble struct {
	Reason string
	Next   advice.Advice
	Err    error
}

// Error gives the reason with its cause.
func (t *Trouble) Error() string {
	if t.Err != nil {
		return t.Reason + ": " + t.Err.Error()
	}
	return t.Reason
}

// Unwrap gives the cause.
func (t *Trouble) Unwrap() error { return t.Err }

func trouble(err error, next advice.Advice, reason string) error {
	return &Trouble{Reason: reason, Next: next, Err: err}
}
