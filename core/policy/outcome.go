package policy

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/keys"
	"janustat/core/secret"
	"janustat/core/settings"
	"janustat/core/settings/httpport"
	"janustat/core/settings/https"
	"janustat/core/settings/httpsport"
	"janustat/core/sheet"
)

// MannerOf tells how a device comes to its address.
func MannerOf(d *device.Device) commission.Manner {
	switch {
	case !d.Access.Dumb():
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
func SitePassword(sheet *sheet.Sheet, devices []device.Device, random io.Reader) (secret.Password, error) {
	rules, err := rulesFor(sheet, devices)
	if err != nil {
		return secret.Password{}, err
	}
	return secret.Generate(rules, sheet.User(), random)
}

func rulesFor(sheet *sheet.Sheet, devices []device.Device) (secret.Rules, error) {
	// Nobody has asked for the usual ceiling: it gives way to who asks for longer ones.
	sane := secret.Sane.Yielding(sheet.Rules())
	for i := range devices {
		if d := &devices[i]; d.InJob == device.Taken && d.Rules != nil {
			sane = sane.Yielding(*d.Rules)
		}
	}
	rules, err := sane.And(sheet.Rules())
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
func TakeKeys(ring *keys.Ring, r commission.Result, now time.Time) (changed bool) {
	if r.Opened {
		changed = ring.Opened(r.Plan.MAC, r.Key, now)
		if r.KeepsOnly > 0 {
			ring.NoteCut(r.Plan.MAC, r.KeepsOnly)
			changed = true
		}
	}
	for _, name := range r.Admitted {
		if !ring.NextUserFor(r.Plan.MAC, name).IsZero() {
			ring.ConfirmUser(r.Plan.MAC, name)
			changed = true
		}
	}
	changed = ring.NoteDoubted(r.Plan.MAC, r.Doubted) || changed
	return ring.NoteRefused(r.Plan.MAC, r.Refused) || changed
}

// Expect gives what is known of a device before it is spoken with, from the register.
func Expect(d *device.Device) commission.Expected {
	e := commission.Expected{Access: d.Access, Links: d.Links}
	if s := d.Settings; s != nil {
		e.Found.Settings = *s
	}
	if e.Found.Settings.Name == "" {
		e.Found.Settings.Name = d.Name
	}
	w := d.Writes
	if w == nil {
		w = &device.Outlook{Partial: true}
	}
	e.Found.Clock, e.Found.ByNTP = time.Duration(w.ClockS*float64(time.Second)), w.ByNTP
	// What it refuses to tell yet is taken for settings that it has, where its tongue has them.
	partial := w.Partial && (len(d.Tongues) == 0 || slices.Contains(d.Tongues, device.Standard))
	e.Found.DNS = commission.Servers{Told: w.DNS || partial, FromDHCP: w.DNSAuto, Addresses: e.Found.Settings.DNS}
	e.Found.NTP = commission.Servers{Told: w.NTP || partial, FromDHCP: w.NTPAuto, Addresses: e.Found.Settings.NTP}
	for _, p := range w.Pictures {
		e.Found.Pictures = append(e.Found.Pictures, commission.Picture(p))
	}
	// What the pictures of a camera show is asked only once it is opened: until then they
	// are taken for some that can show its name.
	if len(w.Pictures) == 0 && d.Kind == device.Camera && !d.Commissioned() {
		e.Found.Pictures = []commission.Picture{{Shows: true}}
	}
	// What it tells nobody yet is taken for settings that it has.
	e.Found.Values = e.Found.Settings.All()
	if d.TLS != nil { // it is met over HTTPS, whether it was opened or not
		e.Found.Values[https.Name], e.Found.Values[httpsport.Name] = https.On, strconv.Itoa(int(d.TLS.Port))
	} else if slices.Contains(d.Tongues, device.Standard) { // and else at a port of HTTP
		e.Found.Values[httpport.Name] = strconv.Itoa(int(cmp.Or(d.ServicePort(), httpport.Usual)))
	}
	for _, s := range settings.All {
		if s.Optional && partial && e.Found.Values[s.Name] == "" {
			e.Found.Values[s.Name] = "?"
		}
	}
	return e
}

// Events gives what a result tells of a device.
func Events(r commission.Result, now time.Time) (out []device.Event) {
	if r.Alarm != "" {
		return []device.Event{device.Alarmed{At: now, Why: r.Alarm}}
	}
	out = append(out, device.Met{Address: r.At})
	if r.Opened {
		out = append(out, device.Opened{At: now, Factory: r.Factory, Pins: r.Pins})
	}
	if r.Reserved {
		out = append(out, device.Reserved{At: now})
	}
	if f := r.Flashed; f != nil {
		switch {
		case f.Version != "":
			out = append(out, device.Upgraded{At: now, Version: f.Version})
		case f.State == commission.FlashFresh:
			out = append(out, device.Reset{At: now, Certain: true})
		}
	}
	switch r.Reset {
	case commission.OutcomeDone:
		out = append(out, device.Reset{At: now, Certain: true})
	case commission.OutcomeUnknown:
		out = append(out, device.Reset{At: now})
	}
	return out
}
