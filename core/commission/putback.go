package commission

import (
	"context"
	"errors"
	"fmt"

	"janustat/core/advice"
)

// Former is what a device is put back to beside the settings of its plan's target.
type Former struct {
	Dismiss []string // users that the job has made
	DHCP    bool     // it asked for its address by DHCP
}

// PutBack gives one device the settings of its plan's target, which are those that it was found
// with, and takes away what the job has added. What the device refuses of that is noted, and
// keeps it from nothing else.
func (w Worker) PutBack(ctx context.Context, p Plan, to Former) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		if err := r.all(ctx); err != nil {
			return err
		}
		if err := r.back(ctx); err != nil {
			return err
		}
		for _, name := range to.Dismiss {
			err := r.do(ctx, Write{Step: StepDismiss, Intent: name}, func() error {
				a, err := able[UserRemover](r.session, "users that are to go")
				if err != nil {
					return err
				}
				return a.DeleteUser(ctx, name)
			})
			if err != nil && (!denied(err) || ctx.Err() != nil) {
				return err
			}
			if err != nil {
				r.note(fmt.Sprintf("its user %s, which the job has made, stays: %s", name, errors.Unwrap(err)))
			}
		}
		if to.DHCP {
			return r.toDHCP(ctx)
		}
		return nil
	})
}

// toDHCP has a device ask for its address by DHCP, which is the last that is said to it: it goes
// where the server sends it, and its answer may be lost.
func (r *run) toDHCP(ctx context.Context) error {
	restart := false
	err := r.do(ctx, Write{Step: StepDHCP, Intent: "on"}, func() error {
		a, err := able[Leaser](r.session, "DHCP")
		if err == nil {
			restart, err = a.SetDHCP(ctx)
		}
		return err
	})
	switch {
	case err == nil && restart:
		err = r.do(ctx, Write{Step: StepRestart, Intent: "to ask by DHCP"}, func() error {
			a, err := able[Restarter](r.session, "restart")
			if err != nil {
				return err
			}
			return a.Restart(ctx)
		})
	case denied(err) && ctx.Err() == nil:
		return trouble(err, advice.Say("turn DHCP on at the device's own page: %s", advice.Web.On(r.plan.Tag)), "is as it was found, but for DHCP, which it had on")
	}
	if errors.Is(err, ErrReplyLost) {
		return nil
	}
	return err
}
