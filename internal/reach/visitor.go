package reach

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"iter"
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/lan"
	"janustat/internal/speak/acd"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/ndp"
)

// ErrNoVisitor is wrapped when a subnet has no free address to visit from.
var ErrNoVisitor = errors.New("no free address to visit the subnet from")

// maxCandidates is how many addresses are probed for one visitor before giving up. Next
// to a device are others, not all of them heard yet: each takes the time of an answer.
const maxCandidates = 24

// maxContested is how many addresses are tried that somebody has claimed, where no other
// is left: honest hosts among them answer the first probe.
const maxContested = 12

// contestedNear is how many of these are next to the device that is visited; the others
// are drawn, so that nobody knows beforehand which to defend.
const contestedNear = 4

// Visitor is a temporary address of ours in a subnet, never configured on the laptop.
type Visitor struct {
	subnet  netip.Prefix
	address netip.Addr
	ready   chan struct{}
	err     error // why there is none; read after ready

	mu   sync.Mutex
	lost device.MAC // who claimed the address while we had it
}

// Address is the visitor's own address.
func (v *Visitor) Address() netip.Addr { return v.address }

func (v *Visitor) lose(to device.MAC) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.lost = to
}

// taken reports whether somebody else has claimed the address, and who.
func (v *Visitor) taken() (bool, device.MAC) {
	v.mu.Lock()
	defer v.mu.Unlock()
	return !v.lost.IsZero(), v.lost
}

func (v *Visitor) check() error {
	if lost, to := v.taken(); lost {
		return fmt.Errorf("%w: %s claims our visitor %s", ErrNoVisitor, to, v.address)
	}
	return nil
}

// LinkLocal6 is the subnet of every IPv6 host on a link (RFC 4291, 2.5.6).
var LinkLocal6 = netip.MustParsePrefix("fe80::/64")

// LinkLocal4 is the subnet of hosts that found no other address (RFC 3927).
var LinkLocal4 = netip.MustParsePrefix("169.254.0.0/16")

// Visit gives the visitor of a subnet, taking an address there if there is none yet,
// once it has been probed for as acd.Borrowed says: 0.6 seconds, and as long for IPv6.
// Callers in one subnet share it; a new one is taken as near to the address near as can be. avoid names addresses that must not
// be borrowed even for a moment, such as those about to be given to devices; it
// may be nil.
func (n *Net) Visit(ctx context.Context, subnet netip.Prefix, near netip.Addr, avoid func(netip.Addr) bool) (*Visitor, error) {
	subnet = subnet.Masked()
	n.mu.Lock()
	v := n.visitors[subnet]
	if v == nil || v.check() != nil {
		v = &Visitor{subnet: subnet, ready: make(chan struct{})}
		n.visitors[subnet] = v
		// The probe outlives the first caller, since others may be waiting for it.
		go n.settle(context.WithoutCancel(ctx), v, near, avoid)
	}
	n.mu.Unlock()
	select {
	case <-v.ready:
	case <-n.done:
		return nil, n.Err()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	if v.err != nil {
		return nil, v.err
	}
	if lost, to := v.taken(); lost {
		taken := &acd.ConflictError{Address: v.address, Holder: to}
		if grasps := n.grasping(ctx, taken, subnet); grasps != nil {
			return nil, fmt.Errorf("%w %s: %w", ErrNoVisitor, subnet, grasps)
		}
	}
	return v, v.check()
}

// grasping gives a conflict with a host that answers for any address as what it is; nil where it is with
// one that has its own.
func (n *Net) grasping(ctx context.Context, c *acd.ConflictError, in netip.Prefix) error {
	if in.Addr().Is4() && n.AnswersForAny(ctx, c.Holder, in) {
		return &GraspError{c}
	}
	return nil
}

// Visitors gives the IPv4 addresses that are ours for now, by subnet.
func (n *Net) Visitors() map[netip.Prefix]netip.Addr {
	n.mu.RLock()
	defer n.mu.RUnlock()
	out := map[netip.Prefix]netip.Addr{}
	for a, v := range n.held {
		if a.Is4() && v.check() == nil {
			out[v.subnet] = a
		}
	}
	return out
}

// settle finds the visitor a free address, or says why there is none.
func (n *Net) settle(ctx context.Context, v *Visitor, near netip.Addr, avoid func(netip.Addr) bool) {
	defer close(v.ready)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-n.done:
			cancel()
		case <-ctx.Done():
		}
	}()
	tried, most := 0, maxCandidates
	defenders := map[device.MAC]int{}
	take := func(address netip.Addr) (ended bool) {
		err := n.probe(ctx, address)
		if err == nil {
			v.address = address
			n.mu.Lock()
			n.held[address] = v
			n.mu.Unlock()
			// One that fails closes nothing: it only corrects what others remember.
			_ = n.announce(address)
			return true
		}
		var conflict *acd.ConflictError
		isConflict := errors.As(err, &conflict)
		if isConflict {
			defenders[conflict.Holder]++
			if defenders[conflict.Holder] > answersAll {
				err = &GraspError{conflict}
			}
		}
		if tried++; !isConflict || tried == most {
			if isConflict {
				err = cmp.Or(n.grasping(ctx, conflict, v.subnet), err)
			}
			v.err = fmt.Errorf("%w %s: %w", ErrNoVisitor, v.subnet, err)
			n.forget(v)
			return true
		}
		return false
	}
	for address := range n.candidates(v.subnet, near, avoid) {
		if take(address) {
			return
		}
	}
	// Where every address of a subnet is claimed, what nobody defends is free all the same.
	if v.subnet.Addr().Is4() {
		most = tried + maxContested
		for address := range n.contested(v.subnet, near, avoid) {
			if take(address) {
				return
			}
		}
	}
	v.err = fmt.Errorf("%w %s: %w", ErrNoVisitor, v.subnet, n.fullness(v.subnet))
	n.forget(v)
}

