// Package lease gives the devices of a job their addresses by DHCP (RFC 2131), and nobody else any.
package lease

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/reach"
	"janustat/internal/speak/dhcp"
	"janustat/internal/survey"
)

// ErrOtherServer is wrapped when another DHCP server answers on the wire.
var ErrOtherServer = errors.New("another DHCP server answers on this LAN")

// A device that asks, is offered its address so often at least and for so long, and does not
// take it is waited for no longer. It is served still, should it take it after all.
const (
	maxOffered = 6
	offeredFor = 45 * time.Second
)

// maxDeclined is how often a device may refuse an address that nobody else answers for.
const maxDeclined = 4

// Timing of a lease service.
const (
	askServers = 10 * time.Second // between looks for a server that appears later
	checkHolds = 30 * time.Second // how long the word of a probe is taken
	meetEvery  = time.Second      // between questions for devices at the addresses they were given
	// takeUp is how long a device has to turn up at the address of its lease. One whose
	// confirmation got lost asks again 4 and 8 seconds later (RFC 2131, 4.1).
	takeUp         = 20 * time.Second
	maxLeaseAsks   = 256 // requests that wait to be answered
	leaseAnswering = 67  // our port, RFC 2131, 4.1
)

// Client is a device that is to be given an address.
type Client struct {
	MAC     device.MAC
	Address netip.Addr
	Waiting bool // the service may end once all of these have theirs
}

// Server is a small DHCP service (RFC 2131) for the devices of a job, and for
// nobody else. Every address is probed before it is offered.
type Server struct {
	Net     *reach.Net
	Subnets *survey.Subnets
	Avoid   func(netip.Addr) bool
	Terms   dhcp.Lease // what is the same for all: subnet, gateway, servers, time
	Clients []Client
	For     time.Duration
	Stay    bool // go on after the last waiting device has its lease
	Log     *slog.Logger
	// Tell is told of each thing that happens to a client.
	Tell func(c Client, text string)
	// Given is told of each lease before it is confirmed; an error withholds it.
	Given func(lan.Lease) error
}

type clientState struct {
	Client
	freeUntil time.Time     // the address was probed and is free
	checking  bool          // a probe is under way
	pending   *dhcp.Request // to be answered when it ends
	refused   error         // why it is not offered any more
	declined  int           // so often it has refused the address
	asked     bool          // it has asked since the service began
	offered   int           // so often, since it last took a lease
	first     time.Time     // of these
	idle      bool          // it takes none, and is not waited for
	leased    bool
	met       bool // at its address, since it has the lease
}

type leaseRun struct {
	Server
	visitor *reach.Visitor
	clients map[device.MAC]*clientState
	asks    chan leaseAsk
	checked chan checkedAddress
	met     chan device.MAC
	other   chan error
	dhcpID  [4]byte
	doubt   chan struct{} // another server may be there: it is asked for
}

type leaseAsk struct {
	dhcp.Request
	from device.MAC
}

type checkedAddress struct {
	mac device.MAC
	err error
}

// Outcome is how it ended: who has a lease, and why the others have none.
type Outcome struct {
	Leased []device.MAC
	Why    map[device.MAC]string
}

// Run serves until its time is over, or every device waited for has its lease and
// was met at its address.
// It refuses to begin, and stops, when another server is on the wire: one that answers what
// we ask. What is said to others, or in the name of a device, may be anybody's, and makes us
// ask again.
func (l Server) Run(ctx context.Context) (out Outcome, err error) {
	others, err := survey.OtherServers(ctx, l.Net)
	if err != nil {
		return out, err
	}
	if len(others) > 0 {
		return out, fmt.Errorf("%w: %s (%s); two must not run at once. Let that server give the addresses, then run `janustat survey`; or ask whoever runs it to switch it off", ErrOtherServer, others[0].Server, others[0].ServerMAC)
	}
	visitor, err := l.Net.Visit(ctx, l.Terms.Subnet, netip.Addr{}, l.Avoid)
	if err != nil {
		return out, err
	}
	l.Terms.Server = visitor.Address()
	r := &leaseRun{
		Server: l, visitor: visitor, clients: map[device.MAC]*clientState{},
		asks: make(chan leaseAsk, maxLeaseAsks), checked: make(chan checkedAddress, len(l.Clients)),
		met: make(chan device.MAC, maxLeaseAsks), other: make(chan error, 1), doubt: make(chan struct{}, 1),
	}
	_, _ = rand.Read(r.dhcpID[:]) // never fails (crypto/rand)
	for _, c := range l.Clients {
		r.clients[c.MAC] = &clientState{Client: c}
	}
	ctx, cancel := context.WithTimeout(ctx, l.For)
	defer cancel()
	defer r.Net.Hear(r.hear)()
	// Probed now, the address is known to be free by the time it is asked for.
	for _, c := range r.clients {
		if c.Waiting {
			r.check(ctx, c)
		}
	}
	err = r.serve(ctx)
	out.Why = map[device.MAC]string{}
	for _, c := range l.Clients {
		if s := r.clients[c.MAC]; s.leased {
			out.Leased = append(out.Leased, c.MAC)
		} else {
			out.Why[c.MAC] = s.why()
		}
	}
	return out, err
}

// why says why a device has no lease.
func (c *clientState) why() string {
	switch {
	case c.refused != nil:
		return c.refused.Error()
	case c.idle:
		return fmt.Sprintf("asked, was offered %s %d times, and did not take it", c.Address, c.offered)
	case c.asked:
		return "asked, and took no lease"
	}
	return DidNotAsk
}

// DidNotAsk is why a device has no lease that was not heard at all.
const DidNotAsk = "did not ask"

// hear runs on the reading goroutine.
func (r *leaseRun) hear(h reach.Heard) {
	if claim, ok := h.Claim(); ok {
		if c := r.clients[claim.MAC]; c != nil && c.Address == claim.Address {
			select {
			case r.met <- c.MAC:
			default: // it answers again
			}
		}
	}
	d := h.Datagram
	if d == nil {
		return
	}
	switch d.To.Port() {
	case dhcp.ClientPort:
		server, ok := dhcp.FromServer(d.Payload)
		if !ok {
			return
		}
		if _, err := dhcp.ParseOffer(d.Payload, r.dhcpID); err != nil {
			r.suspect() // it answers somebody else, or nobody
			return
		}
		select {
		case r.other <- fmt.Errorf("%w: %s (%s) has begun to answer, so ours stops", ErrOtherServer, server, d.MAC):
		default:
		}
	case dhcp.ServerPort:
		q, err := dhcp.ParseRequest(d.Payload)
		if err != nil || q.MAC != h.From {
			return
		}
		select {
		case r.asks <- leaseAsk{q, h.From}:
		default: // a flood; honest clients ask again
		}
	}
}

// suspect has another server be asked for, which may be there.
func (r *leaseRun) suspect() {
	select {
	case r.doubt <- struct{}{}:
	default:
	}
}
