package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/advice"
)

// awaitPower waits until a person has powered the device off and on.
func (r *run) awaitPower(ctx context.Context) error {
	r.close()
	r.tell(StepPower, "power-cycle it now: it accepts settings only for a short time after power-on")
	defer r.clock(StepPower)()
	places := r.places()
	ctx, cancel := context.WithTimeoutCause(ctx, r.HandLimit, errors.New("it was not powered off and on"))
	defer cancel()
	at, err := r.Site.Repowered(ctx, r.plan, r.at, places)
	if err != nil {
		return trouble(err, advice.Say("power it off and on, and run %s again at once", advice.Commission), "takes settings only for a while after power-on, and that is over")
	}
	r.at, r.result.At = at, at
	return nil
}

// places are where the device may be: its new address, and where it was met.
func (r *run) places() []netip.Addr {
	places := []netip.Addr{r.plan.Target.Address}
	for _, a := range append([]netip.Addr{r.plan.From, r.at}, r.also...) {
		if a.IsValid() && !slices.Contains(places, a) {
			places = append(places, a)
		}
	}
	return places
}

// arrive makes ready to speak in the device's old and new subnets.
func (r *run) arrive(ctx context.Context) error {
	r.tell(StepVisit, "taking a visitor address in its subnet")
	defer r.clock(StepVisit)()
	if err := r.tethered(ctx, func() error { return r.Site.Arrive(ctx, r.plan) }); err != nil {
		return trouble(err, advice.Say("run %s, then %s again", advice.Survey, advice.Commission), "its subnet cannot be visited")
	}
	return nil
}

// find meets the device at its new or its old address.
func (r *run) find(ctx context.Context, step Step, limit time.Duration) error {
	r.close()
	if err := ctx.Err(); err != nil {
		return err
	}
	what := "looking for it"
	if step == StepReturn {
		what = "waiting for it to come back"
	}
	r.tell(step, what)
	defer r.clock(step)()
	places := r.places()
	var at netip.Addr
	err := r.tethered(ctx, func() (err error) {
		ctx, cancel := context.WithTimeoutCause(ctx, limit, errors.New("no answer"))
		defer cancel()
		if step == StepReturn {
			at, r.stayed, err = r.Site.Return(ctx, r.plan, r.at, places)
		} else {
			at, err = r.Site.Find(ctx, r.plan, places)
		}
		return err
	})
	if err != nil {
		next := advice.Say("check its cable and power, run %s, then %s again", advice.Survey, advice.Commission)
		if !r.plan.From.IsValid() {
			next = advice.Say("it had no address when last seen: %s gives it the allotted one, then run %s again", advice.Lease, advice.Commission)
		}
		return trouble(err, next, fmt.Sprintf("does not answer at %s", join(places)))
	}
	r.at, r.result.At = at, at
	return nil
}

// tethered does what may fail because the laptop's own link is gone: that is no fault of
// the device, and it is done again once the link is back.
func (r *run) tethered(ctx context.Context, what func() error) error {
	for tries := 0; ; tries++ {
		begun := r.Site.Now()
		err := what()
		if err == nil || ctx.Err() != nil || tries == maxBreaks {
			return err
		}
		again, werr := r.Site.Tethered(ctx, begun)
		if werr != nil || !again {
			return err
		}
	}
}

func join(places []netip.Addr) string {
	text := ""
	for i, a := range places {
		if i > 0 {
			text += " or "
		}
		text += a.String()
	}
	return text
}