// probe finds out whether an address is free: nil, or an *acd.ConflictError.
func (n *Net) probe(ctx context.Context, address netip.Addr) error {
	if address.Is4() {
		return acd.Begin(ctx, n, acd.Borrowed.At(n.Pace), n.facts.MAC, address).Wait(ctx)
	}
	return n.probe6(ctx, address)
}

// The probe for a duplicate IPv6 address (RFC 4862, 5.4), in the time of acd.Borrowed.
// The address is a random one of 2^40: RFC 4429 would let it be used at once.
const (
	duplicateProbes = 2
	duplicateGap    = 300 * time.Millisecond
)

func (n *Net) probe6(ctx context.Context, address netip.Addr) error {
	clash := make(chan device.MAC, 1)
	stop := n.Hear(func(h Heard) {
		if h.ND != nil && h.ND.Target == address && (h.ND.Kind == ndp.Tell || h.ND.Source.IsUnspecified()) {
			select {
			case clash <- h.From:
			default:
			}
		}
	})
	defer stop()
	for range duplicateProbes {
		if err := n.Send(ndp.Solicit(n.facts.MAC, netip.IPv6Unspecified(), address).Frame()); err != nil {
			return err
		}
		t := time.NewTimer(n.Pace.Of(duplicateGap))
		select {
		case <-t.C:
		case holder := <-clash:
			t.Stop()
			return &acd.ConflictError{Address: address, Holder: holder}
		case <-ctx.Done():
			t.Stop()
			return ctx.Err()
		}
	}
	return nil
}

// announce corrects caches that still name an earlier holder (RFC 5227, 2.3).
// Nobody can have met a random IPv6 address before.
func (n *Net) announce(address netip.Addr) error {
	if address.Is6() {
		return nil
	}
	return n.Send(arp.Announce(n.facts.MAC, address).Frame())
}

// answersAll is how many addresses, drawn by us and never claimed before, one MAC may
// answer for.
const answersAll = 4

// GraspError tells of a host that claims more addresses than it can have.
type GraspError struct{ *acd.ConflictError }

// Error names the host and what to do about it.
func (e *GraspError) Error() string {
	return lan.GraspText(e.Holder)
}

// Unwrap gives the conflict that it showed in.
func (e *GraspError) Unwrap() error { return e.ConflictError }

