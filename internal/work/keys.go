package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
	"janustat/core/policy"
	"janustat/core/proving"
	"janustat/internal/keyring"
	"janustat/internal/reach"
)

// InJob gives a device of the job by a reference.
func (d *Desk) InJob(ref string) (*device.Device, error) {
	x, err := device.Find(d.Devices, ref)
	if err != nil {
		return nil, err
	}
	if x.InJob != device.Taken {
		return nil, &Misuse{advice.Wrap(fmt.Errorf("%s is not in the job, so no password is offered to it", x.Label()), "%s first", advice.Take.On(ref))}
	}
	return x, nil
}

// Offer offers a device one key, within its budget, and reads it if it opens. keep takes
// down how it ended, before that is told.
func (d *Desk) Offer(ctx context.Context, n *reach.Net, x *device.Device, k commission.Credential, keep func(opened bool, by evidence.Witness) error) error {
	prover, done, err := d.Prover(ctx, n)
	if err != nil {
		return err
	}
	defer done()
	plan := policy.KeyPlan(x, k.User, k.Password)
	if d.Job.Sheet.Among(d.Devices).AllowsPlain(x) {
		plan.MuteTLS = ""
	}
	result, err := prover.TryKey(ctx, plan)
	var alarm *commission.AlarmError
	var told *commission.Trouble
	switch {
	case errors.As(err, &alarm):
		x.Apply(device.Alarmed{At: time.Now(), Why: alarm.Why})
		return errors.Join(unfinished("%s is not what it was: %s", x.Label(), alarm.Why), d.Job.Register.Record(ctx, "key", d.Devices))
	case errors.As(err, &told):
		return troubled(x.Label(), told.Error(), told.Next)
	case err != nil:
		return fmt.Errorf("%s at %s: %w", x.Label(), x.Address(), err)
	case result.Wait > 0:
		return unfinished("%s was not tried: no tries left this hour; wait %s", x.Label(), result.Wait.Round(time.Minute))
	}
	if err := keep(result.Opened, result.By); err != nil {
		return err
	}
	if !result.Opened {
		err := fmt.Errorf("%s does not accept this password: it was not saved%s", x.Label(), triesLeft(ctx, prover, plan))
		return &Unfinished{advice.Wrap(err, "to give it a new password: %s", advice.KeyChange.On(x.Label()))}
	}
	x.Apply(device.Opened{At: time.Now(), Facts: result.Found.Proven()})
	return d.Save(ctx, "key")
}

// triesLeft says when the next try may be made.
func triesLeft(ctx context.Context, p proving.Prover, plan commission.Plan) string {
	left, err := p.Attempts.Remaining(ctx, plan)
	switch {
	case err != nil:
		return ""
	case left > 0:
		return fmt.Sprintf("; tries left this hour: %d, wait two minutes first", left)
	}
	return "; no try is left this hour"
}

// KeyChange is a change of passwords that was planned and not sent yet.
type KeyChange struct {
	Plans []commission.Plan
	user  string // a further user's; the administrator's if empty
	desk  *Desk
	keys  *keyring.Keyring
}

// PlanChange makes new passwords for the chosen devices that have one, or for one further
// user on them. Keep is to be called before Carry.
func (d *Desk) PlanChange(p *Planner, chosen []int, user string) (*KeyChange, error) {
	var picked []device.Device
	for _, i := range chosen {
		if _, _, ok := p.Keyring.For(d.Devices[i].MAC); ok && d.Devices[i].InJob == device.Taken {
			picked = append(picked, d.Devices[i])
		}
	}
	if len(picked) == 0 {
		return nil, &Misuse{advice.Wrap(errors.New("none of these is in the job with a key on the keyring"), "%s shows which are", advice.KeyList)}
	}
	c := &KeyChange{user: user, desk: d, keys: p.Keyring}
	var err error
	if user == "" {
		c.Plans, err = p.Change(picked)
	} else {
		c.Plans, err = p.ChangeUser(picked, user)
	}
	switch {
	case err != nil:
		return nil, &Misuse{err}
	case len(c.Plans) == 0:
		return nil, &Misuse{advice.Wrap(fmt.Errorf("the job sheet gives none of these the user %q", user), "name it under users in the job sheet, and run %s", advice.Commission)}
	}
	d.offerOtherForms(p, c.Plans, picked)
	return c, nil
}

// Keep puts the new passwords on the keyring, beside those that they are to replace.
func (c *KeyChange) Keep() error {
	if err := c.keys.Save(); err != nil {
		return fmt.Errorf("the new passwords could not be saved, so nothing was sent: %w", err)
	}
	return nil
}

// Carry gives the devices their new passwords.
func (c *KeyChange) Carry(ctx context.Context, n *reach.Net, v View) ([]commission.Result, error) {
	prover, closed, err := c.desk.Prover(ctx, n)
	if err != nil {
		return nil, err
	}
	defer closed()
	worker := c.desk.worker(prover, v.Step, c.keys)
	carry := commission.ChangeAll
	if c.user != "" {
		carry = commission.ChangeUsersAll
	}
	results, err := c.desk.watchOver(ctx, c.keys, v, func(done func(commission.Result)) []commission.Result {
		return carry(ctx, worker, c.Plans, func(f func()) { go f() }, done)
	})
	if err != nil || c.user == "" {
		return results, err
	}
	for _, r := range results {
		if r.Status == commission.Done {
			c.keys.ConfirmUser(r.Plan.MAC, c.user)
		}
	}
	return results, c.keys.Save()
}
