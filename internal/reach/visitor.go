package reach

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"sync"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/speak/acd"
	"janustat/internal/speak/arp"
)

// ErrNoVisitor is wrapped when a subnet has no free address to visit from.
var ErrNoVisitor = errors.New("no free address to visit the subnet from")

// maxCandidates is how many addresses are probed for one visitor before giving up.
const maxCandidates = 4

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

func (v *Visitor) check() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.lost.IsZero() {
		return fmt.Errorf("%w: %s claims our visitor %s", ErrNoVisitor, v.lost, v.address)
	}
	return nil
}

// Visit gives the visitor of a subnet, taking an address there by RFC 5227 if
// there is none yet: 4 to 7 seconds. Callers in one subnet share it; a new one is
// taken as near to the address near as can be. avoid names addresses that must not
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
	return v, v.check()
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
	tried := 0
	for address := range n.candidates(v.subnet, near, avoid) {
		err := acd.Begin(ctx, n, n.facts.MAC, address).Wait(ctx)
		if err == nil {
			v.address = address
			n.mu.Lock()
			n.held[address] = v
			n.mu.Unlock()
			// The announcement corrects caches that still name an earlier holder (RFC 5227, 2.3).
			v.err = n.Send(arp.Announce(n.facts.MAC, address).Frame())
			return
		}
		if tried++; !errors.Is(err, acd.ErrConflict) || tried == maxCandidates {
			v.err = fmt.Errorf("%w %s: %w", ErrNoVisitor, v.subnet, err)
			n.forget(v)
			return
		}
	}
	v.err = fmt.Errorf("%w %s: every address is in use or kept clear", ErrNoVisitor, v.subnet)
	n.forget(v)
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
	if !near.Is4() || !subnet.Contains(near) {
		near = ground.Broadcast(subnet) // from the top, where few things are numbered
	}
	base := ground.ToUint(near)
	return func(yield func(netip.Addr) bool) {
		for distance := uint64(1); distance < 1<<(32-subnet.Bits()); distance++ {
			u := base ^ uint32(distance)
			a := ground.FromUint(u)
			if u%8 == 0 || u%8 == 7 || n.isSeen(a) || avoid != nil && avoid(a) {
				continue
			}
			if !yield(a) {
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
	_, seen := n.seen[a]
	return seen || n.held[a] != nil
}
