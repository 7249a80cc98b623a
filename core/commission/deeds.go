package commission

import (
	"context"
	"errors"

	"janustat/core/advice"
	"janustat/core/device"
)

// Change gives one device another password: plan.Replace, which is on the
// keyring, in the place of plan.Password. Nothing else is written. The result's
// Key tells which of the two the device has now, where that is known.
func (w Worker) Change(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, (*run).change)
}

// ChangeUsers gives the further users of one device that are not Made their level
// and password. Nothing else is written.
func (w Worker) ChangeUsers(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		return r.steadily(ctx, func() (err error) {
			if r.found, err = r.meet(ctx); err != nil {
				return err
			}
			if err := r.users(ctx); err != nil {
				return err
			}
			return r.usersOpen(ctx)
		})
	})
}

// Park has a recorder connect to none of the cameras of the plan's links until their channels
// are set again. What it refuses stays as it is.
func (w Worker) Park(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		return r.steadily(ctx, func() error {
			if _, err := r.meet(ctx); err != nil {
				return err
			}
			t := r.talk()
			defer t.Close()
			a, err := Ability[ChannelKeeper](ctx, t, "channels")
			for _, l := range of(p.Links, StepChannel) {
				if err != nil {
					break
				}
				err = r.do(ctx, Write{Step: StepRest, Intent: l.Name()}, func() error { return a.Park(ctx, l) })
				if denied(err) && ctx.Err() == nil {
					err = nil
				}
			}
			var unable *UnableError
			if errors.As(err, &unable) {
				return nil
			}
			return err
		})
	})
}

// Restart restarts one device and waits until it is back.
func (w Worker) Restart(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		if _, err := r.meet(ctx); err != nil {
			return err
		}
		if err := r.restart(ctx, false, "as asked for"); !errors.Is(err, errMoved) {
			return err
		}
		return nil
	})
}

// Wink has one device show itself. It is left as it was.
func (w Worker) Wink(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		r.plan.Target.Address = r.plan.From
		if err := r.arrive(ctx); err != nil {
			return err
		}
		if err := r.find(ctx, StepFind, FindLimit); err != nil {
			return err
		}
		if err := r.open(ctx); err != nil {
			return err
		}
		access, err := r.session.Access(ctx)
		if err == nil && (access != device.Fresh || r.plan.Known) {
			err = r.enter(ctx)
		}
		if err != nil {
			return err
		}
		t := r.talk()
		defer t.Close()
		a, err := Ability[Winker](ctx, t, "wink")
		if err == nil {
			var means string
			if means, err = a.Wink(ctx); err == nil {
				r.tell(StepFare, "by "+means)
				return nil
			}
		}
		var unable *UnableError
		if errors.As(err, &unable) {
			return trouble(nil, advice.Say("know it by its label: MAC %s, serial %s", p.MAC, p.Serial), "has nothing to show itself by")
		}
		return err
	})
}

// Reset puts one device back into its factory state. It is not waited for: it
// comes back at another address, fresh.
func (w Worker) Reset(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		if _, err := r.meet(ctx); err != nil {
			return err
		}
		err := r.do(ctx, Write{Step: StepReset, Intent: "to the factory state"}, func() error {
			a, err := able[Resetter](r.session, "factory state")
			if err != nil {
				return err
			}
			return a.Reset(ctx)
		})
		switch {
		case err == nil:
			r.result.Reset = OutcomeDone
			return nil
		case errors.Is(err, ErrReplyLost):
			r.result.Reset = OutcomeUnknown
			return r.afterReset(ctx)
		}
		return err
	})
}

// afterReset looks what became of a device whose answer to a reset was lost.
func (r *run) afterReset(ctx context.Context) error {
	lost := trouble(nil, advice.Say("run %s: if it is there as it was, reset it again; if it is fresh, %s brings it back", advice.Survey, advice.Restore.On(r.plan.Tag)),
		"did not answer when it was reset: whether it was is not known")
	if err := r.find(ctx, StepReturn, ResetLimit); err != nil {
		return lost // gone from its address, as a reset device is, and as one without power is
	}
	if err := r.open(ctx); err != nil {
		return lost
	}
	switch access, err := r.session.Access(ctx); {
	case err != nil:
		return lost
	case access == device.Fresh:
		r.result.Reset = OutcomeDone
		return nil
	}
	r.result.Reset = OutcomeRefused
	return trouble(nil, advice.Say("run %s again", advice.Reset.On(r.plan.Tag)), "did not answer when it was reset, and is as it was")
}

func (r *run) change(ctx context.Context) error {
	return r.steadily(ctx, func() error {
		if _, err := r.meet(ctx); err != nil {
			return err
		}
		if r.result.Key.Origin == FromChange {
			return nil // this run or an earlier one had got that far
		}
		return r.rekey(ctx, r.result.Key, "the password of "+r.plan.User)
	})
}
