// Package reach is Janustat's own TCP/IP on a wire, IPv4 and link-local IPv6. It
// takes visitor addresses in any subnet after probing that they are free, speaks
// TCP to a device named by its address and its MAC together, sends and hears
// UDP, and answers ARP and neighbour discovery for its visitors. The laptop's own settings stay as they are.
package reach

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"gvisor.dev/gvisor/pkg/tcpip/header"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/pace"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/membership"
	"janustat/internal/speak/ndp"
	"janustat/internal/wire"
)

// ErrClosed is returned once the wire is gone.
var ErrClosed = errors.New("the wire is closed")

// Net is our presence on one wire. It is safe for use by several goroutines.
type Net struct {
	// Pace is that of all times of protocols. It is set before anything else is done.
	Pace pace.Pace
	// Prefer are addresses to try first for visitors, by subnet: those that were ours a
	// short while ago. It is set before anything else is done.
	Prefer map[netip.Prefix]netip.Addr

	wire  wire.Wire
	facts wire.Facts

	mu       sync.RWMutex
	taps     map[*tap]struct{}                // for every frame
	claims   map[device.MAC]map[*tap]struct{} // for claims of one MAC
	about    map[netip.Addr]map[*tap]struct{} // for ARP about one address
	paths    map[pathKey]*Path
	visitors map[netip.Prefix]*Visitor
	held     map[netip.Addr]*Visitor // visitors' addresses, for the ARP responder
	account  *lan.Claims             // who claims which address: none of these is borrowed
	thefts   map[device.MAC]int      // visitors given up for what a MAC claimed
	graspers graspers
	err      error

	ear      Ear // used by the reading goroutine only
	done     chan struct{}
	sent     atomic.Int64
	received atomic.Int64
	heardAt  atomic.Int64 // when a frame of others came last, in nanoseconds of Unix
	crowd    *crowd
}

type tap struct{ f func(Heard) }

// maxThefts is how many visitors are given up for what one MAC claims. An honest host
// has one address; one that claims every visitor of ours is not believed any more.
const maxThefts = 2

// New starts reading from a wire. Close ends it and closes the wire.
func New(w wire.Wire) *Net {
	n := &Net{
		wire: w, facts: w.Facts(),
		taps: map[*tap]struct{}{}, claims: map[device.MAC]map[*tap]struct{}{}, about: map[netip.Addr]map[*tap]struct{}{}, paths: map[pathKey]*Path{},
		visitors: map[netip.Prefix]*Visitor{}, held: map[netip.Addr]*Visitor{},
		account: lan.NewClaims(), thefts: map[device.MAC]int{}, done: make(chan struct{}), crowd: newCrowd(),
	}
	n.ear.Own = n.facts.MAC
	go n.read()
	return n
}

// Facts tells of the wire.
func (n *Net) Facts() wire.Facts { return n.facts }

// Traffic counts the frames sent and received so far.
func (n *Net) Traffic() (sent, received int64) { return n.sent.Load(), n.received.Load() }

// Send sends one frame as it is. One for everyone waits until the wire bears it.
func (n *Net) Send(frame []byte) error {
	to := device.MACFrom(frame[0:6])
	if to.IsGroup() {
		if err := n.admit(to); err != nil {
			return err
		}
	}
	n.sent.Add(1)
	err := n.wire.Write(frame)
	if to == device.Broadcast {
		n.spread()
	}
	return err
}

// Hear calls f for every frame from others until stop is called. f runs on the
// reading goroutine and must not block or keep the frame.
func (n *Net) Hear(f func(Heard)) (stop func()) {
	t := &tap{f}
	n.mu.Lock()
	n.taps[t] = struct{}{}
	n.mu.Unlock()
	return func() {
		n.mu.Lock()
		delete(n.taps, t)
		n.mu.Unlock()
	}
}

// HearARP calls f for every ARP packet from others that is about an address, until stop
// is called. However many listen, a frame costs only those that it concerns.
func (n *Net) HearARP(about netip.Addr, f func(arp.Packet)) (stop func()) {
	return listen(n, n.about, about, func(h Heard) { f(*h.ARP) })
}

// HearClaims calls f for every claim of a MAC to an address, by ARP or by neighbour
// discovery, until stop is called.
func (n *Net) HearClaims(of device.MAC, f func(Claim)) (stop func()) {
	return listen(n, n.claims, of, func(h Heard) {
		if c, ok := h.Claim(); ok {
			f(c)
		}
	})
}

func listen[K comparable](n *Net, all map[K]map[*tap]struct{}, key K, f func(Heard)) (stop func()) {
	t := &tap{f}
	n.mu.Lock()
	defer n.mu.Unlock()
	if all[key] == nil {
		all[key] = map[*tap]struct{}{}
	}
	all[key][t] = struct{}{}
	return func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		if delete(all[key], t); len(all[key]) == 0 {
			delete(all, key)
		}
	}
}

// ErrNoLink is wrapped when the laptop's own link was gone for too long.
var ErrNoLink = errors.New("the wire went away")

// LinkFault says what is wrong with the laptop's own link, or nil.
func (n *Net) LinkFault() error {
	if l, ok := wire.Under[wire.Linked](n.wire); ok {
		return l.Fault()
	}
	return nil
}

