// Package policy says what is to become of each device of a job: which address and name, which
// passwords and users, which others it is joined with, and what keeps it from that.
package policy

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"time"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/keys"
	"janustat/core/secret"
	"janustat/core/settings"
	"janustat/core/settings/https"
	"janustat/core/sheet"
	"janustat/core/text"
)

// Planner makes plans for the devices of a job. The keyring it fills has to be
// saved before anything is sent, if Changed is set.
type Planner struct {
	Sheet      *sheet.Sheet
	Keys       *keys.Ring
	All        []device.Device // the whole register
	MaybeKeyed map[int64]bool  // by ID: devices that may have been sent the password kept for them
	Progress   map[int64]Progress
	DNS, NTP   []netip.Addr // the site's
	Random     io.Reader
	Now        func() time.Time
	Changed    bool
	// AdmitNewcomers lets devices that have nothing yet have a password that others use.
	AdmitNewcomers bool
	// ReplaceChannels gives cameras the channels that the sheet names, whatever others have on them.
	ReplaceChannels bool
	// Covers replaces passwords that were set without encryption, where the device has HTTPS by now.
	Covers bool
	// Newcomers are those that were kept from one, by tag.
	Newcomers []string

	// Joining is which devices work together; those that do not are planned by themselves.
	Joining sheet.Joining

	among  *sheet.Among
	models map[string]bool // of which one was opened
}

func (p *Planner) sheet() sheet.Among {
	if p.among == nil {
		a := p.Sheet.Among(p.All)
		p.among = &a
	}
	return *p.among
}

// Plans says what each taken and allotted device is to become. Devices without
// a password of their own on the keyring get one there, by the job's style. One
// that has a password already gets none: one made for others would only cost it a try.
// A fresh device that was never sent the password kept for it gets the present
// one of its style, which may be newer, unless each device has its own. What cannot be
// planned for one device stops that device, and no other.
func (p *Planner) Plans(devices []device.Device) (plans []commission.Plan) {
	p.Newcomers = nil
	for i := range devices {
		if d := &devices[i]; d.InJob == device.Taken && d.Allotted != nil {
			plans = append(plans, p.plan(d, devices))
		}
	}
	slices.SortFunc(plans, func(a, b commission.Plan) int { return text.Natural(a.Tag, b.Tag) })
	p.join(plans, devices)
	return plans
}

