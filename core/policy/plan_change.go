package policy

import (
	"slices"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/sheet"
)

// Change plans new passwords for devices whose present ones are on the keyring,
// and puts the new ones there beside them. A change that was cut short goes on
// with the password it had made. Under a style that several devices share, all
// that are changed at once get the same new one.
func (p *Planner) Change(devices []device.Device) (plans []commission.Plan, err error) {
	fresh := map[string]secret.Password{}
	for i := range devices {
		d := &devices[i]
		plan := p.KeyPlan(d)
		if plan.Replace.IsZero() {
			group := ""
			switch p.Sheet.Style() {
			case sheet.Each:
				group = d.MAC.String()
			case sheet.ByKind:
				group = string(d.Kind)
			}
			if _, made := fresh[group]; !made {
				same := slices.DeleteFunc(slices.Clone(devices), func(o device.Device) bool {
					return p.Sheet.Style() == sheet.Each && o.MAC != d.MAC || p.Sheet.Style() == sheet.ByKind && o.Kind != d.Kind
				})
				if fresh[group], err = SitePassword(p.Sheet, same, p.Random); err != nil {
					return nil, err
				}
				switch p.Sheet.Style() {
				case sheet.ByKind:
					p.Keys.SetKind(d.Kind, fresh[group])
				case sheet.Shared:
					p.Keys.SetSite(fresh[group])
				}
			}
			plan.Replace = fresh[group]
			p.Keys.SetNext(d.MAC, plan.User, plan.Replace, p.Now())
			p.Changed = true
		}
		plans = append(plans, plan)
	}
	return plans, nil
}

// ChangeUser plans new passwords for a further user on devices that have it, and
// puts them on the keyring beside the present ones. One that was cut short goes on
// with the password it had made.
func (p *Planner) ChangeUser(devices []device.Device, name string) (plans []commission.Plan, err error) {
	var shared secret.Password
	for i := range devices {
		d := &devices[i]
		users := p.sheet().UsersOn(d)
		if name == sheet.RecorderUser && !p.Keys.UserFor(d.MAC, name).IsZero() {
			users = append(users, recorderUser)
		}
		at := slices.IndexFunc(users, func(a commission.Account) bool { return a.Name == name })
		if at < 0 {
			continue
		}
		next := p.Keys.NextUserFor(d.MAC, name)
		switch {
		case !next.IsZero():
		case name == sheet.RecorderUser: // it is of one camera alone, whatever the style
			if next, err = p.ownSecret(d, name); err != nil {
				return nil, err
			}
		case p.Sheet.Style() != sheet.Each && !shared.IsZero():
			next = shared
		default:
			if next, err = p.generate(d, devices, name); err != nil {
				return nil, err
			}
		}
		if p.Sheet.Style() != sheet.Each && name != sheet.RecorderUser {
			shared = next
			p.Keys.SetSharedUser(name, next)
		}
		p.Keys.SetNextUserFor(d.MAC, name, next)
		p.Changed = true
		plan := p.KeyPlan(d)
		plan.Users = []commission.User{{Account: users[at], Password: next}}
		plans = append(plans, plan)
	}
	return plans, nil
}
