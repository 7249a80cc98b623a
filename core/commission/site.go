package commission

import (
	"context"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/core/evidence"
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
	// What is free is held until the device claims it, or ctx ends.
	Claim(ctx context.Context, p Plan) Claim
	// Alone begins to look whether anybody else answers for the plan's address, which the
	// device has by now. It takes less than a second.
	Alone(ctx context.Context, p Plan) Claim
	// Tethered reports whether the laptop's own link was gone at any time since, and
	// waits until it is back.
	Tethered(ctx context.Context, since time.Time) (again bool, err error)
	// Pause waits a moment before a device is asked again how it fares.
	Pause(ctx context.Context) error
	// Now is the present moment.
	Now() time.Time
}

// Claim is an RFC 5227 probe under way.
type Claim interface {
	// Wait ends with nil when the address is free, or wraps ErrInUse.
	Wait(ctx context.Context) error
}

// Session is a conversation with one device in one tongue: what every tongue can do. What
// a device can do beyond is an ability, found by type assertion (abilities.go). An error
// that leaves unknown whether a write was carried out, or that breaks the conversation off,
// wraps ErrReplyLost; a refusal for too many wrong passwords is a *LockedError.
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
	Read(ctx context.Context) (Found, error)
	// Witness is whether the other end has proved who it is, and by what, as of its last
	// word: what it rests on is kept of a device, and what does not is not.
	Witness() evidence.Witness
	// RefusesAnonymous reports whether reading the settings without a password is refused.
	RefusesAnonymous(ctx context.Context) (bool, error)
	Close()
}

// Journal records intent before a write and the outcome after (safety rule 2).
type Journal interface {
	Begin(ctx context.Context, p Plan, w Write) (id int64, err error)
	End(ctx context.Context, id int64, outcome, detail string) error
	// Found and Left record a device's settings before the job touched it and after.
	Found(ctx context.Context, p Plan, f Found) error
	Left(ctx context.Context, p Plan, f Found) error
}

// NotOpened is the detail of a user whose password does not open the device, though it took it
// or had it: the user counts as not made, and is given it again.
const NotOpened = "its password does not open it"

// AtRestart is the detail of an address that was set and that the device takes up
// at its next restart.
const AtRestart = "at its next restart"
