package commission

import (
	"net/netip"
	"slices"
	"strings"

	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/setting"
)

// Plan is what one device is to become.
type Plan struct {
	ID       int64
	Tag      string
	MAC      device.MAC
	Ports    []device.MAC // of its interfaces: what they answer for is its own
	Serial   string
	Endpoint string     // WS-Discovery endpoint reference; "" is not known
	From     netip.Addr // where it was last met
	// Target is what it is to have: address, prefix, gateway, name and servers; Wants is the rest, by setting.
	Wants setting.Values
	// Whole has everything read that the record tells of a device, wanted or not.
	Whole bool
	// Was are the settings that are watched as the device was left with them: they are read again,
	// and what has changed of them is news.
	Was setting.Values
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
	// Certified tells that a certificate of the site's own authority was sent to it since: then it shows that,
	// or the one that is on record.
	Certified bool
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
	// Anywhere tells that it may come back at any address, as one does that has lost its settings.
	Anywhere bool
	// Replace is what a factory password is replaced by, or one that was set without encryption; it is on
	// the keyring.
	Replace secret.Password
	// Bared tells that its password was set without encryption: over HTTPS it is replaced.
	Bared bool
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
	Name  string `json:"name"`
	Level Level  `json:"level"`
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

// missing reports whether a device lacks a user, or has it otherwise.
func (u User) missing(f Found) bool {
	return !u.Made || !slices.ContainsFunc(f.Accounts, u.Is)
}
