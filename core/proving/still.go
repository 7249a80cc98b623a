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
	err = p.opened(ctx, plan, func(s commission.Session) error {
		able, ok := s.(commission.Stiller)
		if !ok {
			return errors.New("it offers no still: it has no such service")
		}
		if first, err = able.Still(ctx); err != nil {
			return err
		}
		if err := p.Site.Pause(ctx); err != nil {
			return err
		}
		later, err = able.Still(ctx)
		return err
	})
	return first, later, err
}

// Backup fetches a device's own backup, by its password. Nothing is written to it.
func (p Prover) Backup(ctx context.Context, plan commission.Plan) (files []commission.File, err error) {
	err = p.opened(ctx, plan, func(s commission.Session) error {
		able, ok := s.(commission.Backer)
		switch {
		case !ok:
			return commission.ErrNoBackup
		case plan.RequireTLS && !s.Encrypted(): // a backup can have passwords in it
			return errors.New("it has no HTTPS, and require_tls in the job sheet forbids fetching passwords without it")
		}
		files, err = able.Backup(ctx)
		return err
	})
	return files, err
}

// opened opens a device where it is by its password, and does something with it.
func (p Prover) opened(ctx context.Context, plan commission.Plan, do func(commission.Session) error) error {
	find, cancel := context.WithTimeoutCause(ctx, commission.FindLimit+arriveLimit, errors.New("no answer"))
	defer cancel()
	at, err := p.Site.Find(find, plan, []netip.Addr{plan.From})
	if err != nil {
		return err
	}
	s, err := p.Site.Open(ctx, plan, at)
	if err != nil {
		return err
	}
	defer s.Close()
	r, err := p.tryKey(ctx, s, plan)
	switch {
	case err != nil:
		return commission.NoteLocked(ctx, p.Attempts, plan, err)
	case !r.Opened:
		return errors.New("its password does not open it")
	}
	return do(s)
}
