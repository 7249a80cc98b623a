package field

import (
	"fmt"
	"io"
	"net/netip"
	"slices"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/job"
)

// Plans says what each taken and allotted device is to become. Devices without
// a password of their own on the keyring get the site password there, which has
// to be saved before anything is sent if changed is set. A sealed device gets
// none: a password made for others would only cost it a try. A fresh device that
// was never sent the password kept for it gets the present site password, which
// may be a newer one; maybeKeyed tells, by ID, those that may have been. dns is
// what is to be typed in by hand.
func Plans(sheet *job.Sheet, devices []device.Device, keys *job.Keyring, maybeKeyed map[int64]bool, dns []netip.Addr) (plans []commission.Plan, changed bool) {
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken || d.Allotted == nil {
			continue
		}
		if manner := MannerOf(d); manner != commission.ByService {
			plans = append(plans, commission.Plan{
				ID: d.ID, Tag: d.Tag, MAC: d.MAC, Serial: d.Serial, From: d.Address(), Target: *d.Allotted, Manner: manner, DNS: dns,
			})
			continue
		}
		user, password, ok := keys.For(d.MAC)
		if !ok && d.Access != device.Sealed || d.Access == device.Fresh && !maybeKeyed[d.ID] {
			user, password = sheet.User(), keys.Site()
			changed = keys.Set(d.MAC, user, password) || changed
		}
		target := *d.Allotted
		target.Name = sheet.NameFor(d)
		plans = append(plans, commission.Plan{
			ID: d.ID, Tag: d.Tag, MAC: d.MAC, Serial: d.Serial, From: d.Address(),
			Target: target, User: user, Password: password, Service: d.Service,
			NameBySerial: sheet.NameBySerial,
		})
	}
	slices.SortFunc(plans, func(a, b commission.Plan) int {
		if len(a.Tag) != len(b.Tag) {
			return len(a.Tag) - len(b.Tag)
		}
		if a.Tag < b.Tag {
			return -1
		}
		return 1
	})
	return plans, changed
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
	rules, err := secret.Sane.And(sheet.Rules())
	if err != nil {
		return secret.Password{}, fmt.Errorf("the job sheet's password rules: %w", err)
	}
	for i := range devices {
		d := &devices[i]
		if d.InJob != device.Taken || d.Rules == nil {
			continue
		}
		if rules, err = rules.And(*d.Rules); err != nil {
			return secret.Password{}, fmt.Errorf("the rules of %s do not go with the others': %w", d.Label(), err)
		}
	}
	return secret.Generate(rules, sheet.User(), random)
}

// Record carries how commissioning a device ended into what is known of it.
func Record(d *device.Device, r commission.Result) {
	if r.At.IsValid() {
		d.Addresses, d.Clashing = []netip.Addr{r.At}, nil
	}
	if r.Opened {
		d.Access = device.Keyed
	}
	if r.Reserved && d.Allotted != nil {
		d.Allotted.DHCP = true
	}
	if r.Status != commission.Done {
		return
	}
	d.Absorb(r.Left.Facts())
}
