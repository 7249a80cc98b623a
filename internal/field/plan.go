package field

import (
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/job"
)

// Planner makes plans for the devices of a job. The keyring it fills has to be
// saved before anything is sent, if Changed is set.
type Planner struct {
	Sheet      *job.Sheet
	Keys       *job.Keyring
	MaybeKeyed map[int64]bool // by ID: devices that may have been sent the password kept for them
	DNS        []netip.Addr   // to be typed in by hand
	Random     io.Reader
	Changed    bool
}

// Plans says what each taken and allotted device is to become. Devices without
// a password of their own on the keyring get one there, by the job's style. A
// sealed device gets none: a password made for others would only cost it a try.
// A fresh device that was never sent the password kept for it gets the present
// one of its style, which may be newer, unless each device has its own.
func (p *Planner) Plans(devices []device.Device) (plans []commission.Plan, err error) {
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken || d.Allotted == nil {
			continue
		}
		plan, err := p.plan(d, devices)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", d.Label(), err)
		}
		plans = append(plans, plan)
	}
	slices.SortFunc(plans, func(a, b commission.Plan) int {
		if len(a.Tag) != len(b.Tag) {
			return len(a.Tag) - len(b.Tag)
		}
		return strings.Compare(a.Tag, b.Tag)
	})
	return plans, nil
}

func (p *Planner) plan(d *device.Device, devices []device.Device) (commission.Plan, error) {
	if manner := MannerOf(d); manner != commission.ByService {
		return commission.Plan{
			ID: d.ID, Tag: d.Tag, MAC: d.MAC, Serial: d.Serial, From: d.Address(), Target: *d.Allotted, Manner: manner, DNS: p.DNS,
		}, nil
	}
	plan := p.KeyPlan(d)
	_, _, ok := p.Keys.For(d.MAC)
	renew := d.Access == device.Fresh && !p.MaybeKeyed[d.ID] && (!ok || p.Sheet.Style() != job.Each)
	if !ok && d.Access != device.Sealed || renew {
		password, err := p.styled(d, devices)
		if err != nil {
			return plan, err
		}
		plan.User, plan.Password = p.Sheet.User(), password
		p.Changed = p.Keys.Set(d.MAC, plan.User, password) || p.Changed
	}
	target := *d.Allotted
	target.Name = p.Sheet.NameFor(d)
	plan.Target, plan.NameBySerial = target, p.Sheet.NameBySerial
	if plan.Password.IsZero() && len(p.Sheet.Password.Factory) > 0 {
		if err := p.replacement(d, devices, &plan); err != nil {
			return plan, err
		}
	}
	return plan, nil
}

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
			case job.Each:
				group = d.MAC.String()
			case job.ByKind:
				group = string(d.Kind)
			}
			if _, made := fresh[group]; !made {
				same := slices.DeleteFunc(slices.Clone(devices), func(o device.Device) bool {
					return p.Sheet.Style() == job.Each && o.MAC != d.MAC || p.Sheet.Style() == job.ByKind && o.Kind != d.Kind
				})
				if fresh[group], err = SitePassword(p.Sheet, same, p.Random); err != nil {
					return nil, err
				}
				switch p.Sheet.Style() {
				case job.ByKind:
					p.Keys.SetKind(d.Kind, fresh[group])
				case job.Shared:
					p.Keys.SetSite(fresh[group])
				}
			}
			plan.Replace = fresh[group]
			p.Keys.SetNext(d.MAC, plan.User, plan.Replace)
			p.Changed = true
		}
		plans = append(plans, plan)
	}
	return plans, nil
}

// KeyPlan is the plan of a device as far as its keys go.
func (p *Planner) KeyPlan(d *device.Device) commission.Plan {
	user, password, ok := p.Keys.For(d.MAC)
	plan := KeyPlan(d, user, password)
	if next, changing := p.Keys.Next(d.MAC); changing {
		plan.Others, plan.Replace = append(plan.Others, next), next.Password
	}
	if !ok && d.Access != device.Fresh {
		plan.Others = append(plan.Others, p.Keys.Earlier(d.MAC)...)
		plan.Others = append(plan.Others, p.Keys.NotRefused(d.MAC, p.Sheet.Factory())...)
	}
	return plan
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
	plan.Replace = password
	p.Keys.SetNext(d.MAC, p.Sheet.User(), password)
	p.Changed = true
	return nil
}

