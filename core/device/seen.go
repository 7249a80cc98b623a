package device

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"janustat/core/evidence"
)

// learn takes over what the device told when it had proved who it is. Of one that proves
// it by a key, what was only announced before does not stand beside that.
func (d *Device) learn(f evidence.Proven[Facts]) {
	if f.By() == evidence.ByKey && d.byKeys() {
		d.Firmware = ""
	}
	d.Absorb(f.Is())
}

// Commissioned reports whether the device was set up by this job.
func (d *Device) Commissioned() bool { return d.AsLeft != nil }

// seen takes over what a survey found and tells what differs. last is the moment of
// the previous survey.
func (d *Device) seen(f Device, last time.Time) []Change {
	var changes []Change
	note := func(what, text string) { changes = append(changes, Change{d.Label(), d.MAC, what, text}) }
	differs := func(what, from, to string) bool {
		if from == to || from == "" || to == "" {
			return false
		}
		note("changed", fmt.Sprintf("%s %s → %s", what, from, to))
		return true
	}
	if d.SeenAt.Before(last) {
		note("back", describe(&f))
	}
	// An alarm is taken back when a password opens the device, which proves who it is; that
	// nobody says anything strange at the moment does not.
	if alarm := d.suspect(f); alarm != "" && alarm != d.Alarm && f.Access.Over(Unread) {
		note("alarm", alarm)
		d.Apply(Alarmed{f.SeenAt, alarm})
	}
	differs("address", addressText(d.Address()), addressText(f.Address()))
	differs("firmware", d.Firmware, f.Firmware)
	differs("serial", d.Serial, f.Serial)
	differs("name", d.Name, f.Name)
	access := d.accessBy(f)
	differs("access", string(d.Access), string(access))
	d.Addresses, d.Clashing, d.SeenAt = f.Addresses, f.Clashing, f.SeenAt
	if f.Endpoint != "" && (d.Endpoint == "" || d.Alarm == "") {
		d.Endpoint = f.Endpoint
	}
	// What was open and offered last time may not be any more.
	stale, opened := d.Settings, !d.OpenedAt.IsZero()
	d.Ports, d.Offers = nil, nil
	switch {
	case d.Alarm != "":
		f.Facts = d.trusted(f.Facts)
	case opened: // what it was opened by stays pinned; it goes by the device's own word alone
		f.TLS, f.NoTLS = d.TLS, d.NoTLS && f.TLS == nil
		if f.Pins = d.Pins; d.byKeys() {
			// What it announces of itself is anybody's word; what it told when it was opened is not.
			f.Make, f.Model, f.Serial, f.Firmware, f.Name = "", "", "", "", ""
		}
	case d.TLS != nil && f.TLS == nil && f.NoTLS:
		d.TLS = nil
		note("changed", "no longer offers HTTPS")
	default:
		if f.Pins != nil {
			d.Pins = nil // it is met as it is now, as long as nobody has opened it
		}
		differs("certificate", certificate(d.TLS), certificate(f.TLS))
	}
	kind, indoor := d.Kind, d.Indoor
	d.Absorb(f.Facts)
	if d.KindSaid {
		d.Kind, d.Indoor = kind, indoor
	}
	d.Access = access
	// Settings read long ago no longer hold for a device that now answers elsewhere.
	if f.Settings == nil && stale != nil && !slices.Contains(f.Addresses, stale.Address) {
		d.Settings = nil
	}
	return changes
}

// accessBy gives a device's access after a survey, which offers no password and so
// cannot tell keyed from sealed: the register's word stands.
func (d *Device) accessBy(f Device) Access {
	switch {
	case d.Access == "":
		return f.Access
	case d.Access.Over(f.Access) && !f.Access.Over(Unread):
		return d.Access
	case f.Access == Sealed && (d.Access == Keyed || d.Access == Factory):
		return d.Access
	case f.Access == Fresh && d.ResetAt.IsZero() && !d.OpenedAt.IsZero():
		return d.Access // an alarm, and not a word to go by
	}
	return f.Access
}

// suspect says why a device that was opened before is not to be trusted as it is met
// now, or "".
func (d *Device) suspect(f Device) string {
	switch {
	case d.OpenedAt.IsZero():
		return ""
	case !d.ResetAt.IsZero():
		return ""
	case d.byKeys(): // each conversation is held to its key, and what is announced is anybody's word
		if otherKey(d.Pins, f.Pins) {
			return "has another key than when it was opened"
		}
		return ""
	case d.Serial != "" && f.Serial != "" && f.Serial != d.Serial:
		return fmt.Sprintf("has another serial number, %s and not %s", f.Serial, d.Serial)
	case f.Serial == "" && d.Endpoint != "" && f.Endpoint != "" && f.Endpoint != d.Endpoint:
		return "has another endpoint reference than when it was opened"
	case f.Access == Fresh:
		return "says that it has no password, and was opened by one before"
	case d.TLS != nil && f.TLS != nil && f.TLS.Fingerprint != d.TLS.Fingerprint && !f.TLS.OfSite:
		return fmt.Sprintf("shows another certificate, %s… and not %s…", certificate(f.TLS), certificate(d.TLS))
	case otherKey(d.Pins, f.Pins):
		return "has another key than when it was opened"
	case d.TLS != nil && f.NoTLS:
		return "no longer offers HTTPS, by which it was opened before"
	}
	return ""
}

// byKeys reports whether a device is spoken to by keys alone, in each of its tongues.
func (d *Device) byKeys() bool {
	return len(d.Pins) > 0 && !slices.ContainsFunc(d.Tongues, func(t Tongue) bool { return d.Pins[t] == "" })
}

// SameKeys reports whether a unit that answers by the device's MAC has the keys that the
// device has proved to have: they stay over resets.
func (d *Device) SameKeys(unit *Device) bool { return !otherKey(d.Pins, unit.Pins) }

// otherKey reports whether a tongue in which two keys are known has another. Behind the
// last point stands what may change with no other key (a salt, by a reset).
func otherKey(was, is map[Tongue]string) bool {
	for t, key := range was {
		if is[t] != "" && pinnedKey(is[t]) != pinnedKey(key) {
			return true
		}
	}
	return false
}

// pinnedKey gives the key of a pin: of its parts, the longest first one.
func pinnedKey(pin string) string {
	for part := range strings.SplitSeq(pin, ".") {
		if len(part) >= 2*sha256Len {
			return part
		}
	}
	return pin
}

// sha256Len is the length of a SHA-256 digest, in bytes.
const sha256Len = 32

// trusted leaves out of the facts of a suspect device what it could lay a trail by.
func (d *Device) trusted(f Facts) Facts {
	return Facts{Ports: f.Ports, Offers: f.Offers, Registry: f.Registry}
}