// open makes sure of a place and a conversation.
func (r *run) open(ctx context.Context) error {
	if r.session != nil {
		return nil
	}
	if err := r.hold(ctx); err != nil {
		return err
	}
	defer r.clock(StepOpen)()
	var s Session
	begun := r.Site.Now()
	err := r.tethered(ctx, func() (err error) {
		for {
			if s, err = r.Site.Open(ctx, r.plan, r.at); err != nil && r.elsewhere(ctx) {
				s, err = r.Site.Open(ctx, r.plan, r.at)
			}
			// One that was spoken with before has a service: it may come up minutes after
			// the device answers by ARP.
			if err == nil || !r.spoken || ctx.Err() != nil || r.Site.Now().Sub(begun) > ServiceLimit {
				return err
			}
		}
	})
	var told *Trouble
	if errors.As(err, &told) {
		return err // it is another device
	}
	if err != nil {
		next := advice.Say("run %s again; if it repeats, power the device off and on", advice.Commission)
		if r.plan.TLS != nil {
			next = advice.Say("run %s, which looks whether it still offers HTTPS, then %s again", advice.Survey, advice.Commission)
		}
		return trouble(err, next, fmt.Sprintf("cannot be reached at %s", r.at))
	}
	r.session, r.entered, r.spoken = s, false, true
	return nil
}

// elsewhere looks whether a device that does not answer where it was met has moved
// since: one may restart by itself, and take up its new address with that.
func (r *run) elsewhere(ctx context.Context) bool {
	ctx, cancel := context.WithTimeoutCause(ctx, FindLimit, errors.New("no answer"))
	defer cancel()
	at, err := r.Site.Find(ctx, r.plan, r.places())
	if err != nil || at == r.at {
		return false
	}
	r.at, r.result.At = at, at
	return true
}

func (r *run) hold(ctx context.Context) error {
	if r.held {
		return nil
	}
	defer r.clock(StepTurn)()
	if err := r.Place.Take(ctx); err != nil {
		return err
	}
	r.held = true
	r.patience.begin(r.Site.Now())
	return nil
}

// close ends the conversation and gives the place back.
func (r *run) close() {
	if r.session != nil {
		r.session.Close()
		r.session = nil
	}
	r.rest()
}

// rest gives the place back while nothing is being said.
func (r *run) rest() {
	if r.held {
		r.Place.Give()
		r.held = false
		r.patience.pause(r.Site.Now())
	}
}

// back opens the device with its password once more, where the conversation was ended
// meanwhile. What was read of it is not read again.
func (r *run) back(ctx context.Context) error {
	if r.session != nil {
		return nil
	}
	if err := r.open(ctx); err != nil {
		return err
	}
	return r.enter(ctx)
}

// read opens the device with its password, setting it first where it is fresh,
// and reads everything.
func (r *run) read(ctx context.Context) (Found, error) {
	if err := r.open(ctx); err != nil {
		return Found{}, err
	}
	if err := r.enter(ctx); err != nil {
		return Found{}, err
	}
	defer r.clock(StepRead)()
	found, err := ReadAll(ctx, r.session, r.plan)
	if err != nil {
		return Found{}, trouble(err, advice.Say("run %s again", advice.Commission), "its settings cannot be read")
	}
	if err := r.identify(found); err != nil {
		return Found{}, err
	}
	if r.plan.Serial == "" && r.plan.NameBySerial != nil {
		if name := r.plan.NameBySerial(found.Serial); name != "" {
			r.plan.Target.Name = name
		}
	}
	return found, nil
}

// identify makes sure that it is the planned device that answers.
func (r *run) identify(f Found) error {
	if r.plan.Serial != "" && f.Serial != "" && f.Serial != r.plan.Serial {
		return trouble(nil, advice.Say("run %s and look at both devices", advice.Survey),
			fmt.Sprintf("another device answers at %s: serial %s, not %s", r.at, f.Serial, r.plan.Serial))
	}
	for _, port := range r.plan.Ports {
		if !slices.Contains(f.MACs, port) {
			return trouble(nil, advice.Say("find %s by the switch's port lights, and run %s", port, advice.Survey),
				fmt.Sprintf("does not know the card %s, which answers at its addresses", port))
		}
	}
	return nil
}

func (r *run) tell(s Step, text string) {
	if r.Watch != nil {
		r.Watch(r.plan, s, text)
	}
}

// clock adds the time until the returned function is called to a step. Where a step
// is done inside another, its time is not the other's.
func (r *run) clock(s Step) func() {
	begun, inside := r.Site.Now(), r.inside
	r.inside = 0
	return func() {
		took := r.Site.Now().Sub(begun)
		r.result.Spent[s] += took - r.inside
		r.inside = inside + took
	}
}
