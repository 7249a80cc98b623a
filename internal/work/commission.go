package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/policy"
	"janustat/core/secret"
	"janustat/core/sheet"
	"janustat/internal/keyring"
	"janustat/internal/reach"
)

// Planner plans with the passwords of a keyring, which it can save.
type Planner struct {
	*policy.Planner
	Keyring *keyring.Keyring
}

// Planner makes ready to plan with the passwords of a keyring.
func (d *Desk) Planner(ctx context.Context, keys *keyring.Keyring) (*Planner, error) {
	maybeKeyed, err := d.Job.Register.MaybeKeyed(ctx)
	if err != nil {
		return nil, err
	}
	progress, err := d.Job.Register.Progress(ctx)
	if err != nil {
		return nil, err
	}
	// As it was when the addresses were allotted: what the LAN says by now may be a stranger's.
	kept, err := d.Job.Register.KeptGround(ctx)
	if err != nil {
		return nil, err
	}
	g := kept.Ground
	if !g.Subnet.IsValid() {
		if g, err = Ground(ctx, d.Job, d.Devices); err != nil && !errors.Is(err, ground.ErrNoGround) {
			return nil, err
		}
	}
	p := &policy.Planner{Sheet: d.Job.Sheet, Keys: keys.Ring, All: d.Devices, MaybeKeyed: maybeKeyed, Progress: progress, DNS: g.DNS, NTP: g.NTP, Random: rand.Reader, Now: time.Now}
	out := &Planner{p, keys}
	d.signs, err = ownAuthority(out)
	return out, err
}

// Plans makes the plans, and saves the passwords they need before anything is sent.
// All are planned, since they work together, and those are given that are meant. admit is
// asked, if it is not nil, whether new devices may have a password that others have.
func (d *Desk) Plans(p *Planner, devices []device.Device, only Selection, admit func(tags []string) (bool, error)) ([]commission.Plan, error) {
	had := !p.Keyring.Site().IsZero()
	p.Covers = true
	if err := d.joined(p); err != nil {
		return nil, err
	}
	plans := p.Plans(devices)
	if asked := only.tags(p.Newcomers, devices); len(asked) > 0 && admit != nil {
		yes, err := admit(asked)
		if err != nil {
			return nil, err
		}
		if p.AdmitNewcomers = yes; yes {
			plans = p.Plans(devices)
		}
	}
	if p.Changed || p.Keyring.RecoveryDue() {
		if err := p.Keyring.Save(); err != nil {
			return nil, fmt.Errorf("the passwords could not be saved, so nothing was sent: %w", err)
		}
	}
	if style := p.Sheet.Style(); !had && style != sheet.Each && p.Changed {
		d.Say("note: with `style: %s` every device of the job learns a password that others have; `style: each` gives each its own", style)
	}
	plans = only.of(plans)
	d.offerOtherForms(p, plans, devices)
	return plans, nil
}

// joined has a planner plan which devices work together.
func (d *Desk) joined(p *Planner) (err error) {
	if p.Joining, err = d.Job.Sheet.Among(d.Devices).Joined(d.Devices); err != nil {
		return &Misuse{err}
	}
	return nil
}

// offerOtherForms lets devices that refuse a password have another form of it, which is
// saved while others are at work.
func (d *Desk) offerOtherForms(p *Planner, plans []commission.Plan, devices []device.Device) {
	saver := d.saverOf(p.Keyring)
	for i := range plans {
		if plans[i].Manner != commission.ByService {
			continue
		}
		another := p.Another(*device.ByID(devices, plans[i].ID))
		if another == nil {
			continue
		}
		plans[i].Another = func(s commission.Step, refused commission.Credential, o secret.Objection) (next commission.Credential, err error) {
			kept := saver.keep(func() bool {
				next, err = another(s, refused, o)
				return err == nil
			})
			return next, errors.Join(err, kept)
		}
	}
}

// saverOf gives what keeps a keyring while devices are at work.
func (d *Desk) saverOf(keys *keyring.Keyring) *saver {
	if d.saver == nil || d.saver.keys != keys {
		d.saver = newSaver(keys)
	}
	return d.saver
}

