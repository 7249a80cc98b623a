// Package commission carries one device through its steps (password, clock,
// name, address, restart, verification) and runs a crew over many devices.
//
// It decides and orders; what it needs of the world comes in through Site,
// Session, Journal and Attempts. It starts no goroutine and reads no clock of
// its own.
package commission

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/ground"
	"janustat/core/secret"
)

// Step is one thing done to a device.
type Step string

// The steps, in the order of a device that needs all of them.
const (
	StepVisit   Step = "visit"   // take a visitor address in its subnet
	StepFind    Step = "find"    // meet it at its old or its new address
	StepKey     Step = "key"     // create the administrator
	StepFirst   Step = "first"   // create the administrator, where it may have one already
	StepRekey   Step = "rekey"   // give an administrator another password
	StepClock   Step = "clock"   // set UTC
	StepZone    Step = "zone"    // set the time zone
	StepName    Step = "name"    // set the name
	StepPicture Step = "picture" // name its picture sources, and show the name in the picture
	StepDNS     Step = "dns"     // set the DNS servers
	StepNTP     Step = "ntp"     // set the NTP servers, and the clock to follow them
	StepChannel Step = "channel" // have a recorder record a camera
	StepPair    Step = "pair"    // tell a door or indoor station of the other
	StepRest    Step = "rest"    // have a recorder not connect to a camera for a while
	StepPart    Step = "part"    // have a door or indoor station forget the other
	StepReport  Step = "report"  // tell a panel which server it reports to
	StepAwait   Step = "await"   // wait for other devices of the job
	StepUnlock  Step = "unlock"  // wait until a device that its recorder has locked answers again
	StepFare    Step = "fare"    // wait until links do what they are for
	StepUser    Step = "user"    // create a further user, or give one its level and password
	StepProbe   Step = "probe"   // RFC 5227 probe of the allotted address
	StepAddress Step = "address" // set address and mask, DHCP off
	StepGateway Step = "gateway" // set the default gateway
	StepRestart Step = "restart" // restart it, where it asks for that
	StepReturn  Step = "return"  // wait for it to come back
	StepVerify  Step = "verify"  // read everything back
	StepDismiss Step = "dismiss" // take a further user away that the job has made
	StepDHCP    Step = "dhcp"    // have it ask for its address by DHCP, as it was found
	StepReset   Step = "reset"   // back to the factory state
	StepPower   Step = "power"   // a person powers it off and on, to open its settings window
	StepHand    Step = "by hand" // a person types the address into the device
	StepTurn    Step = "turn"    // wait for a place in the crew
	StepOpen    Step = "open"    // wait until its service answers
	StepRead    Step = "read"    // make sure who it is, open it and read it
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

// Plan is what one device is to become.
type Plan struct {
	ID       int64
	Tag      string
	MAC      device.MAC
	Ports    []device.MAC // of its interfaces: what they answer for is its own
	Serial   string
	Endpoint string     // WS-Discovery endpoint reference; "" is not known
	From     netip.Addr // where it was last met
	// Target is what it is to have: address, prefix, gateway, name, time zone and servers.
	// DHCP means that it keeps the address by a reservation. Empty ones are left as they are.
	Target device.Settings
	// Pictures tells that its pictures are to show its name.
	Pictures bool
	// Tongues are those it can be set up by; the first opens it. None is the standard one.
	Tongues []device.Tongue
	Pins    map[device.Tongue]string // its keys, in tongues that have such
	Peer    Peer                     // as others are told of it
	// Watched is the user that others watch its stream by; "" is none.
	Watched string
	// Links are what it is to know of other devices, but for its channels.
	Links []Link
	// Factory tells that Password is a factory one, known to all: it is replaced at once, and
	// a device that keeps it is not done.
	Factory bool
	// Formers are units that had the place of a station that it is paired with.
	Formers  []Peer
	Partings []Peer    // stations that it was told of by this job, and is to forget
	Channels *Channels // of a recorder; nil leaves them as they are
	// Unnamed is the name of a device that has none; "" leaves it without.
	Unnamed  string
	Manner   Manner
	User     string // administrator's name
	Password secret.Password
	Service  string      // of its device service: [:port]path
	TLS      *device.TLS // the service over HTTPS; then nothing else is spoken with it
	// Login is how it was logged in to before; a weaker login is not made. "" is not known.
	Login device.Login
	// ClockSet tells that its clock was set by this job: where it has leapt ahead since, no
	// token is made by it.
	ClockSet bool
	// MuteTLS tells that it offers HTTPS and why that could not be spoken: then nothing is
	// offered to it in the open.
	MuteTLS string
	// RequireTLS refuses to send a password that is to be set without encryption.
	RequireTLS bool
	// Known tells that it was opened before: one that says it has no password then is not
	// what it was, and is sent none.
	Known bool
	// Unconfirmed tells that its password was sent to it in an earlier run, and that nothing
	// has opened it since: it may keep only a part of that. Untried leaves out the keys that
	// it has proved to refuse; it may be nil. OwnLast tells that its own was refused before.
	Unconfirmed bool
	OwnLast     bool
	// KeepsOnly is how many characters of a password it is known to keep; 0 is all, for all that
	// is known.
	KeepsOnly int
	Untried   func([]Credential) []Credential
	// Model is what it is, "" where that is not known; Met tells that one of these was given
	// a password by this job before. Of others, one goes first.
	Model string
	Met   bool
	// Renewing tells that an earlier run was cut short after it had sent an address, a name
	// or a restart, at which some devices make themselves another certificate.
	Renewing bool
	// Stop keeps everything from being sent to the device; nil for all that can be planned.
	Stop  *Trouble
	Users []User // further users it is to have
	// Pending tells that the device has confirmed its address in an earlier run, for
	// its next restart, and was not restarted since.
	Pending bool
	// Others are further keys to try, in order, when the password does not open it
	// or there is none: one that a change was about to give it, those of earlier
	// work, and known factory ones.
	Others []Credential
	// Replace is what a factory password is replaced by; it is on the keyring.
	Replace secret.Password
	// Refused are the settings that it refused in an earlier run, with what was to be set:
	// the same is not asked of it again.
	Refused map[Step]string
	// Answered are the settings that it took or refused in earlier runs, with what was to be
	// set: those that it does not tell are not written again.
	Answered map[Step]string
	// First is a password for this device alone, by which it is tried whether a device that
	// hides its users has an administrator yet: creating the first one asks for no password,
	// so that it gives none away and locks nothing. It is on the keyring as Replace; zero
	// where that is not to be tried.
	First secret.Password
	// Another gives what a device is offered in the place of a key that it has refused at a
	// step (StepKey, StepFirst, StepRekey or StepUser): a password of another form or, at the
	// first two, another name for its user. It has it on the keyring before it returns, and knows in later runs
	// what was refused; zero where there is none. It may be nil.
	Another func(s Step, refused Credential, o secret.Objection) (Credential, error)
	// NameBySerial gives the name for a serial number that was not known when the
	// plan was made, or ""; it may be nil.
	NameBySerial func(serial string) string
}

// name is what the device is to be called, given what it is called.
func (p Plan) name(now string) string {
	if p.Target.Name == "" && strings.TrimSpace(now) == "" {
		return p.Unnamed
	}
	return p.Target.Name
}

// Level is what a user may do (ONVIF Core Specification, tt:UserLevel).
type Level string

// The levels.
const (
	Administrator Level = "Administrator"
	Operator      Level = "Operator"
	Viewer        Level = "User"
)

// Account is a user as the device lists it.
type Account struct {
	Name  string
	Level Level
}

// Is reports whether two accounts are the same: devices write names and levels in a case
// of their own.
func (a Account) Is(o Account) bool {
	return a.Named(o.Name) && strings.EqualFold(string(a.Level), string(o.Level))
}

// Named reports whether an account has a name, in any case.
func (a Account) Named(name string) bool { return strings.EqualFold(a.Name, name) }

// User is a further user that a device is to have.
type User struct {
	Account
	Password secret.Password // on the keyring
	Made     bool            // an earlier run gave it this password, confirmed by the device
}

// Credential is a key that may open a device.
type Credential struct {
	User     string
	Password secret.Password
	Origin   Origin
}

// Same reports whether two keys are one, wherever they come from.
func (k Credential) Same(o Credential) bool { return k.User == o.User && k.Password == o.Password }

// Origin is where a key comes from.
type Origin string

// The origins.
const (
	FromKeyring Origin = ""        // the device's own
	FromChange  Origin = "change"  // its next one, of a change that was cut short
	FromEarlier Origin = "earlier" // of earlier work
	FromFactory Origin = "factory" // known to all
	FromSent    Origin = "sent"    // sent to it once, and neither confirmed nor followed by one that was
	FromCut     Origin = "cut"     // the beginning of one that was sent
)

// Found is one reading of a device.
type Found struct {
	Make, Model string
	Serial      string
	MACs        []device.MAC // of its network interfaces
	Firmware    string
	Settings    device.Settings
	Clock       time.Duration // device's clock minus ours
	ClockDoubt  time.Duration // how far off that may be, for the time that reading it took
	ByNTP       bool          // the clock follows NTP
	DNS, NTP    Servers
	NoZone      bool // it does not tell its time zone
	Accounts    []Account
	// Certificate is the fingerprint of the certificate it showed, "" without HTTPS.
	Certificate string
	// CanTLS tells that it has HTTPS and that it is switched off.
	CanTLS   bool
	Pictures []Picture // its picture sources; none where they were not asked for
	Stream   *device.Stream
	// NoStream says why there is none, though others are to watch it.
	NoStream  string
	Recording Recording    // of a recorder whose channels are planned
	Ties      []Tie        // what it knows of other devices
	Login     device.Login // how it was logged in to for this reading
	// Lacks are settings that it says it has not: nothing of them is asked of it, or proved.
	Lacks map[Step]bool
	// Unread are settings that it does not tell, or not so that it can be read: whether it has
	// them is not known. Each is written once at most, and not proved.
	Unread map[Step]bool
	// By is the witness of the reading.
	By evidence.Witness
}

// Proven gives what the reading says, where the device has proved who it is.
func (f Found) Proven() evidence.Proven[device.Facts] {
	p, _ := evidence.Prove(f.By, f.Facts())
	return p
}

// Servers are the servers of one sort that a device is set to ask.
type Servers struct {
	Told      bool // the device has this setting
	FromDHCP  bool
	Addresses []netip.Addr // in the order asked
}

// Identity is what a device tells of itself without a password. Empty fields were not told.
type Identity struct {
	Serial   string
	Endpoint string
}

// wanted reports whether servers are to be set, and can be.
func (s Servers) wanted(want []netip.Addr) bool { return s.Told && len(want) > 0 }

// differ reports whether servers are not those wanted, where any are.
func (s Servers) differ(want []netip.Addr) bool {
	return s.wanted(want) && (s.FromDHCP || !slices.Equal(s.Addresses, want))
}

// String lists the servers, or says where they come from.
func (s Servers) String() string {
	switch {
	case s.FromDHCP:
		return "from DHCP"
	case len(s.Addresses) == 0:
		return "none"
	}
	return ground.List(s.Addresses)
}

// Facts gives what the reading says, in the form that a device keeps.
func (f Found) Facts() device.Facts {
	s := f.Settings
	return device.Facts{
		Make: f.Make, Model: f.Model, Serial: f.Serial, Firmware: f.Firmware, Name: s.Name, Settings: &s, Login: f.Login,
		Stream: f.Stream, Links: f.linkFacts(), Encodings: f.Recording.Encodings, Room: f.Recording.roomFact(),
		Writes: &device.Outlook{
			Pictures: f.pictureFacts(),
			ClockS:   f.Clock.Seconds(), ByNTP: f.ByNTP, DNS: f.DNS.Told, DNSAuto: f.DNS.FromDHCP, NTP: f.NTP.Told, NTPAuto: f.NTP.FromDHCP,
		},
	}
}

func (f Found) linkFacts() (out []device.Link) {
	for _, t := range f.Ties {
		out = append(out, device.Link{Kind: string(t.Link.Step), Peer: t.Link.peerName(), Number: t.Link.Number, State: string(t.State), Why: t.Why, Shown: t.Link.Shown, Keeps: cmp.Or(t.Link.Keeps, t.Keeps)})
	}
	return out
}

// Write is what is about to be sent to a device.
type Write struct {
	Step   Step   `json:"step"`
	Intent string `json:"intent"`
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

// missing reports whether a device lacks a user, or has it otherwise.
func (u User) missing(f Found) bool {
	return !u.Made || !slices.ContainsFunc(f.Accounts, u.Is)
}
