package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/ground"
)

// DefaultHandLimit is how long a person may take to type an address in.
const DefaultHandLimit = 10 * time.Minute

// Typing tells exactly what to type into a device that nothing else can set up.
func Typing(p Plan) string {
	t := p.Target
	text := fmt.Sprintf("address %s, mask %s", t.Address, ground.Mask(t.Prefix))
	if t.Gateway.IsValid() {
		text += ", gateway " + t.Gateway.String()
	}
	if len(t.DNS) > 0 {
		text += ", DNS " + ground.List(t.DNS)
	}
	return text + ", DHCP off"
}

// byHand waits until a person has typed the address in: until the device's MAC
// appears there and nobody else does.
func (r *run) byHand(ctx context.Context) error {
	if r.claim != nil {
		r.tell(StepProbe, "is "+r.plan.Target.Address.String()+" free?")
		stop := r.clock(StepProbe)
		err := r.claim.Wait(ctx)
		stop()
		if err != nil {
			return r.notFree(err, ". Do not enter it")
		}
	}
	var err error
	if r.plan.From == r.plan.Target.Address {
		err = r.appear(ctx, StepFind, "looking for it")
	} else {
		err = r.typed(ctx)
	}
	if err != nil {
		return err
	}
	return r.alone(ctx)
}

// typed journals what a person is asked to type, and waits for it.
func (r *run) typed(ctx context.Context) error {
	id, err := r.Journal.Begin(ctx, r.plan, Write{Step: StepHand, Intent: "type in " + Typing(r.plan)})
	if err != nil {
		return trouble(err, advice.Say("free some disk space, then run %s again", advice.Commission), "the register cannot be written")
	}
	stop := r.clock(StepHand)
	err = r.appear(ctx, StepHand, Typing(r.plan))
	stop()
	outcome, detail := "done", ""
	if err != nil {
		outcome, detail = "unknown", err.Error()
	}
	if jerr := r.Journal.End(context.WithoutCancel(ctx), id, outcome, detail); jerr != nil {
		return errors.Join(err, fmt.Errorf("register the outcome: %w", jerr))
	}
	return err
}

// appear waits until the device is at its allotted address.
func (r *run) appear(ctx context.Context, s Step, text string) error {
	r.tell(s, text)
	limit := FindLimit
	if s == StepHand {
		limit = r.HandLimit
	}
	ctx, cancel := context.WithTimeoutCause(ctx, limit, errors.New("it has not appeared there"))
	defer cancel()
	at, err := r.Site.Find(ctx, r.plan, []netip.Addr{r.plan.Target.Address})
	if err != nil {
		return trouble(err, advice.Say("type in by its own page (%s) or screen: %s; then run %s again", advice.Web.On(r.plan.Tag), Typing(r.plan), advice.Commission),
			"has to be set up by hand")
	}
	r.at, r.result.At = at, at
	return nil
}

// alone makes sure that nobody else answers for the address, and records it.
func (r *run) alone(ctx context.Context) error {
	r.tell(StepVerify, "is it alone there?")
	defer r.clock(StepVerify)()
	if err := r.notAlone(ctx, r.Site.Alone(ctx, r.plan)); err != nil {
		return err
	}
	s := r.plan.Target
	s.Name = ""
	r.result.Left = Found{Settings: s, MACs: []device.MAC{r.plan.MAC}}
	return r.Journal.Left(ctx, r.plan, r.result.Left)
}

// notAlone waits whether anybody else answers for the address that the device has.
func (r *run) notAlone(ctx context.Context, c Claim) error {
	err := c.Wait(ctx)
	switch {
	case err == nil:
		return nil
	case !errors.Is(err, ErrInUse):
		return trouble(err, advice.Say("run %s again", advice.Commission), "it is not known whether it is alone on "+r.plan.Target.Address.String())
	}
	return trouble(err, advice.Say("find out who has the other device, by its MAC: a colleague's laptop may be giving out addresses on this LAN. Then give this one another address: %s", advice.AllotAgain.On(r.plan.Tag)),
		"is not alone on "+r.plan.Target.Address.String())
}

// byReservation looks whether a device that takes nothing but a lease has the
// allotted address.
func (r *run) byReservation(ctx context.Context) error {
	r.result.Reserved = true
	if err := r.appear(ctx, StepFind, "looking for it"); err != nil {
		return r.unreserved(err)
	}
	return r.alone(ctx)
}

// checkLease makes sure that a device which keeps to DHCP has the allotted address.
func (r *run) checkLease(f Found) error {
	if !r.plan.Target.DHCP || f.Settings.Address == r.plan.Target.Address {
		return nil
	}
	return r.unreserved(nil)
}

func (r *run) unreserved(err error) error {
	r.result.Reserved = true
	return trouble(err, advice.Say("reserve %s for %s on the site's DHCP server (the line is below), or lease it for now with %s; power the device off and on, and run %s again",
		r.plan.Target.Address, r.plan.MAC, advice.Lease, advice.Commission), "accepts only DHCP, and its lease is not the allotted address")
}
