package policy

import (
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/sheet"
)

// bared reports whether what was set without encryption on a device can be replaced with it by now. What
// several devices share stays: all of them know it.
func (p *Planner) bared(d *device.Device) bool {
	return p.Covers && d.TLS != nil && p.Sheet.Style() == sheet.Each
}

// cover makes ready what a password is replaced by that was set without encryption, before the device had
// HTTPS.
func (p *Planner) cover(d *device.Device, plan *commission.Plan) error {
	plan.Bared = true
	if !plan.Replace.IsZero() {
		return nil
	}
	password, err := p.styled(d, nil)
	if err != nil {
		return err
	}
	plan.Replace = password
	p.Keys.SetNext(d.MAC, plan.User, password, p.Now())
	p.Changed = true
	return nil
}

// coverUser gives the password by which a further user's is replaced that was set without encryption, or
// that a change was about to give; zero where it stays.
func (p *Planner) coverUser(d *device.Device, devices []device.Device, a commission.Account) (secret.Password, error) {
	if !p.bared(d) {
		return secret.Password{}, nil
	}
	if next := p.Keys.NextUserFor(d.MAC, a.Name); !next.IsZero() || !p.Progress[d.ID].UsersInClear[a] {
		return next, nil
	}
	next, err := p.generate(d, devices, a.Name)
	if err == nil {
		p.Keys.SetNextUserFor(d.MAC, a.Name, next)
		p.Changed = true
	}
	return next, err
}
