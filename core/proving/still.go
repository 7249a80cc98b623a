package proving

import (
	"context"
	"errors"
	"net/netip"

	"janustat/core/commission"
)

// Stills fetches two stills of a device, a moment apart, by its password. Nothing is
// written to it.
func (p Prover) Stills(ctx context.Context, plan commission.Plan) (first, later []byte, err error) {
	find, cancel := context.WithTimeoutCause(ctx, commission.FindLimit+arriveLimit, errors.New("no answer"))
	defer cancel()
	at, err := p.Site.Find(find, plan, []netip.Addr{plan.From})
	if err != nil {
		return nil, nil, err
	}
	s, err := p.Site.Open(ctx, plan, at)
	if err != nil {
		return nil, nil, err
	}
	defer s.Close()
	r, err := p.tryKey(ctx, s, plan)
	switch {
	case err != nil:
		return nil, nil, commission.NoteLocked(ctx, p.Attempts, plan, err)
	case !r.Opened:
		return nil, nil, errors.New("its password does not open it")
	}
	able, ok := s.(commission.Stiller)
	if !ok {
		return nil, nil, errors.New("it offers no still: it has no such service")
	}
	if first, err = able.Still(ctx); err != nil {
		return nil, nil, err
	}
	if err := p.Site.Pause(ctx); err != nil {
		return first, nil, err
	}
	later, err = able.Still(ctx)
	return first, later, err
}
