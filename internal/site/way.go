package site

import (
	"context"
	"net/netip"
	"sync"

	"janustat/core/commission"
	"janustat/core/secret"
	"janustat/internal/authority"
	"janustat/internal/reach"
	"janustat/internal/tongue"
	"janustat/internal/tongues"
)

// Network implements tongue.Way.
func (s *Site) Network() *reach.Net { return s.Net }

// Visitor implements tongue.Way: it gives our own address in the subnet of another.
func (s *Site) Visitor(ctx context.Context, of netip.Addr) (*reach.Visitor, error) {
	return s.Net.Visit(ctx, s.Subnets.Of(of), of, s.Avoid)
}

// Memory implements tongue.Way.
func (s *Site) Memory() *sync.Map { return &s.memory }

// Authority implements tongue.Way.
func (s *Site) Authority() *authority.Authority {
	if s.Signs == nil {
		return nil
	}
	return s.Signs()
}

// Blank implements tongue.Way.
func (s *Site) Blank() *secret.Veil { return s.Veil }

// Open implements commission.Site.
func (s *Site) Open(ctx context.Context, p commission.Plan, at netip.Addr) (commission.Session, error) {
	return tongues.For(p).Open(ctx, s, p, at)
}

// locate looks for a device by its MAC, in the tongue it is opened in; false where that
// has no such way.
func (s *Site) locate(ctx context.Context, p commission.Plan, found chan<- netip.Addr) bool {
	l, ok := tongues.For(p).(tongue.Locator)
	if !ok {
		return false
	}
	go func() {
		if at, err := l.Locate(ctx, s, p); err == nil {
			found <- at
		}
	}()
	return true
}
