package commission

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"janustat/core/secret"
	"janustat/core/text"
)

// write carries out the steps of one pass. Address and gateway come last; a
// device that moves at once gets its gateway in the next pass.
func (r *run) write(ctx context.Context, steps []Step) error {
	moved := false
	for _, s := range steps {
		var err error
		w := r.plan.write(s, r.found)
		switch s {
		case StepClock:
			err = r.do(ctx, w, func() error {
				late, err := r.session.SetClock(ctx)
				if late > 0 {
					r.detail = fmt.Sprintf("up to %s late: the answer took that long", late.Round(100*time.Millisecond))
				}
				return err
			})
		case StepZone:
			err = r.optional(ctx, w, func() error { return r.session.SetZone(ctx, w.Intent) })
		case StepName:
			err = r.do(ctx, w, func() error { return r.session.SetName(ctx, w.Intent) })
		case StepUser:
			err = r.users(ctx)
		case StepDNS:
			err = r.optional(ctx, w, func() error { return r.session.SetDNS(ctx, r.plan.Target.DNS) })
		case StepNTP:
			err = r.optional(ctx, w, func() error { return r.session.SetNTP(ctx, r.plan.Target.NTP) })
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
			// Unknown or moved: either way, look in both places. One that was not told to
			// go is waited for where it is.
			step := StepFind
			if s == StepAddress {
				step = StepReturn
			}
			return r.find(ctx, step, ReturnLimit)
		}
	}
	return nil
}

func (r *run) gateway(ctx context.Context) error {
	return r.do(ctx, r.plan.write(StepGateway, r.found), func() error { return r.session.SetGateway(ctx, r.plan.Target.Gateway) })
}

// address gives the device its address once the probe has found it free.
func (r *run) address(ctx context.Context) (restart bool, err error) {
	if err := r.awaitClaim(ctx); err != nil {
		return false, err
	}
	if r.plan.Pending {
		r.plan.Pending = false
		return true, nil // an earlier run got this far: only the restart is missing
	}
	t := r.plan.Target
	err = r.do(ctx, r.plan.write(StepAddress, r.found), func() error {
		restart, err = r.session.SetAddress(ctx, t)
		if restart {
			r.detail = AtRestart
		}
		return err
	})
	if r.denied && r.found.Settings.DHCP && ctx.Err() == nil {
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
		if err := r.gateway(ctx); err != nil && !r.denied && !errors.Is(err, ErrReplyLost) {
			return err
		}
	}
	why := "to use the new address"
	if !withGateway && r.plan.From == r.plan.Target.Address {
		why = "as asked for"
	}
	err := r.do(ctx, Write{Step: StepRestart, Intent: why}, func() error { return r.session.Restart(ctx) })
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
	if err := r.usersOpen(ctx); err != nil {
		return err
	}
	r.result.Left = f
	r.remark(f)
	return r.Journal.Left(ctx, r.plan, f)
}

// remark notes what the installer may want to know of a device that is right.
func (r *run) remark(f Found) {
	if f.CanTLS {
		r.note("has HTTPS, switched off: switch it on at its own page, then `janustat survey` and `janustat key change` set its password with encryption")
	}
}

func (r *run) note(text string) { r.result.Notes = append(r.result.Notes, text) }

// users creates the further users that are missing, and sets right those that are there.
func (r *run) users(ctx context.Context) error {
	for i := range r.plan.Users {
		u := &r.plan.Users[i]
		if !u.missing(r.found) {
			continue
		}
		there := slices.ContainsFunc(r.found.Accounts, func(a Account) bool { return a.Name == u.Name })
		write := r.session.CreateUser
		if there {
			write = r.session.ChangeUser
		}
		err := r.give(ctx, userWrite(*u), u.Name, &u.Password, func(secret.Password) error {
			return write(ctx, *u) // whose password it is
		})
		if err != nil {
			return err
		}
		u.Made, r.given[u.Name] = true, true
	}
	return nil
}

// usersOpen makes sure that the passwords just given to further users open the
// device. What it has confirmed is no try, unless it turns out to be wrong.
func (r *run) usersOpen(ctx context.Context) error {
	for _, u := range r.plan.Users {
		if !r.given[u.Name] {
			continue
		}
		ok, err := OfferSure(ctx, r.Attempts, r.plan, Credential{User: u.Name, Password: u.Password}, r.session.Opens)
		if err != nil {
			return r.unanswered(err, "did not answer to the password of "+u.Name)
		}
		if !ok {
			return trouble(nil, fmt.Sprintf("give it another: `janustat key change %s --user %s`", r.plan.Tag, u.Name),
				fmt.Sprintf("took a password for %s and is not opened by it", u.Name))
		}
		delete(r.given, u.Name)
	}
	return nil
}

// private makes sure that a password may be set over this conversation.
func (r *run) private() error {
	if r.session.Encrypted() || !r.plan.RequireTLS {
		return nil
	}
	return trouble(nil, fmt.Sprintf("switch HTTPS on at its own page (`janustat web %s`) and run `janustat survey`, or except it under password.without_tls in the job sheet", r.plan.Tag),
		"offers no HTTPS, and the job sheet lets no password be set without (require_tls)")
}

// optional carries out a write whose refusal the device can live with.
func (r *run) optional(ctx context.Context, w Write, write func() error) error {
	err := r.do(ctx, w, write)
	if !r.denied || ctx.Err() != nil {
		return err
	}
	r.refused[w.Step] = true
	r.note(fmt.Sprintf("refuses its %s (%s): set it at its own page", strings.ToUpper(string(w.Step)), w.Intent))
	return nil
}

// do journals and carries out one write.
func (r *run) do(ctx context.Context, w Write, write func() error) error {
	s, intent := w.Step, w.Intent
	r.denied = false
	if err := ctx.Err(); err != nil {
		return err // nothing is begun once the run is stopped
	}
	r.tell(s, intent)
	defer r.clock(s)()
	id, err := r.Journal.Begin(ctx, r.plan, w)
	if err != nil {
		return trouble(err, "free some disk space, then run `janustat commission` again", "the register cannot be written, so nothing was sent")
	}
	r.result.Writes = append(r.result.Writes, s)
	r.detail = ""
	err = write()
	outcome, detail := OutcomeDone, r.detail
	switch {
	case errors.Is(err, ErrReplyLost):
		outcome, detail, r.unknown = OutcomeUnknown, err.Error(), true
	case err != nil:
		outcome, detail = OutcomeRefused, err.Error()
	}
	switch {
	case outcome == OutcomeRefused:
	case s == StepAddress, s == StepName, s == StepRestart:
		r.renews = true // some make another certificate then
	}
	// The outcome is recorded even when the run is being stopped.
	if jerr := r.Journal.End(context.WithoutCancel(ctx), id, string(outcome), text.Harmless(detail, 2*text.Long, nil)); jerr != nil {
		return errors.Join(err, fmt.Errorf("register the outcome: %w", jerr))
	}
	if errors.Is(err, ErrWindow) {
		r.window = fmt.Sprintf("%s %s", s, intent)
		return err
	}
	if r.denied = outcome == OutcomeRefused; r.denied {
		return trouble(err, "look at the device's own page, then run `janustat commission` again", fmt.Sprintf("refuses its %s (%s)", s, intent))
	}
	return err
}
