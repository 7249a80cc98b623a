package field

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/speak/acd"
	"janustat/internal/speak/dhcp"
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
	serverAsks = 4                // DISCOVERs before the service begins, a second apart
	askServers = 10 * time.Second // between looks for a server that appears later
	checkHolds = 30 * time.Second // how long the word of a probe is taken
	meetEvery  = time.Second      // between questions for devices at the addresses they were given
	// takeUp is how long a device has to turn up at the address of its lease. One whose
	// confirmation got lost asks again 4 and 8 seconds later (RFC 2131, 4.1).
	takeUp         = 20 * time.Second
	maxLeaseAsks   = 256 // requests that wait to be answered
	leaseAnswering = 67  // our port, RFC 2131, 4.1
)

// LeaseClient is a device that is to be given an address.
type LeaseClient struct {
	MAC     device.MAC
	Address netip.Addr
	Waiting bool // the service may end once all of these have theirs
}

// Leaser is a small DHCP service (RFC 2131) for the devices of a job, and for
// nobody else. Every address is probed before it is offered.
type Leaser struct {
	Net     *reach.Net
	Subnets *Subnets
	Avoid   func(netip.Addr) bool
	Terms   dhcp.Lease // what is the same for all: subnet, gateway, servers, time
	Clients []LeaseClient
	For     time.Duration
	Stay    bool // go on after the last waiting device has its lease
	Log     *slog.Logger
	// Tell is told of each thing that happens to a client.
	Tell func(c LeaseClient, text string)
	// Given is told of each lease before it is confirmed; an error withholds it.
	Given func(job.LeaseRecord) error
}