// Usual is how long devices of this job have taken so far; zero is not known.
func (d *Desk) Usual(ctx context.Context) time.Duration {
	took, err := d.Job.Register.Usual(ctx)
	if err != nil {
		d.Log.Debug("usual time of a device", "error", err)
	}
	return took
}

// Crew is how plans are carried out.
type Crew struct {
	Size  int           // conversations held at once; 0 is what this computer bears
	Hands time.Duration // how long to wait for what a person does
}

// Commission carries plans out, side by side.
func (d *Desk) Commission(ctx context.Context, n *reach.Net, planner *Planner, plans []commission.Plan, c Crew, v View) ([]commission.Result, error) {
	if err := d.mayCertify(planner, plans); err != nil {
		return nil, err
	}
	prover, done, err := d.Prover(ctx, n)
	if err != nil {
		return nil, err
	}
	defer done()
	if c.Size > 0 {
		prover.Place = commission.NewPlaces(c.Size)
	}
	worker := d.worker(prover, v.Step, planner.Keyring)
	worker.HandLimit = c.Hands
	return d.watchOver(ctx, planner.Keyring, v, func(done func(commission.Result)) []commission.Result {
		var held []int64 // what is told of them hangs on what their recorders did
		all := commission.RunAll(ctx, worker, plans, spawn, func(r commission.Result) {
			if r.MayUnlock() {
				held = append(held, r.Plan.ID)
				return
			}
			done(r)
		})
		commission.BlameHammers(all)
		at := func(id int64) *commission.Result {
			return &all[slices.IndexFunc(all, func(x commission.Result) bool { return x.Plan.ID == id })]
		}
		var again []commission.Plan
		var wait time.Duration
		for _, id := range held {
			r := at(id)
			if !r.Unlocks() {
				done(*r)
				continue
			}
			again, wait = append(again, r.Plan), max(wait, r.Locked)
		}
		if len(again) == 0 {
			return all
		}
		if !unlocked(ctx, again, wait, v) {
			for _, p := range again {
				done(*at(p.ID))
			}
			return all
		}
		for _, r := range commission.RunAll(ctx, worker, again, spawn, done) {
			*at(r.Plan.ID) = r
		}
		return all
	})
}

func spawn(f func()) { go f() }

// unlocked waits until devices have unlocked themselves, unless the run is ended.
func unlocked(ctx context.Context, those []commission.Plan, wait time.Duration, v View) bool {
	until := time.NewTimer(wait + time.Second)
	defer until.Stop()
	for _, p := range those {
		v.Step(p, commission.StepUnlock, fmt.Sprintf("locked by the old password of its recorder: waiting until it opens (%s)", wait.Round(time.Second)))
	}
	select {
	case <-until.C:
		return true
	case <-ctx.Done():
		return false
	}
}

// Outlook is what would be written to one device, by what the register knows.
type Outlook struct {
	Plan    commission.Plan
	To      device.Settings
	Writes  []commission.Write
	Stopped string // why nothing would be sent
	Partial bool   // it tells the rest only with its password
}

// Outlook tells what would be written, without any traffic: the same code decides it as
// when it is carried out. Nothing is kept of what it plans with, a draft of the keyring.
func (d *Desk) Outlook(ctx context.Context, keys *keyring.Keyring, only Selection) ([]Outlook, error) {
	draft, err := keys.Draft()
	if err != nil {
		return nil, err
	}
	planner, err := d.Planner(ctx, draft)
	if err != nil {
		return nil, err
	}
	if err := d.joined(planner); err != nil {
		return nil, err
	}
	var out []Outlook
	plans := planner.Plans(d.Devices)
	policy.Recorded(plans, d.Devices)
	for _, p := range only.of(plans) {
		x := device.ByID(d.Devices, p.ID)
		o := Outlook{Plan: p, To: *x.Allotted}
		switch {
		case p.Stop != nil:
			o.Stopped = p.Stop.Error()
		case x.Alarm != "":
			o.Stopped = x.Alarm
		case p.Manner == commission.ByService:
			o.Writes, o.Partial = commission.Outlook(p, policy.Expect(x)), x.Writes == nil || x.Writes.Partial
		}
		out = append(out, o)
	}
	return out, nil
}