// fullness says why a subnet has no address left to try: who claims most of it, where one
// MAC claims more than any honest host has.
func (n *Net) fullness(subnet netip.Prefix) error {
	if loud := n.Graspers([]netip.Prefix{subnet}); len(loud) > 0 {
		return &GraspError{&acd.ConflictError{Address: subnet.Addr(), Holder: loud[0].MAC}}
	}
	return errors.New("every address is in use or kept clear")
}

func (n *Net) forget(v *Visitor) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.visitors[v.subnet] == v {
		delete(n.visitors, v.subnet)
	}
}

// candidates yields addresses of a subnet, those that share the most leading
// bits with near first: a device whose own mask is narrower than the subnet's
// would send its answer to a gateway instead. Left out are what was heard, the
// laptop's own, what avoid names, and the first and last address of each /29,
// which a narrower mask may make a network or a broadcast address.
func (n *Net) candidates(subnet netip.Prefix, near netip.Addr, avoid func(netip.Addr) bool) iter.Seq[netip.Addr] {
	if subnet.Addr().Is6() {
		return randomIn(subnet)
	}
	if last := n.Prefer[subnet]; subnet.Contains(last) {
		near = ground.FromUint(ground.ToUint(last) ^ 1) // which it is next to
	}
	return nearest(subnet, near, func(a netip.Addr) bool { return !n.isSeen(a) && (avoid == nil || !avoid(a)) })
}

// contested gives the addresses of a subnet that somebody claimed: some in the same order,
// then others at random.
func (n *Net) contested(subnet netip.Prefix, near netip.Addr, avoid func(netip.Addr) bool) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		all := slices.Collect(nearest(subnet, near, func(a netip.Addr) bool { return n.isClaimed(a) && (avoid == nil || !avoid(a)) }))
		if len(all) > contestedNear {
			rest := all[contestedNear:]
			rand.Shuffle(len(rest), func(i, j int) { rest[i], rest[j] = rest[j], rest[i] })
		}
		for _, a := range all {
			if !yield(a) {
				return
			}
		}
	}
}

// nearest gives addresses of a subnet that may be taken, from those next to near on.
func nearest(subnet netip.Prefix, near netip.Addr, may func(netip.Addr) bool) iter.Seq[netip.Addr] {
	if !near.Is4() || !subnet.Contains(near) {
		near = ground.Broadcast(subnet) // from the top, where few things are numbered
	}
	base := ground.ToUint(near)
	return func(yield func(netip.Addr) bool) {
		for distance := uint64(1); distance < 1<<(32-subnet.Bits()); distance++ {
			u := base ^ uint32(distance)
			a := ground.FromUint(u)
			if u%8 == 0 || u%8 == 7 || reservedLinkLocal(a) || !may(a) {
				continue
			}
			if !yield(a) {
				return
			}
		}
	}
}

// reservedLinkLocal reports the first and last 256 link-local addresses, which
// nobody may take (RFC 3927, 2.1).
func reservedLinkLocal(a netip.Addr) bool {
	b := a.As4()
	return a.IsLinkLocalUnicast() && (b[2] == 0 || b[2] == 255)
}

// randomIn yields addresses with a random interface identifier in an IPv6 /64, out of
// the highest: of those who ask for group members the lowest address wins (RFC 3810,
// 7.1), and ours must not. The laptop's own is made otherwise, so it is never borrowed.
func randomIn(subnet netip.Prefix) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for range maxCandidates {
			b := subnet.Masked().Addr().As16()
			binary.BigEndian.PutUint64(b[8:], 0xffffff<<40|rand.Uint64N(1<<40))
			if !yield(netip.AddrFrom16(b)) {
				return
			}
		}
	}
}

func (n *Net) isSeen(a netip.Addr) bool {
	for _, own := range n.facts.Addresses {
		if own.Addr() == a {
			return true
		}
	}
	n.mu.RLock()
	defer n.mu.RUnlock()
	return n.account.Taken(a) || n.held[a] != nil
}

// isClaimed reports whether somebody else claimed an address that is none of ours.
func (n *Net) isClaimed(a netip.Addr) bool {
	if slices.ContainsFunc(n.facts.Addresses, func(own netip.Prefix) bool { return own.Addr() == a }) {
		return false
	}
	n.mu.RLock()
	defer n.mu.RUnlock()
	_, claimed := n.account.Holder(a)
	return claimed && n.held[a] == nil
}
