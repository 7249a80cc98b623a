package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/survey"
)

// seekLimit is how long a device is looked for that is not where it was.
const seekLimit = 3 * time.Minute

// restore finds devices wherever they have come back to, and sets them up again as they were, all of them together,
// since they may work with each other: with a new password where they have lost that. It gives those that are.
func (f *flasher) restore(ctx context.Context, list []*Firmware) (done []*Firmware) {
	lost := func(x *Firmware, why string) {
		x.fails(x.Why+"; then: "+text.Harmless(why, text.Long, f.d.Veil.Text), x.Next)
	}
	var tags []string
	for _, x := range list {
		f.d.Say("  %s: looking for it, to set it up again …", x.Device.Tag)
		err := f.seek(ctx, x.Device)
		if here := device.ByID(f.d.Devices, x.Device.ID); err == nil && here.Access == device.Fresh {
			if _, err = f.d.AwaitFresh(ctx, f.n, here, here.MAC, false, seekLimit); err == nil {
				err = f.reload(ctx)
			}
		}
		if err != nil {
			lost(x, err.Error())
			continue
		}
		done, tags = append(done, x), append(tags, x.Device.Tag)
	}
	if len(done) == 0 {
		return nil
	}
	var back []*device.Device
	for _, x := range done {
		back = append(back, device.ByID(f.d.Devices, x.Device.ID))
	}
	partners := f.d.Partners(tags)
	_, err := f.d.Park(ctx, f.n, f.planner, partners, tags, f.tell)
	var plans []commission.Plan
	if err == nil {
		plans, err = f.d.Recommission(f.planner, partners, back...)
	}
	var results []commission.Result
	if err == nil {
		results, err = f.carry(ctx, plans)
	}
	return slices.DeleteFunc(done, func(x *Firmware) bool {
		at := slices.IndexFunc(results, func(r commission.Result) bool { return r.Plan.ID == x.Device.ID })
		switch {
		case err != nil:
			lost(x, err.Error())
			return true
		case at < 0 || results[at].Status == commission.Done:
			return false
		}
		lost(x, results[at].Reason)
		return true
	})
}

// carry commissions, and takes over what is known then.
func (f *flasher) carry(ctx context.Context, plans []commission.Plan) ([]commission.Result, error) {
	results, err := f.d.Commission(ctx, f.n, f.planner, plans, Crew{Size: flashWidth, Hands: commission.DefaultHandLimit}, f.tell)
	return results, errors.Join(err, f.reload(ctx))
}

// seek listens and asks until a device is heard, wherever it is.
func (f *flasher) seek(ctx context.Context, x *device.Device) error {
	s, err := f.d.NewSurvey(ctx, f.n, SurveyOrder{Silent: true})
	if err != nil {
		return err
	}
	met := func(found *survey.Findings) bool {
		return slices.ContainsFunc(found.Sightings, func(g device.Sighting) bool {
			return g.MAC == x.MAC && (g.Facts.Access == device.Fresh || g.Facts.Access == device.Sealed)
		})
	}
	// One that says that it has no password has lost it by the firmware it was sent, if it is the one.
	lost := func(found []device.Device) error {
		now, here := device.ByMAC(found, x.MAC), device.ByID(f.d.Devices, x.ID)
		if now == nil || now.Access != device.Fresh {
			return nil
		}
		if now.Serial != "" && here.Serial != "" && now.Serial != here.Serial {
			return fmt.Errorf("the device that answers by its MAC has another serial number, %s and not %s: nothing was sent to it", now.Serial, here.Serial)
		}
		here.Apply(device.Reset{At: time.Now(), Certain: true})
		return nil
	}
	s.Enough = met
	x = device.ByID(f.d.Devices, x.ID)
	for begun := time.Now(); ; {
		found, err := s.Run(ctx)
		if err != nil {
			return err
		}
		if met(found) {
			merged := WithKinds(f.d.Job, device.Merge(found.Sightings))
			if err := lost(merged); err != nil {
				return err
			}
			f.d.Devices, _ = device.Reconcile(f.d.Devices, merged, time.Time{})
			f.planner.All = f.d.Devices
			return f.d.Save(ctx, "read")
		}
		switch {
		case ctx.Err() != nil:
			return ErrInterrupted
		case time.Since(begun) > seekLimit:
			return errors.New("it is heard nowhere: do not power it off while it may be writing; look at its cable and its lights")
		}
	}
}

// remember keeps which checks did not hold before anything was sent.
func (f *flasher) remember(x *Firmware, failed map[string]string) {
	f.before[x.Device.ID] = map[string]bool{}
	for name := range failed {
		f.before[x.Device.ID][name] = true
	}
}

// judge proves devices, and gives what does not hold of each, in words by check.
func (f *flasher) judge(ctx context.Context, list []*Firmware, then func(*Firmware, map[string]string)) error {
	only := Selection{}
	for _, x := range list {
		only[x.Device.ID] = true
	}
	if len(only) == 0 {
		return nil
	}
	p, err := f.d.Prove(ctx, f.n, f.planner.Keyring, only, nil)
	if err != nil {
		return err
	}
	for i := range p.Proofs {
		proof := &p.Proofs[i]
		at := slices.IndexFunc(list, func(x *Firmware) bool { return x.Device.ID == proof.Device.ID })
		failed := map[string]string{}
		for _, c := range proof.Checks {
			if !c.OK {
				failed[c.Name] = fmt.Sprintf("%s: wanted %s, got %s", c.Name, c.Want, c.Got)
			}
		}
		then(list[at], failed)
	}
	return nil
}

// settle proves devices with their firmware, and puts right what holds no more: by commissioning, once.
func (f *flasher) settle(ctx context.Context, list []*Firmware) {
	for round := range 2 {
		list = slices.DeleteFunc(slices.Clone(list), func(x *Firmware) bool { return !x.right() })
		if len(list) == 0 || ctx.Err() != nil {
			return
		}
		f.d.Say("proving what has its version …")
		why := map[int64]string{}
		err := f.judge(ctx, list, func(x *Firmware, failed map[string]string) {
			var wrong []string
			for _, name := range slices.Sorted(maps.Keys(failed)) {
				if !f.before[x.Device.ID][name] {
					wrong = append(wrong, failed[name])
				}
			}
			why[x.Device.ID] = strings.Join(wrong, "; ")
		})
		if err != nil {
			for _, x := range list {
				x.fails("has its version, and could not be proved: "+err.Error(), advice.Say("look at it: %s, %s", advice.Prove, advice.Web.On(x.Device.Tag)).Text(f.d.Words))
			}
			return
		}
		wrong := slices.DeleteFunc(list, func(x *Firmware) bool { return why[x.Device.ID] == "" })
		only := Selection{}
		for _, x := range wrong {
			only[x.Device.ID] = true
			if x.Outcome = FlashedRestored; round > 0 {
				x.fails("has its version, and is not as it was: "+why[x.Device.ID], advice.Say("look at it: %s, %s", advice.Prove, advice.Web.On(x.Device.Tag)).Text(f.d.Words))
			}
		}
		if len(wrong) == 0 || round > 0 {
			return
		}
		plans, err := f.d.Plans(f.planner, f.d.Devices, only, nil)
		if err == nil {
			_, err = f.carry(ctx, plans)
		}
		if err != nil {
			f.d.Log.Debug("putting right after firmware", "error", err) // what is left is told by what it is proved to be
		}
		list = wrong
	}
}