// styled gives a device's password by the job's style, making it if there is none.
func (p *Planner) styled(d *device.Device, devices []device.Device) (secret.Password, error) {
	switch p.Sheet.Style() {
	case job.Each:
		return SitePassword(p.Sheet, []device.Device{asTaken(*d)}, p.Random)
	case job.ByKind:
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

func asTaken(d device.Device) device.Device { d.InJob = device.Taken; return d }

// Another gives further forms of a password to a device that refuses one without
// publishing why. Only where each device has its own can one be made for it
// alone. save has to have the keyring on disk before it returns.
func (p *Planner) Another(d device.Device, save func() error) func(refused int) (secret.Password, error) {
	if p.Sheet.Style() != job.Each {
		return nil
	}
	return func(refused int) (secret.Password, error) {
		rules, err := rulesFor(p.Sheet, []device.Device{asTaken(d)})
		if err != nil {
			return secret.Password{}, err
		}
		forms := secret.Forms(rules)
		if refused >= len(forms) {
			return secret.Password{}, nil
		}
		password, err := secret.Generate(forms[refused], p.Sheet.User(), p.Random)
		if err != nil {
			return secret.Password{}, err
		}
		p.Keys.Set(d.MAC, p.Sheet.User(), password)
		return password, save()
	}
}

// MannerOf tells how a device comes to its address.
func MannerOf(d *device.Device) commission.Manner {
	switch {
	case d.Access != device.Unmanaged:
		return commission.ByService
	case d.ByHand():
		return commission.ByHand
	case d.Allotted != nil && d.Allotted.DHCP:
		return commission.ByReservation
	}
	return commission.ByService // bare: what it speaks is not known yet
}

// SitePassword generates a password that fits the sane rules, the job sheet's,
// and those of every taken device that publishes its own.
func SitePassword(sheet *job.Sheet, devices []device.Device, random io.Reader) (secret.Password, error) {
	rules, err := rulesFor(sheet, devices)
	if err != nil {
		return secret.Password{}, err
	}
	return secret.Generate(rules, sheet.User(), random)
}

func rulesFor(sheet *job.Sheet, devices []device.Device) (secret.Rules, error) {
	rules, err := secret.Sane.And(sheet.Rules())
	if err != nil {
		return secret.Rules{}, fmt.Errorf("the job sheet's password rules: %w", err)
	}
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken || d.Rules == nil {
			continue
		}
		if rules, err = rules.And(*d.Rules); err != nil {
			return secret.Rules{}, fmt.Errorf("the rules of %s do not go with the others' (give each device its own: `style: each` in the job sheet under password): %w", d.Label(), err)
		}
	}
	return rules, nil
}

// TakeKeys carries what a result tells of keys into the keyring, and reports
// whether that changed it.
func TakeKeys(keys *job.Keyring, r commission.Result, now time.Time) (changed bool) {
	if r.Opened {
		changed = keys.Opened(r.Plan.MAC, r.Key, now)
	}
	return keys.NoteRefused(r.Plan.MAC, r.Refused) || changed
}

// Record carries how commissioning a device ended into what is known of it.
func Record(d *device.Device, r commission.Result) {
	if r.At.IsValid() {
		d.Addresses, d.Clashing = []netip.Addr{r.At}, nil
	}
	if r.Opened {
		d.Access = device.Keyed
	}
	if r.Factory {
		d.Access = device.Factory
	}
	if r.Reserved && d.Allotted != nil {
		d.Allotted.DHCP = true
	}
	if r.Status != commission.Done {
		return
	}
	d.Absorb(r.Left.Facts())
}
