package site

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
	found map[device.MAC]bool
}

// grasps reports whether a host that has an address answers for any other in its subnet too, as a
// router with proxy ARP does (RFC 1027). What it was heard to claim so far need not show that.
func (s *Site) grasps(ctx context.Context, holder device.MAC, in netip.Prefix) bool {
	if s.Net.Grasps(holder) {
		return true
	}
	s.graspers.mu.Lock()
	defer s.graspers.mu.Unlock()
	if known, ok := s.graspers.found[holder]; ok {
		return known
	}
	drawn := draw(in)
	if len(drawn) < drawnOf {
		return false // too few for it to show
	}
	for range drawnTimes {
		for _, a := range drawn {
			if s.Net.Send(arp.Probe(s.Net.Facts().MAC, a).Frame()) != nil {
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
	has := 0
	for _, a := range drawn {
		if mac, ok := s.Net.Holder(a); ok && mac == holder {
			has++
		}
	}
	if s.graspers.found == nil {
		s.graspers.found = map[device.MAC]bool{}
	}
	s.graspers.found[holder] = has > drawnOf/2
	return has > drawnOf/2
}

// draw gives some host addresses of a subnet, drawn at random.
func draw(in netip.Prefix) (out []netip.Addr) {
	first, last := ground.ToUint(ground.Network(in))+1, ground.ToUint(ground.Broadcast(in))
	if last < first+2*drawnOf {
		return nil
	}
	seen := map[uint32]bool{}
	for len(out) < drawnOf {
		u := first + rand.Uint32N(last-first)
		if !seen[u] {
			seen[u] = true
			out = append(out, ground.FromUint(u))
		}
	}
	return out
}
