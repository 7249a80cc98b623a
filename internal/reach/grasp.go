package reach

import (
	"context"
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/speak/arp"
)

// Whether somebody who has an address has any other as well shows by some that are drawn at random:
// so many, asked for so often, and answered within so long, which no pace changes.
const (
	drawnOf    = 8
	drawnTimes = 2
	drawnWait  = 300 * time.Millisecond
)

// graspers are those of whom it was found out, so that each is asked about once.
type graspers struct {
	mu    sync.Mutex
	found map[device.MAC]*finding
}

type finding struct {
	once sync.Once
	any  bool
}

// AnswersForAny reports whether a host that has an address answers for any other in its subnet too, as a
// router with proxy ARP does (RFC 1027). What it was heard to claim so far need not show that.
func (n *Net) AnswersForAny(ctx context.Context, holder device.MAC, in netip.Prefix) bool {
	if n.Grasps(holder) {
		return true
	}
	n.graspers.mu.Lock()
	if n.graspers.found == nil {
		n.graspers.found = map[device.MAC]*finding{}
	}
	f := n.graspers.found[holder]
	if f == nil {
		f = &finding{}
		n.graspers.found[holder] = f
	}
	n.graspers.mu.Unlock()
	f.once.Do(func() { f.any = n.answersForDrawn(ctx, holder, in) })
	return f.any
}

// answersForDrawn asks for addresses that are drawn at random.
func (n *Net) answersForDrawn(ctx context.Context, holder device.MAC, in netip.Prefix) bool {
	drawn := Drawn(in)
	if len(drawn) < drawnOf {
		return false // too few for it to show
	}
	for range drawnTimes {
		for _, a := range drawn {
			if n.Send(arp.Probe(n.facts.MAC, a).Frame()) != nil {
				return false // a wire that is gone is told by others
			}
		}
		t := time.NewTimer(drawnWait)
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return false
		}
	}
	return n.HasMost(holder, drawn)
}

// Drawn gives some host addresses of an IPv4 subnet, drawn at random. So many of them cannot all be
// in use by one host.
func Drawn(in netip.Prefix) (out []netip.Addr) {
	first, last := ground.ToUint(ground.Network(in))+1, ground.ToUint(ground.Broadcast(in))
	if last <= first {
		return nil
	}
	seen := map[uint32]bool{}
	for uint32(len(out)) < min(drawnOf, last-first) {
		if u := first + rand.Uint32N(last-first); !seen[u] {
			seen[u] = true
			out = append(out, ground.FromUint(u))
		}
	}
	return out
}

// HasMost reports whether a host answers for most of some addresses.
func (n *Net) HasMost(mac device.MAC, of []netip.Addr) bool {
	has := 0
	for _, a := range of {
		if holder, ok := n.Holder(a); ok && holder == mac {
			has++
		}
	}
	return has > len(of)/2
}
