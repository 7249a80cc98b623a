package policy

import (
	"slices"
	"strings"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/sheet"
)

// forms are the sorts of passwords that may be made for a device.
func (p *Planner) forms(d device.Device) ([]secret.Form, error) {
	rules, err := rulesFor(p.Sheet, []device.Device{asTaken(d)})
	if err != nil {
		return nil, err
	}
	return secret.Forms(rules), nil
}

// outOfForms reports whether a device without a password has refused every form of one, in
// earlier runs, as far as its firmware is what it was.
func (p *Planner) outOfForms(d *device.Device, plan commission.Plan) bool {
	if p.Sheet.Style() != sheet.Each || plan.Known || p.MaybeKeyed[d.ID] || plan.Password.IsZero() {
		return false
	}
	forms, err := p.forms(*d)
	return err == nil && !slices.ContainsFunc(forms, func(f secret.Form) bool {
		return !p.Keys.FormRefused(d.MAC, plan.User, d.Firmware, f.Name)
	})
}

// Another gives what to offer to a device in the place of a key that it refuses: another
// form of the password, as it says or as it may be meant, or the name that it wants its first
// user to have. Only where each device has its own password can one be made for it alone.
// What it refused stays on the keyring beside that, until one opens the device; which forms it
// refused is known over runs. The keyring is to be on disk before the new one is sent.
func (p *Planner) Another(d device.Device) func(s commission.Step, refused commission.Credential, o secret.Objection) (commission.Credential, error) {
	if p.Sheet.Style() != sheet.Each {
		return nil
	}
	renamed := false
	return func(s commission.Step, was commission.Credential, o secret.Objection) (next commission.Credential, err error) {
		if (s == commission.StepKey || s == commission.StepFirst) && o.User != "" && !renamed && !strings.EqualFold(o.User, was.User) {
			renamed = true
			next = commission.Credential{User: o.User, Password: was.Password}
			p.keep(s, d.MAC, next)
			return next, nil
		}
		forms, err := p.forms(d)
		if err != nil {
			return next, err
		}
		form := secret.FormOf(forms, was.Password)
		p.Keys.NoteForm(d.MAC, was.User, d.Firmware, form.Name)
		if o.What == secret.BadName {
			return next, nil // no password is what it wants
		}
		form, left := secret.Next(forms, func(name string) bool { return p.Keys.FormRefused(d.MAC, was.User, d.Firmware, name) }, o, form)
		if !left {
			return next, nil
		}
		password, err := secret.Generate(form.Rules, was.User, p.Random)
		if err != nil {
			return next, err
		}
		next = commission.Credential{User: was.User, Password: password}
		p.keep(s, d.MAC, next)
		return next, nil
	}
}

// keep puts what a device is offered at a step in the place of another key on the keyring.
func (p *Planner) keep(s commission.Step, mac device.MAC, k commission.Credential) {
	switch {
	case s == commission.StepRekey, s == commission.StepFirst:
		p.Keys.SetNext(mac, k.User, k.Password, p.Now())
	case s == commission.StepUser && p.Keys.NextUserFor(mac, k.User).IsZero():
		p.Keys.SetUserFor(mac, k.User, k.Password)
	case s == commission.StepUser:
		p.Keys.SetNextUserFor(mac, k.User, k.Password)
	default:
		p.Keys.KeepSent(mac)
		p.Keys.Set(mac, k.User, k.Password)
	}
}
