package field

import (
	"context"
	"errors"
	"fmt"
	"net/netip"

	"janustat/core/commission"
	"janustat/internal/speak/onvif"
)

// Stiller is the ability of a session to give a still picture, as JPEG.
type Stiller interface {
	Still(ctx context.Context) ([]byte, error)
}

// Still implements Stiller.
func (s *session) Still(ctx context.Context) ([]byte, error) {
	data, err := s.Client.Still(ctx)
	if errors.Is(err, onvif.ErrNoStill) {
		return nil, err
	}
	return data, s.lost(err)
}

// Stills fetches two stills of a device, a moment apart, by its password. Nothing is
// written to it.
func (p Prover) Stills(ctx context.Context, plan commission.Plan) (first, later []byte, err error) {
	find, cancel := context.WithTimeoutCause(ctx, commission.FindLimit+acdLongest, errors.New("no answer"))
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
	able, ok := s.(Stiller)
	if !ok {
		return nil, nil, fmt.Errorf("%w: it has no such service", onvif.ErrNoStill)
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
