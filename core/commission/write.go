package commission

import (
	"context"
	"errors"
	"fmt"
	"slices"
)

// write carries out the steps of one pass. Address and gateway come last; a
// device that moves at once gets its gateway in the next pass.
func (r *run) write(ctx context.Context, steps []Step) error {
	moved := false
	for _, s := range steps {
		var err error
		switch s {
		case StepClock:
			err = r.do(ctx, s, "UTC now", func() error { return r.session.SetClock(ctx) })
		case StepName:
			err = r.do(ctx, s, r.plan.Target.Name, func() error { return r.session.SetName(ctx, r.plan.Target.Name) })
		case StepAddress:
			var restart bool
			restart, err = r.address(ctx)
			if r.plan.Target.DHCP {
				return nil // it keeps its lease; the next pass looks at what is left
			}
			if err == nil {
				if restart {
					return r.restart(ctx, slices.Contains(steps, StepGateway))
				}
				moved = true
			}
		case StepGateway:
			if moved {
				continue
			}
			err = r.gateway(ctx)
		}
		if err != nil && !errors.Is(err, ErrReplyLost) {
			return err
		}
		if err != nil || moved {
			// Unknown or moved: either way, look in both places.
			if err := r.find(ctx, StepReturn, ReturnLimit); err != nil {
				return err
			}
			return nil
		}
	}
	return nil
}

func (r *run) gateway(ctx context.Context) error {
	g := r.plan.Target.Gateway
	return r.do(ctx, StepGateway, g.String(), func() error { return r.session.SetGateway(ctx, g) })
}

// address gives the device its address once the probe has found it free.
func (r *run) address(ctx context.Context) (restart bool, err error) {
	if err := r.awaitClaim(ctx); err != nil {
		return false, err
	}
	t := r.plan.Target
	err = r.do(ctx, StepAddress, fmt.Sprintf("%s/%d, DHCP off", t.Address, t.Prefix), func() error {
		restart, err = r.session.SetAddress(ctx, t)
		return err
	})
	if err != nil && r.found.Settings.DHCP && !errors.Is(err, ErrReplyLost) && !errors.Is(err, ErrWindow) && ctx.Err() == nil {
		// A device on DHCP that refuses a static address keeps to DHCP.
		r.plan.Target.DHCP, r.result.Reserved = true, true
	}
	return restart, err
}

func (r *run) awaitClaim(ctx context.Context) error {
	if r.claim == nil {
		r.claim = r.Site.Claim(ctx, r.plan)
	}
	r.tell(StepProbe, "is "+r.plan.Target.Address.String()+" free?")
	r.rest() // others may speak while this one waits
	stop := r.clock(StepProbe)
	err := r.claim.Wait(ctx)
	stop()
	r.claim = nil // a later pass probes anew
	if err != nil {
		return trouble(err, "find out what has the address, then run `janustat survey` and `janustat allot --again "+r.plan.Tag+"`",
			"its allotted address is not free")
	}
	return r.hold(ctx)
}

// restart restarts a device that has taken an address, setting the gateway
// first. A refused gateway is tried again after the restart, since devices may
// refuse one outside the subnet they are still on.
func (r *run) restart(ctx context.Context, withGateway bool) error {
	if withGateway {
		if err := r.gateway(ctx); err != nil && (ctx.Err() != nil || errors.Is(err, ErrWindow)) {
			return err
		}
	}
	why := "to use the new address"
	if !withGateway && r.plan.From == r.plan.Target.Address {
		why = "as asked for"
	}
	err := r.do(ctx, StepRestart, why, func() error { return r.session.Restart(ctx) })
	if err != nil && !errors.Is(err, ErrReplyLost) {
		return err
	}
	return r.find(ctx, StepReturn, ReturnLimit)
}

func (r *run) verify(ctx context.Context, f Found) error {
	r.tell(StepVerify, "reading back")
	defer r.clock(StepVerify)()
	if len(f.MACs) > 0 && !slices.Contains(f.MACs, r.plan.MAC) {
		return trouble(nil, "run `janustat survey` and look at both devices", fmt.Sprintf("another device answers at %s", r.at))
	}
	refused, err := r.session.RefusesAnonymous(ctx)
	if err != nil {
		return trouble(err, "run `janustat prove`", "could not be asked without its password")
	}
	if !refused {
		return trouble(nil, "switch anonymous access off on the device's own page, then run `janustat prove`", "still lets anyone in without a password")
	}
	r.result.Left = f
	return r.Journal.Left(ctx, r.plan, f)
}

// do journals and carries out one write.
func (r *run) do(ctx context.Context, s Step, intent string, write func() error) error {
	r.tell(s, intent)
	defer r.clock(s)()
	id, err := r.Journal.Begin(ctx, r.plan, s, intent)
	if err != nil {
		return trouble(err, "free some disk space, then run `janustat commission` again", "the register cannot be written, so nothing was sent")
	}
	r.result.Writes = append(r.result.Writes, s)
	err = write()
	outcome, detail := "done", ""
	switch {
	case errors.Is(err, ErrReplyLost):
		outcome, detail = "unknown", err.Error()
	case err != nil:
		outcome, detail = "refused", err.Error()
	}
	// The outcome is recorded even when the run is being stopped.
	if jerr := r.Journal.End(context.WithoutCancel(ctx), id, outcome, detail); jerr != nil {
		return errors.Join(err, fmt.Errorf("register the outcome: %w", jerr))
	}
	if errors.Is(err, ErrWindow) {
		return err
	}
	if err != nil && outcome == "refused" {
		return trouble(err, "look at the device's own page, then run `janustat commission` again", fmt.Sprintf("refuses its %s (%s)", s, intent))
	}
	return err
}