func (p *Planner) plan(d *device.Device, devices []device.Device) commission.Plan {
	if manner := MannerOf(d); manner != commission.ByService {
		return commission.Plan{
			ID: d.ID, Tag: d.Tag, MAC: d.MAC, Ports: d.OtherMAC, Serial: d.Serial, From: d.Address(), Target: p.target(d), Manner: manner,
		}
	}
	plan := p.KeyPlan(d)
	_, _, ok := p.Keys.For(d.MAC)
	renew := d.Access == device.Fresh && !plan.Known && !p.MaybeKeyed[d.ID] && (!ok || p.Sheet.Style() != sheet.Each)
	made := d.Access == device.Fresh || d.Access == "" || d.Access == device.Unread // or it would only cost a try
	if !ok && made || renew {
		password, err := p.styled(d, devices)
		if err != nil {
			return stopped(plan, d, err)
		}
		plan.User, plan.Password = p.Sheet.User(), password
		if !ok && p.shares(d, password) {
			return p.newcomer(plan, d)
		}
		p.Changed = p.Keys.Set(d.MAC, plan.User, password) || p.Changed
	}
	plan.Target, plan.NameBySerial = p.target(d), p.sheet().NameBySerial
	plan.Target.Name, plan.Unnamed = p.sheet().NameFor(d), d.Tag
	plan.Whole = true
	if d.AsLeft != nil {
		plan.Was = d.AsLeft.Values
	}
	plan.Wants, _ = settings.Wanted(p.Sheet.Settings, d.ForSettings()) // what cannot be is a remark of the sheet
	if p.sheet().AllowsPlain(d) {
		delete(plan.Wants, https.Name) // it is excepted, since its HTTPS does not work
	}
	plan.Pictures = d.Kind == device.Camera && p.Sheet.Captioned()
	plan.Refused, plan.Answered = p.Progress[d.ID].Refused, p.Progress[d.ID].Answered
	plan.Pending = p.Progress[d.ID].Pending == commission.Place{Address: plan.Target.Address, Prefix: plan.Target.Prefix}
	if err := p.users(d, devices, &plan); err != nil {
		return stopped(plan, d, err)
	}
	if p.bared(d) && p.Progress[d.ID].KeyInClear && plan.Known && !plan.Factory && !plan.Unconfirmed {
		if err := p.cover(d, &plan); err != nil {
			return stopped(plan, d, err)
		}
	}
	hides := d.Access == device.Sealed && !plan.Known && !p.Progress[d.ID].HasAdministrator && p.Sheet.Style() == sheet.Each
	if plan.Factory || plan.Password.IsZero() && (len(p.Sheet.Password.Factory) > 0 || hides) {
		err := p.replacement(d, devices, &plan)
		switch {
		case err == nil && hides:
			plan.User, plan.First = p.Sheet.User(), plan.Replace
		case err != nil && !hides:
			return stopped(plan, d, err)
		}
	}
	if plan.Stop == nil && p.outOfForms(d, plan) {
		plan.Stop = &commission.Trouble{
			Reason: fmt.Sprintf("refuses every sort of password that can be made for it (its user: %s)", plan.User),
			Next:   advice.Say("give it one that its own page (%s) takes, and put that on the keyring: %s", advice.Web.On(d.Label()), advice.KeySet.On(d.Label())),
		}
	}
	if plan.Stop == nil && slices.Contains(p.Newcomers, d.Tag) {
		return p.newcomer(plan, d)
	}
	return plan
}

// stopped keeps everything from a device that no password can be made for.
func stopped(plan commission.Plan, d *device.Device, err error) commission.Plan {
	plan.Stop = &commission.Trouble{
		Reason: "gets no password, for what it demands of one", Err: err,
		Next: advice.Say("look at its password rules on its own page (%s); nothing was sent to it", advice.Web.On(d.Label())),
	}
	return plan
}

// shares reports whether a password is in use by another device than d, and d has not
// been meant to have it before: then a stranger taken by mistake would learn it.
func (p *Planner) shares(d *device.Device, password secret.Password) bool {
	if p.AdmitNewcomers || p.Sheet.Style() == sheet.Each {
		return false
	}
	return slices.ContainsFunc(p.All, func(o device.Device) bool {
		if o.MAC == d.MAC || o.OpenedAt.IsZero() {
			return false
		}
		_, own, _ := p.Keys.For(o.MAC)
		return own == password || slices.ContainsFunc(p.Keys.UserNames(o.MAC), func(name string) bool { return p.Keys.UserFor(o.MAC, name) == password })
	})
}

// newcomer keeps a password that others use from a device, until a person admits it.
func (p *Planner) newcomer(plan commission.Plan, d *device.Device) commission.Plan {
	if !slices.Contains(p.Newcomers, d.Tag) {
		p.Newcomers = append(p.Newcomers, d.Tag)
	}
	plan.Stop = &commission.Trouble{
		Reason: fmt.Sprintf("is new, and would be given a password that other devices have (style: %s)", p.Sheet.Style()),
		Next:   advice.Say("make sure that it is one of yours, then run %s; or give each device its own: `style: each` in the job sheet under password", advice.Admit),
	}
	plan.Password, plan.Replace, plan.Users = secret.Password{}, secret.Password{}, nil
	return plan
}

// target gives what a device is to have, without its name.
func (p *Planner) target(d *device.Device) device.Settings {
	t := *d.Allotted
	t.DNS, t.NTP = p.DNS, p.NTP
	return t
}