type clientState struct {
	LeaseClient
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
	Leaser
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

// Leases is how it ended: who has a lease, and why the others have none.
type Leases struct {
	Leased []device.MAC
	Why    map[device.MAC]string
}

// Run serves until its time is over, or every device waited for has its lease and
// was met at its address.
// It refuses to begin, and stops, when another server is on the wire: one that answers what
// we ask. What is said to others, or in the name of a device, may be anybody's, and makes us
// ask again.
func (l Leaser) Run(ctx context.Context) (out Leases, err error) {
	others, err := OtherServers(ctx, l.Net)
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
		Leaser: l, visitor: visitor, clients: map[device.MAC]*clientState{},
		asks: make(chan leaseAsk, maxLeaseAsks), checked: make(chan checkedAddress, len(l.Clients)),
		met: make(chan device.MAC, maxLeaseAsks), other: make(chan error, 1), doubt: make(chan struct{}, 1),
	}
	_, _ = rand.Read(r.dhcpID[:]) // never fails (crypto/rand)
	for _, c := range l.Clients {
		r.clients[c.MAC] = &clientState{LeaseClient: c}
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

// doubtEvery is how often another server is asked for at most, whatever is heard.
const doubtEvery = time.Second

func (r *leaseRun) serve(ctx context.Context) error {
	var doubted time.Time
	look := time.NewTicker(r.Net.Pace.Of(askServers))
	defer look.Stop()
	meet := time.NewTicker(r.Net.Pace.Of(meetEvery))
	defer meet.Stop()
	var ended <-chan time.Time
	for {
		leased, met := r.state()
		switch {
		case leased && met && !r.Stay:
			return nil
		case !leased:
			ended = nil
		case ended == nil && !r.Stay:
			ended = time.After(r.Net.Pace.Of(takeUp))
		}
		select {
		case q := <-r.asks:
			r.answer(ctx, q)
		case c := <-r.checked:
			r.afterCheck(c)
		case mac := <-r.met:
			c := r.clients[mac]
			c.met = c.leased
		case <-meet.C:
			if err := r.lookForThem(); err != nil {
				return err
			}
		case err := <-r.other:
			return err
		case <-r.doubt:
			if r.Net.Pace.Since(doubted) < doubtEvery {
				continue
			}
			doubted = time.Now()
			if err := askDHCP(r.Net, r.dhcpID); err != nil {
				return err
			}
		case <-look.C:
			if err := askDHCP(r.Net, r.dhcpID); err != nil {
				return err
			}
		case <-ended:
			return nil
		case <-r.Net.Done():
			return fmt.Errorf("the wire went away: %w", r.Net.Err())
		case <-ctx.Done():
			if errors.Is(ctx.Err(), context.DeadlineExceeded) {
				return nil
			}
			return ctx.Err()
		}
	}
}

// state reports whether every device waited for has its lease, and whether each
// was met at its address.
func (r *leaseRun) state() (leased, met bool) {
	waited := false
	leased, met = true, true
	for _, c := range r.clients {
		if !c.Waiting {
			continue
		}
		waited = true
		over := c.refused != nil || c.idle && !c.leased
		leased, met = leased && (c.leased || over), met && (c.met || over)
	}
	return leased && waited, met
}

// lookForThem asks for the devices that have a lease at its address.
func (r *leaseRun) lookForThem() error {
	for _, c := range r.clients {
		if !c.leased || c.met {
			continue
		}
		if err := r.Net.AskOnce(reach.Place{Address: c.Address, From: r.visitor, MAC: c.MAC}); err != nil {
			return err
		}
	}
	return nil
}

// check begins an RFC 5227 probe of a client's address.
func (r *leaseRun) check(ctx context.Context, c *clientState) {
	c.checking = true
	mac, address := c.MAC, c.Address
	go func() {
		probing, cancel := context.WithCancel(ctx)
		defer cancel()
		err := acd.Begin(probing, r.Net, acd.Given.At(r.Net.Pace), r.Net.Facts().MAC, address, mac).Wait(ctx)
		select {
		case r.checked <- checkedAddress{mac, err}:
		case <-ctx.Done():
		}
	}()
}

func (r *leaseRun) afterCheck(done checkedAddress) {
	c := r.clients[done.mac]
	c.checking = false
	if done.err != nil {
		if errors.Is(done.err, acd.ErrConflict) {
			c.refused = done.err
			r.Tell(c.LeaseClient, "not offered: "+done.err.Error())
		}
		return
	}
	c.freeUntil = time.Now().Add(checkHolds)
	if q := c.pending; q != nil {
		c.pending = nil
		r.offer(c, *q)
	}
}

// answer takes one message of a client. Those not in the job get no answer.
func (r *leaseRun) answer(ctx context.Context, q leaseAsk) {
	c := r.clients[q.MAC]
	if c == nil {
		r.Log.Debug("not in the job, so not answered", "mac", q.MAC, "vendor", q.VendorClass)
		return
	}
	if c.refused != nil {
		return
	}
	c.asked = true
	switch q.Kind {
	case dhcp.Wants:
		if time.Now().Before(c.freeUntil) {
			r.offer(c, q.Request)
			return
		}
		c.pending = &q.Request
		if !c.checking {
			r.check(ctx, c)
		}
	case dhcp.Takes:
		r.confirm(c, q.Request)
	case dhcp.Refuses:
		if q.Server != r.Terms.Server || q.Address != c.Address {
			return // it refuses somebody else's offer, or none that we made
		}
		// Whether it is in use shows a probe of our own: anybody can say so in its name.
		c.leased, c.met, c.freeUntil = false, false, time.Time{}
		if c.declined++; c.declined >= maxDeclined {
			c.refused = fmt.Errorf("it refused %s %d times, and nobody else answers there", c.Address, c.declined)
			r.Tell(c.LeaseClient, c.refused.Error())
			return
		}
		r.Tell(c.LeaseClient, "refused by the device, as if it were in use: looking again")
		if !c.checking {
			r.check(ctx, c)
		}
	case dhcp.Returns:
		if q.Server.IsValid() && q.Server != r.Terms.Server || q.Current != c.Address {
			return
		}
		c.leased, c.met = false, false
		r.Tell(c.LeaseClient, "given back")
	}
}

func (r *leaseRun) terms(c *clientState) dhcp.Lease {
	t := r.Terms
	t.Address = c.Address
	return t
}

func (r *leaseRun) offer(c *clientState, q dhcp.Request) {
	b, err := q.Offer(r.terms(c))
	r.send(q, b, err)
	if c.leased {
		return
	}
	if c.offered++; c.offered == 1 {
		c.first = time.Now()
	}
	if !c.idle && c.offered >= maxOffered && r.Net.Pace.Since(c.first) > offeredFor {
		c.idle = true
		r.Tell(c.LeaseClient, fmt.Sprintf("was offered %s %d times and does not take it: it is not waited for any longer", c.Address, c.offered))
	}
}

// confirm gives the lease to a client that takes our offer, or goes on with it.
func (r *leaseRun) confirm(c *clientState, q dhcp.Request) {
	if q.Server.IsValid() && q.Server != r.Terms.Server {
		r.suspect() // it takes another's offer, or somebody says so
		return
	}
	wanted := q.Address
	if !wanted.IsValid() {
		wanted = q.Current
	}
	fresh := time.Now().Before(c.freeUntil)
	if wanted != c.Address || !fresh && !c.leased {
		// It remembers another lease, or one not probed yet: it is to begin anew.
		b, err := q.Nak(r.Terms.Server)
		r.send(q, b, err)
		return
	}
	now := time.Now()
	if err := r.Given(job.LeaseRecord{MAC: c.MAC, Address: c.Address, At: now, Until: now.Add(r.Terms.Time)}); err != nil {
		r.Log.Error("lease withheld: it could not be recorded", "mac", c.MAC, "err", err)
		return
	}
	b, err := q.Ack(r.terms(c))
	r.send(q, b, err)
	c.offered, c.idle = 0, false
	if !c.leased {
		c.leased = true
		r.Tell(c.LeaseClient, fmt.Sprintf("leased until %s", now.Add(r.Terms.Time).Format("15:04")))
	}
}

// send answers by broadcast: a client without an address hears that for certain
// (RFC 2131, 4.1).
func (r *leaseRun) send(q dhcp.Request, payload []byte, err error) {
	if err == nil {
		to := netip.AddrPortFrom(netip.AddrFrom4([4]byte{255, 255, 255, 255}), dhcp.ClientPort)
		err = r.Net.SendUDP(r.visitor, leaseAnswering, device.Broadcast, to, payload)
	}
	if err != nil {
		r.Log.Warn("lease not sent", "mac", q.MAC, "err", err)
	}
}
