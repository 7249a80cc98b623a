package commission

import (
	"context"
	"errors"
	"net/netip"
	"slices"

	"janustat/core/advice"
	"janustat/core/device"
)

func (r *run) gateway(ctx context.Context) error {
	w := r.plan.write(StepGateway, r.found)
	return r.do(ctx, w, func() error { return r.setGateway(ctx, w) })
}

// errMoved ends a pass: the device has gone to another address, or was restarted.
var errMoved = errors.New("it has moved")

// address gives the device its address once the probe has found it free. Where the device
// refuses it as it is, it is offered after the gateway, and with DHCP switched off first,
// before it is called unable.
func (r *run) address(ctx context.Context) error {
	if err := r.awaitClaim(ctx); err != nil {
		return err
	}
	if r.plan.Pending {
		r.plan.Pending = false // an earlier run got this far: only the restart is missing
		return r.restart(ctx, slices.Contains(r.left, StepGateway), "to use the new address")
	}
	target := r.plan.Target
	restart, err := r.setAddress(ctx, target)
	if denied(err) && slices.Contains(r.left, StepGateway) && ctx.Err() == nil {
		if gerr := r.gateway(ctx); gerr == nil {
			restart, err = r.setAddress(ctx, target)
		} else if !denied(gerr) {
			return gerr
		}
	}
	if now := r.found.Settings; denied(err) && now.DHCP && now.Address.Is4() && ctx.Err() == nil {
		// Some take no address of their own while they have a lease, and keep the one they
		// have when DHCP is switched off.
		now.DHCP = false
		if restart, err = r.setAddress(ctx, now); err == nil {
			r.phase++
			if restart {
				return r.restart(ctx, false, "to use no lease")
			}
			if err := r.find(ctx, StepReturn, ReturnLimit); err != nil {
				return err
			}
			return errMoved
		}
	}
	switch {
	case denied(err) && r.found.Settings.DHCP && ctx.Err() == nil:
		// A device on DHCP that refuses a static address in every way keeps to DHCP.
		r.plan.Target.DHCP, r.result.Reserved = true, true
		return errMoved // it has not: the next pass looks at what is left
	case err != nil:
		return err
	}
	r.phase++
	r.move = r.move.takes()
	if restart {
		return r.restart(ctx, slices.Contains(r.left, StepGateway), "to use the new address")
	}
	if err := r.find(ctx, StepReturn, ReturnLimit); err != nil {
		return err
	}
	return errMoved
}

func (r *run) setAddress(ctx context.Context, t device.Settings) (restart bool, err error) {
	err = r.do(ctx, placeWrite(t), func() error {
		a, err := able[Addresser](r.session, "address")
		if err != nil {
			return err
		}
		restart, err = a.SetAddress(ctx, t)
		if restart {
			r.detail = AtRestart
		}
		return err
	})
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
		return r.notFree(err, "")
	}
	return r.hold(ctx)
}

// notFree tells why an address is not given: somebody has it, or nobody can know. Warning follows the reason.
func (r *run) notFree(err error, warning string) error {
	if !errors.Is(err, ErrInUse) {
		return trouble(err, advice.Say("run %s again", advice.Commission), "it is not known whether its new address is free"+warning)
	}
	return trouble(err, advice.Say("find out what has the address, then run %s and %s", advice.Survey, advice.AllotAgain.On(r.plan.Tag)),
		"its new address is already in use"+warning)
}

// restart restarts a device, setting the gateway first where that is due. A refused
// gateway is tried again after the restart, since devices may refuse one outside the
// subnet they are still on.
func (r *run) restart(ctx context.Context, withGateway bool, why string) error {
	if withGateway {
		if err := r.gateway(ctx); err != nil && !denied(err) && !errors.Is(err, ErrReplyLost) {
			return err
		}
	}
	err := r.do(ctx, Write{Step: StepRestart, Intent: why}, func() error {
		a, err := able[Restarter](r.session, "restart")
		if err != nil {
			return err
		}
		return a.Restart(ctx)
	})
	if err != nil && !errors.Is(err, ErrReplyLost) {
		return err
	}
	r.phase++
	// Where its word of it was lost, the question may have been lost as well: a device that
	// is still where it was is asked once more, and not waited for.
	r.move = r.move.restarts(err == nil)
	if err := r.find(ctx, StepReturn, ReturnLimit); err != nil {
		return err
	}
	return errMoved
}

// stay deals with a device that has taken its address and is still where it was. Some
// want a restart that they do not ask for, and some act on one minutes later. done is
// false where nothing is left to be tried.
func (r *run) stay(ctx context.Context) (done bool, err error) {
	switch r.move.due(r.stayed) {
	case dueRestart:
		err = r.restart(ctx, false, "to use the new address")
	case duePatience:
		r.move = r.move.waits()
		r.close()
		r.tell(StepReturn, "waiting for it to restart, which it has agreed to")
		defer r.clock(StepReturn)()
		places := r.places()
		ctx, cancel := context.WithTimeoutCause(ctx, ReturnLimit, errors.New("it has not restarted"))
		defer cancel()
		var at netip.Addr
		if at, err = r.Site.Repowered(ctx, r.plan, r.at, places); err != nil {
			return true, trouble(err, advice.Say("power it off and on, then run %s again", advice.Commission), "has taken its address, and does not restart to use it")
		}
		r.at, r.result.At = at, at
		r.phase++
	default:
		return false, nil
	}
	if errors.Is(err, errMoved) {
		err = nil
	}
	return true, err
}
