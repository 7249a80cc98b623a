// Package tongue says what a protocol must do for devices to be set up by it: recognise
// them, and open a conversation. What can be said in it beyond that are abilities of the
// conversation (core/commission). Each tongue is a package of its own; which there are is
// one list, in internal/tongues.
package tongue

import (
	"context"
	"net"
	"net/netip"
	"sync"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/authority"
	"janustat/internal/reach"
)

// Tongue is a protocol by which devices are recognised and opened.
type Tongue interface {
	// Name is what the register calls it.
	Name() device.Tongue
	// Seek asks every device on the link that speaks it to show itself.
	Seek(n *reach.Net) error
	// Hear tells what a frame says of a device, false where it says nothing in this tongue.
	// It is called for every frame, from a stranger as well, and must not block.
	Hear(h *reach.Heard) (device.Sighting, bool)
	// Open begins a conversation with a device that is met at an address, which is not valid
	// for one that has none. Errors are those of commission.Session.
	Open(ctx context.Context, w Way, p commission.Plan, at netip.Addr) (commission.Session, error)
}

// Locator is a tongue in which a device is found by its MAC, whatever its address.
type Locator interface {
	// Locate waits until the planned device shows itself, and tells its address; one that is
	// not valid where it has none.
	Locate(ctx context.Context, w Way, p commission.Plan) (netip.Addr, error)
}

// Meeter is a tongue in which anybody can announce a device that is not there.
type Meeter interface {
	// SeekMarked does what Seek does, and gives the mark that the answers to it carry.
	SeekMarked(n *reach.Net) (mark string, err error)
	// Mark is that of what was heard; "" without one.
	Mark(h *reach.Heard) string
	// Meet exchanges a question and an answer with the device of a MAC: what it says then is
	// what it is listed by. An error means that nobody answers.
	Meet(ctx context.Context, n *reach.Net, mac device.MAC) (device.Sighting, error)
}

// Way is how a tongue comes to a device.
type Way interface {
	Network() *reach.Net
	// Visitor gives our own address in the subnet of another.
	Visitor(ctx context.Context, of netip.Addr) (*reach.Visitor, error)
	// Dialer gives the way to a device's TCP ports, by its MAC, until ctx ends.
	Dialer(ctx context.Context, mac device.MAC, at netip.Addr) (func(ctx context.Context, port uint16) (net.Conn, error), error)
	// Pause waits a moment before a device is asked again how it fares.
	Pause(ctx context.Context) error
	// Memory is where a tongue keeps what holds beyond a conversation: by MAC what a device told,
	// or by a type of its own.
	Memory() *sync.Map
	// Authority is the site's, nil where it has none.
	Authority() *authority.Authority
	// Blank gives what every known password is taken out of a device's words by.
	Blank() *secret.Veil
}
