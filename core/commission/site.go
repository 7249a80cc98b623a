package commission

import (
	"context"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
)

// Site gives access to the devices and addresses of the site.
type Site interface {
	// Arrive makes ready to speak in the subnets of the device's old and new address.
	Arrive(ctx context.Context, p Plan) error
	// Find waits until the device answers at one of the places and says where.
	Find(ctx context.Context, p Plan, places []netip.Addr) (netip.Addr, error)
	// Return waits for a device that was told to move or to restart while at
	// was: until it announces itself at one of the places, answers at another
	// than was, or has been away and answers at was again. A device that never
	// goes is found at was after a while; then stayed is true.
	Return(ctx context.Context, p Plan, was netip.Addr, places []netip.Addr) (at netip.Addr, stayed bool, err error)
	// Repowered waits until a device that was at was has been away and is back, or
	// announces itself, at one of the places.
	Repowered(ctx context.Context, p Plan, was netip.Addr, places []netip.Addr) (netip.Addr, error)
	// Open begins a conversation with the device at an address.
	Open(ctx context.Context, p Plan, at netip.Addr) (Session, error)
	// Claim begins an RFC 5227 probe of the plan's address, beside everything else.
	Claim(ctx context.Context, p Plan) Claim
	// Tethered reports whether the laptop's own link was gone at any time since, and
	// waits until it is back.
	Tethered(ctx context.Context, since time.Time) (again bool, err error)
	// Now is the present moment.
	Now() time.Time
}

// Claim is an RFC 5227 probe under way.
type Claim interface {
	// Wait ends with nil when the address is free, or wraps ErrInUse.
	Wait(ctx context.Context) error
}

// Session is a conversation with one device. An error that leaves unknown
// whether a write was carried out, or that breaks the conversation off, wraps
// ErrReplyLost; a refusal for too many wrong passwords is a *LockedError.
type Session interface {
	// Access tells Fresh from Sealed without offering any password.
	Access(ctx context.Context) (device.Access, error)
	// Encrypted reports whether what is said goes over HTTPS.
	Encrypted() bool
	// Certificate is the fingerprint of the certificate it shows, "" without HTTPS.
	Certificate() string
	// Identity asks who it is, without offering a password.
	Identity(ctx context.Context) (Identity, error)
	// Enter offers a password once and uses it from then on; false means refused.
	Enter(ctx context.Context, user string, p secret.Password) (bool, error)
	// Opens offers the password of a further user once, beside what goes on; false means refused.
	Opens(ctx context.Context, user string, p secret.Password) (bool, error)
	Read(ctx context.Context) (Found, error)
	// Rules gives the password rules the device publishes, or nil.
	Rules(ctx context.Context) (*secret.Rules, error)
	CreateAdministrator(ctx context.Context, user string, p secret.Password) error
	// SetPassword gives an administrator another password.
	SetPassword(ctx context.Context, user string, p secret.Password) error
	// SetClock tells by how much the clock may be behind, where the time was long on its way.
	SetClock(ctx context.Context) (late time.Duration, err error)
	// SetZone sets the time zone, and leaves the clock as it goes.
	SetZone(ctx context.Context, zone string) error
	SetName(ctx context.Context, name string) error
	SetDNS(ctx context.Context, servers []netip.Addr) error
	// SetNTP sets the NTP servers, and the clock to follow them.
	SetNTP(ctx context.Context, servers []netip.Addr) error
	// CreateUser creates a further user; ChangeUser gives one that is there its level and password.
	CreateUser(ctx context.Context, u User) error
	ChangeUser(ctx context.Context, u User) error
	// SetAddress sets address and prefix with DHCP off; restart tells whether
	// the device wants one before it uses them.
	SetAddress(ctx context.Context, s device.Settings) (restart bool, err error)
	SetGateway(ctx context.Context, gateway netip.Addr) error
	Restart(ctx context.Context) error
	// Reset puts the device back into its factory state, address and users included.
	Reset(ctx context.Context) error
	// RefusesAnonymous reports whether reading the settings without a password is refused.
	RefusesAnonymous(ctx context.Context) (bool, error)
	Close()
}

// Captioner is the ability of a session to name the picture sources of a device and to
// show the name in its pictures. It is had by a session whose Read finds Pictures.
type Captioner interface {
	// Caption gives each source its PictureName; what is so already is not written.
	Caption(ctx context.Context, name string) error
}

// Journal records intent before a write and the outcome after (safety rule 2).
type Journal interface {
	Begin(ctx context.Context, p Plan, w Write) (id int64, err error)
	End(ctx context.Context, id int64, outcome, detail string) error
	// Found and Left record a device's settings before the job touched it and after.
	Found(ctx context.Context, p Plan, f Found) error
	Left(ctx context.Context, p Plan, f Found) error
}

// AtRestart is the detail of an address that was set and that the device takes up
// at its next restart.
const AtRestart = "at its next restart"