// AwaitLink waits until the laptop's own link is there, or until it is not, or ctx ends.
func (n *Net) AwaitLink(ctx context.Context, up bool) error {
	if l, ok := wire.Under[wire.Linked](n.wire); ok {
		return l.Await(ctx, up)
	}
	if up {
		return nil
	}
	<-ctx.Done()
	return ctx.Err()
}

// LinkDownSince reports whether the laptop's own link was gone at any time since.
func (n *Net) LinkDownSince(t time.Time) bool {
	l, ok := wire.Under[wire.Linked](n.wire)
	return ok && l.DownSince(t)
}

// Dropped counts the frames that came and could not be taken in time.
func (n *Net) Dropped() uint64 {
	if c, ok := wire.Under[wire.Counted](n.wire); ok {
		return c.Dropped()
	}
	return 0
}

// Done is closed when the wire fails or Close is called; Err then says why.
func (n *Net) Done() <-chan struct{} { return n.done }

// Err tells why the wire is gone, or nil.
func (n *Net) Err() error {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.err
}

// Close lets the visitors go and closes the wire.
func (n *Net) Close() error {
	n.mu.Lock()
	if n.err == nil {
		n.err = ErrClosed
	}
	paths := n.paths
	n.paths = map[pathKey]*Path{}
	n.visitors = map[netip.Prefix]*Visitor{}
	n.held = map[netip.Addr]*Visitor{}
	n.mu.Unlock()
	for _, p := range paths {
		p.waits.end()
		p.stack.Destroy()
	}
	err := n.wire.Close()
	<-n.done
	return err
}

func (n *Net) read() {
	defer close(n.done)
	for {
		frame, err := n.wire.Read()
		if err != nil {
			n.mu.Lock()
			if n.err == nil {
				n.err = errors.Join(ErrClosed, err)
			}
			n.mu.Unlock()
			return
		}
		n.take(frame)
	}
}

// take sorts one frame: questions for our visitors to the responder, TCP to the
// path it belongs to, everything to the taps.
func (n *Net) take(frame []byte) {
	h, ok := n.ear.Hear(frame, time.Now())
	if !ok {
		return
	}
	n.received.Add(1)
	if now := time.Now(); n.heardAt.Swap(now.UnixNano()) < now.Add(-muteAfter/2).UnixNano() {
		n.crowd.opened()
	}
	if h.ARP != nil && h.ARP.Op == arp.Reply && h.To == n.facts.MAC && !n.Grasps(h.From) {
		n.answer(h.ARP)
	}
	if c, ok := h.Claim(); ok {
		n.note(c)
	}
	if h.Membership == membership.Report {
		n.remember(h.Source, h.From)
	}
	switch {
	case h.ARP != nil && h.ARP.Op == arp.Request:
		if n.holds(h.ARP.Target) {
			// A lost reply is asked for again; nothing better can be done with the error here.
			_ = n.Send(arp.ReplyTo(*h.ARP, n.facts.MAC).Frame())
		}
	case h.ND != nil && h.ND.Kind == ndp.Ask:
		if n.holds(h.ND.Target) {
			_ = n.Send(ndp.Answer(*h.ND, n.facts.MAC).Frame()) // likewise
		}
	case h.Protocol == uint8(header.TCPProtocolNumber) && h.To == n.facts.MAC:
		n.mu.RLock()
		path := n.paths[pathKey{h.From, h.Destination}]
		n.mu.RUnlock()
		if path != nil {
			path.waits.heard(h.Payload)
			path.card.Inject(h.Frame)
		}
	}
	n.mu.RLock()
	defer n.mu.RUnlock()
	for t := range n.taps {
		t.f(h)
	}
	for t := range n.claims[h.From] {
		t.f(h)
	}
	if h.ARP == nil || n.idle(h.ARP) {
		return
	}
	for t := range n.about[h.ARP.Sender] {
		t.f(h)
	}
	if h.ARP.Target != h.ARP.Sender {
		for t := range n.about[h.ARP.Target] {
			t.f(h)
		}
	}
}

// note remembers who holds an address. Someone else's claim to a visitor's
// address ends the visit.
func (n *Net) note(c Claim) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if v := n.held[c.Address]; v != nil && n.thefts[c.MAC] < maxThefts && (!c.Announced || !n.account.Grasps(c.MAC)) {
		n.thefts[c.MAC]++
		v.lose(c.MAC)
		delete(n.held, c.Address) // ours no longer: nothing is answered for it
	}
	n.account.Hear(c.MAC, c.Address)
}

// idle reports what a host announces unasked that claims more than it can have: only an
// answer of its own to a probe says anything. The lock is held.
func (n *Net) idle(p *arp.Packet) bool {
	return p.Sender == p.Target && n.account.Grasps(p.SenderMAC)
}

// remember keeps an address that somebody uses from being borrowed.
func (n *Net) remember(a netip.Addr, mac device.MAC) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.account.Hear(mac, a)
}

// Grasps reports whether a MAC has claimed more addresses than a host can have.
func (n *Net) Grasps(mac device.MAC) bool {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.account.Grasps(mac)
}

// Graspers gives those who have claimed more addresses of the subnets than a host can
// have, the loudest first.
func (n *Net) Graspers(in []netip.Prefix) []lan.Grasp {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.account.Graspers(in)
}

// Holder gives who claims an address.
func (n *Net) Holder(a netip.Addr) (device.MAC, bool) {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.account.Holder(a)
}

// holds reports whether an address is a visitor's.
func (n *Net) holds(a netip.Addr) bool {
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.held[a] != nil
}