// users plans the further users of a device, with a password each by the job's
// style: one for each device, or one that all devices share.
func (p *Planner) users(d *device.Device, devices []device.Device, plan *commission.Plan) error {
	for _, a := range p.sheet().UsersOn(d) {
		next, err := p.coverUser(d, devices, a)
		if err != nil {
			return err
		}
		if !next.IsZero() {
			plan.Users = append(plan.Users, commission.User{Account: a, Password: next})
			continue
		}
		password := p.Keys.UserFor(d.MAC, a.Name)
		if password.IsZero() {
			if p.Sheet.Style() != sheet.Each {
				password = p.Keys.SharedUser(a.Name)
				if !password.IsZero() && p.shares(d, password) {
					*plan = p.newcomer(*plan, d)
					return nil
				}
			}
			if password.IsZero() {
				var err error
				if password, err = p.generate(d, devices, a.Name); err != nil {
					return err
				}
			}
			if p.Sheet.Style() != sheet.Each {
				p.Keys.SetSharedUser(a.Name, password)
			}
			p.Keys.SetUserFor(d.MAC, a.Name, password)
			p.Changed = true
		}
		plan.Users = append(plan.Users, commission.User{Account: a, Password: password, Made: p.Progress[d.ID].Users[a]})
	}
	return nil
}

// generate makes a password for a further user, by the rules of the devices that
// are to share it.
func (p *Planner) generate(d *device.Device, devices []device.Device, name string) (secret.Password, error) {
	if p.Sheet.Style() == sheet.Each {
		devices = []device.Device{asTaken(*d)}
	}
	rules, err := rulesFor(p.Sheet, devices)
	if err != nil {
		return secret.Password{}, err
	}
	return secret.Generate(rules, name, p.Random)
}

// KeyPlan is the plan of a device as far as its keys go.
func (p *Planner) KeyPlan(d *device.Device) commission.Plan {
	user, password, ok := p.Keys.For(d.MAC)
	plan := KeyPlan(d, user, password)
	plan.RequireTLS = p.sheet().NeedsTLS(d)
	if !p.sheet().AllowsPlain(d) {
		plan.MuteTLS = d.MuteTLS
	}
	plan.Known = !d.OpenedAt.IsZero() || p.Progress[d.ID].Keyed
	plan.KeepsOnly = p.Keys.KeepsOnly(d.MAC)
	plan.Model, plan.Met = modelOf(d), p.met()[modelOf(d)]
	if plan.Unconfirmed = ok && p.MaybeKeyed[d.ID] && d.OpenedAt.IsZero(); plan.Unconfirmed {
		plan.Untried = func(list []commission.Credential) []commission.Credential { return p.Keys.NotRefused(d.MAC, list) }
		plan.OwnLast = p.Keys.IsDoubted(d.MAC, commission.Credential{User: user, Password: password})
		plan.Others = append(plan.Others, p.Keys.Sent(d.MAC)...)
	}
	// A clock that the device does not let be set may be ahead as it was found.
	if _, refused := p.Progress[d.ID].Refused[commission.StepClock]; refused {
		plan.ClockSet = false
	}
	plan.Renewing, plan.Certified = p.Progress[d.ID].Moved && !d.Commissioned(), p.Progress[d.ID].Certified
	if !d.ResetAt.IsZero() {
		plan.Stop = &commission.Trouble{
			Reason: "was reset, and has not been brought back", Next: advice.Say("%s gives it its name, its address and a new password", advice.Restore.On(d.Label())),
		}
	}
	if next, changing := p.Keys.Next(d.MAC); changing {
		plan.Replace = next.Password
		switch rekey := p.Progress[d.ID].Rekey; {
		case rekey.At.Before(p.Keys.NextSince(d.MAC)): // it was never sent: a try would be in vain
		case rekey.Confirmed:
			if ok { // only a reset could bring it back
				was := commission.Credential{User: user, Password: password}
				if p.isFactory(d, was) {
					was.Origin = commission.FromFactory
				}
				plan.Others = append(plan.Others, was)
			}
			plan.User, plan.Password = next.User, next.Password
		default:
			plan.Others = append(plan.Others, next)
		}
	}
	plan.Factory = ok && p.isFactory(d, commission.Credential{User: plan.User, Password: plan.Password})
	if !ok && d.Access != device.Fresh {
		plan.Others = append(plan.Others, p.Keys.Earlier(d.MAC)...)
		plan.Others = append(plan.Others, p.Keys.NotRefused(d.MAC, p.Sheet.Factory())...)
	}
	return plan
}

