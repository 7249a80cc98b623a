package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/survey"
)

// Deed is one thing done to one device where it is: to restart it, or to reset it.
type Deed = func(commission.Worker, context.Context, commission.Plan) commission.Result

// Do does one thing to devices of the job, side by side. tell is told of each step.
func (d *Desk) Do(ctx context.Context, n *reach.Net, planner *Planner, list []*device.Device, deed Deed, tell View) ([]commission.Result, error) {
	plans := make([]commission.Plan, len(list))
	for i, x := range list {
		plans[i] = planner.KeyPlan(x)
	}
	prover, done, err := d.Prover(ctx, n)
	if err != nil {
		return nil, err
	}
	defer done()
	w := d.worker(prover, tell.Step, planner.Keyring)
	return d.watchOver(ctx, planner.Keyring, tell, func(done func(commission.Result)) []commission.Result {
		return commission.Each(plans, func(f func()) { go f() }, done, func(p commission.Plan) commission.Result {
			if p.Stop != nil {
				return commission.Result{Plan: p, Status: commission.NeedsYou, Reason: p.Stop.Error(), Next: p.Stop.Next}
			}
			return deed(w, ctx, p)
		})
	})
}

// Left tells of what devices have left to a person, as an error; nil if nothing.
func Left(ctx context.Context, results []commission.Result) error {
	var all []error
	for _, r := range results {
		switch {
		case r.Status == commission.Done:
		case ctx.Err() != nil:
			return ErrInterrupted
		default:
			all = append(all, troubled(r.Plan.Tag, r.Reason, r.Next))
		}
	}
	return errors.Join(all...)
}

// AwaitFresh waits until a unit says that it has no password, and puts it into the place
// of a device of the job: itself, or, if it is named as such, a replacement that keeps tag,
// name and address.
func (d *Desk) AwaitFresh(ctx context.Context, n *reach.Net, x *device.Device, unit device.MAC, replaces bool, wait time.Duration) (*device.Device, error) {
	s, err := d.NewSurvey(ctx, n, SurveyOrder{Listen: wait, Silent: true})
	if err != nil {
		return nil, err
	}
	s.Enough = func(f *survey.Findings) bool {
		for _, g := range f.Sightings {
			if g.MAC == unit && g.Facts.Access == device.Fresh {
				return true
			}
		}
		return false
	}
	// Rounds, since a survey asks a device what it is when it is first heard.
	var found *survey.Findings
	for begun := time.Now(); ; {
		s.Listen = min(survey.DefaultListen, max(wait-time.Since(begun), time.Second))
		if found, err = s.Run(ctx); err != nil {
			return nil, err
		}
		if found.Enough {
			break
		}
		if ctx.Err() != nil {
			return nil, ErrInterrupted
		}
		if time.Since(begun) >= wait {
			return nil, unfinished("%s was not seen fresh within %s: reset it, and run this again", x.Label(), wait)
		}
	}
	back, err := d.replace(x.ID, unit, replaces, WithKinds(d.Job, device.Merge(found.Sightings)))
	if err != nil {
		return nil, err
	}
	return back, d.Job.Register.Replace(ctx, *back, unit)
}

// replace gives the device of an ID as the unit with a MAC.
func (d *Desk) replace(id int64, mac device.MAC, replaces bool, found []device.Device) (*device.Device, error) {
	x := *device.ByID(d.Devices, id)
	if known := device.ByMAC(d.Devices, mac); x.MAC != mac && known != nil && known.InJob == device.Taken {
		return nil, &Misuse{advice.Wrap(fmt.Errorf("%s is in the job already under another tag", mac), "%s it first", advice.Leave.On(known.Tag))}
	}
	unit := device.ByMAC(found, mac)
	if unit == nil {
		return nil, fmt.Errorf("%s was not heard again: run this once more", mac)
	}
	if !replaces && !x.OpenedAt.IsZero() && !x.SameKeys(unit) {
		return nil, &Unfinished{advice.Wrap(
			fmt.Errorf("%s has another key than when it was opened, and a key stays over resets: it is another unit, or another device that answers by its MAC. Nothing was sent to it", x.Label()),
			"if the unit was replaced, name its MAC with --with: %s", advice.Restore.On(x.Label()))}
	}
	x.Apply(device.Restored{At: time.Now(), Unit: *unit, Same: !replaces})
	return &x, nil
}

// Recommission plans for devices that are back, with new passwords where they are fresh, and for those that are
// to know of them.
func (d *Desk) Recommission(planner *Planner, partners []*device.Device, back ...*device.Device) ([]commission.Plan, error) {
	var tags []string
	for _, x := range back {
		tags = append(tags, x.Tag)
		for i := range planner.All {
			if planner.All[i].ID == x.ID {
				planner.All[i] = *x
			}
		}
		if x.Access != device.Fresh {
			continue
		}
		if err := planner.Renew(x); err != nil {
			return nil, &Misuse{err}
		}
	}
	planner.AdmitNewcomers = true // it was asked for by name
	return d.Rejoin(planner, partners, tags, back...)
}