// isFactory reports whether a key of a device is one from the factory, known to all: by where
// it came from, or because the job sheet has it among such.
func (p *Planner) isFactory(d *device.Device, k commission.Credential) bool {
	_, own, _ := p.Keys.For(d.MAC)
	return p.Keys.Origin(d.MAC) == commission.FromFactory && k.Password == own || slices.ContainsFunc(p.Sheet.Factory(), k.Same)
}

// modelOf names what a device is, "" where it does not say.
func modelOf(d *device.Device) string {
	if d.Make == "" || d.Model == "" {
		return ""
	}
	return d.Make + "\x00" + d.Model
}

// met gives the models of which this job has opened one.
func (p *Planner) met() map[string]bool {
	if p.models == nil {
		p.models = map[string]bool{}
		for i := range p.All {
			if d := &p.All[i]; !d.OpenedAt.IsZero() {
				p.models[modelOf(d)] = true
			}
		}
	}
	return p.models
}

// replacement makes ready what a factory password is replaced by.
func (p *Planner) replacement(d *device.Device, devices []device.Device, plan *commission.Plan) error {
	if !plan.Replace.IsZero() {
		return nil
	}
	password, err := p.styled(d, devices)
	if err != nil {
		return err
	}
	if p.shares(d, password) {
		*plan = p.newcomer(*plan, d)
		return nil
	}
	plan.Replace = password
	p.Keys.SetNext(d.MAC, p.Sheet.User(), password, p.Now())
	p.Changed = true
	return nil
}

// styled gives a device's password by the job's style, making it if there is none.
func (p *Planner) styled(d *device.Device, devices []device.Device) (secret.Password, error) {
	switch p.Sheet.Style() {
	case sheet.Each:
		return SitePassword(p.Sheet, []device.Device{asTaken(*d)}, p.Random)
	case sheet.ByKind:
		if have := p.Keys.ForKind(d.Kind); !have.IsZero() {
			return have, nil
		}
		password, err := SitePassword(p.Sheet, slices.DeleteFunc(slices.Clone(devices), func(o device.Device) bool { return o.Kind != d.Kind }), p.Random)
		if err != nil {
			return secret.Password{}, err
		}
		p.Keys.SetKind(d.Kind, password)
		p.Changed = true
		return password, nil
	}
	if have := p.Keys.Site(); !have.IsZero() {
		return have, nil
	}
	password, err := SitePassword(p.Sheet, devices, p.Random)
	if err != nil {
		return secret.Password{}, err
	}
	p.Keys.SetSite(password)
	p.Changed = true
	return password, nil
}

// Renew makes a new password for a device that begins anew, whatever the job's style:
// what it had before may be known to whoever had it meanwhile.
func (p *Planner) Renew(d *device.Device) error {
	password, err := SitePassword(p.Sheet, []device.Device{asTaken(*d)}, p.Random)
	if err != nil {
		return err
	}
	p.Keys.Begin(d.MAC, p.Sheet.User(), password, p.Now())
	for _, a := range p.sheet().UsersOn(d) {
		own, err := p.generate(d, []device.Device{asTaken(*d)}, a.Name)
		if err != nil {
			return err
		}
		p.Keys.SetUserFor(d.MAC, a.Name, own)
	}
	if !p.Keys.UserFor(d.MAC, sheet.RecorderUser).IsZero() {
		own, err := p.ownSecret(d, sheet.RecorderUser)
		if err != nil {
			return err
		}
		p.Keys.SetUserFor(d.MAC, sheet.RecorderUser, own)
	}
	p.MaybeKeyed[d.ID] = true // what is kept for it is what it gets
	delete(p.Progress, d.ID)
	p.Changed = true
	return nil
}

func asTaken(d device.Device) device.Device { d.InJob = device.Taken; return d }
