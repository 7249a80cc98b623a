package device

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/evidence"
)

// Event is something that happened to a device, or was decided about it. What is known
// of a device changes by events alone: so no write can leave an old proof behind, and
// no survey can forget what was opened.
type Event interface{ apply(d *Device) }

// Apply carries events into what is known, in order.
func (d *Device) Apply(events ...Event) {
	for _, e := range events {
		e.apply(d)
	}
}

// touched notes that what a record tells of the device is no longer what it was.
func (d *Device) touched(at time.Time) {
	if at.After(d.ChangedAt) {
		d.ChangedAt = at
	}
}

// Chosen is that a person put the device into the job, or out of it.
type Chosen struct {
	At     time.Time
	Choice Choice
}

func (e Chosen) apply(d *Device) {
	d.InJob = e.Choice
	d.touched(e.At)
}

// Named is that a person said what the device is, where it does not say so itself.
type Named struct {
	At   time.Time
	Kind Kind
}

func (e Named) apply(d *Device) {
	d.Kind, d.KindSaid = e.Kind, true
	d.touched(e.At)
}

// Tagged is that a person gave the device another tag.
type Tagged struct {
	At  time.Time
	Tag string
}

func (e Tagged) apply(d *Device) {
	d.Tag = e.Tag
	d.touched(e.At)
}

// Renamed is that devices it works with have other tags, by their old ones.
type Renamed struct {
	At   time.Time
	Tags map[string]string
}

func (e Renamed) apply(d *Device) {
	links := slices.Clone(d.Links)
	for i := range links {
		if to, ok := e.Tags[links[i].Peer]; ok {
			links[i].Peer = to
			d.touched(e.At)
		}
	}
	d.Links = links
}

// TakenBack is that a person took a choice back: what was decided about the device is what
// it was, and what has been learnt of it since then stays.
type TakenBack struct {
	At  time.Time
	Was Device
}

func (e TakenBack) apply(d *Device) {
	d.Tag, d.InJob, d.Links = e.Was.Tag, e.Was.InJob, e.Was.Links
	d.Kind, d.KindSaid, d.Indoor = e.Was.Kind, e.Was.KindSaid, e.Was.Indoor
	was, is := e.Was.Allotted, d.Allotted
	d.Allotted, d.Why = was, e.Was.Why
	// A proof from before may have been disproved since then: none comes back with it.
	if (was == nil) != (is == nil) || was != nil && !was.Equal(*is) {
		d.void(e.At)
	}
	d.touched(e.At)
}

// Noted is that a person noted something of the device, which is in its record.
type Noted struct{ At time.Time }

func (e Noted) apply(d *Device) { d.touched(e.At) }

// Allotment is that the device is to have these settings. One that takes nothing but
// a lease goes on doing so: its new address is to be reserved as well.
type Allotment struct {
	At       time.Time
	Settings Settings
	Why      string
}

func (e Allotment) apply(d *Device) {
	s := e.Settings
	if was := d.Allotted; was != nil {
		s.DHCP = s.DHCP || was.DHCP
		if was.Address == s.Address && was.Prefix == s.Prefix && was.Gateway == s.Gateway && was.DHCP == s.DHCP {
			d.Why = e.Why
			return
		}
	}
	d.Allotted, d.Why = &s, e.Why
	d.void(e.At)
}

// Reserved is that the device takes no static address: it keeps the allotted one by a
// reservation of the site's DHCP server.
type Reserved struct{ At time.Time }

func (e Reserved) apply(d *Device) {
	if d.Allotted == nil || d.Allotted.DHCP {
		return
	}
	s := *d.Allotted
	s.DHCP = true
	d.Allotted = &s
	d.touched(e.At)
}

// Written is that something was sent to the device that changes it, or was about to be.
type Written struct{ At time.Time }

func (e Written) apply(d *Device) { d.void(e.At) }

// void takes back that every check passed.
func (d *Device) void(at time.Time) {
	d.Proved = time.Time{}
	d.touched(at)
}

// Found is a first reading of the device's settings: as it was before the job touched
// it. A later one changes nothing.
type Found struct{ Settings Settings }

func (e Found) apply(d *Device) {
	if d.AsFound == nil {
		s := e.Settings
		d.AsFound = &s
	}
}

// TakenOver is that an earlier job set the device up: where, as found and as left, and what was read
// of it then, by the record that this job begins from.
type TakenOver struct {
	Left, Found *Settings
	Links       []Link
}

func (e TakenOver) apply(d *Device) {
	d.AsLeft, d.AsFound, d.Links = e.Left, e.Found, e.Links
	if e.Left != nil {
		d.Addresses = []netip.Addr{e.Left.Address}
	}
}

// PutBack is that the device has the settings again that it was found with: it is left out of the
// job, and what the job decided of it is forgotten.
type PutBack struct{ At time.Time }

func (e PutBack) apply(d *Device) {
	d.InJob, d.Allotted, d.Why, d.AsLeft, d.Links = Left, nil, "", nil, nil
	d.void(e.At)
}

// Met is that the device answers at an address, alone.
type Met struct{ Address netip.Addr }

func (e Met) apply(d *Device) {
	if e.Address.IsValid() {
		d.Addresses, d.Clashing = []netip.Addr{e.Address}, nil
	}
}

// Opened is that a password fitted, and what the device told after that.
type Opened struct {
	At      time.Time
	Factory bool // it is a factory password, known to all
	// Facts are what it told, having proved who it is; nothing where it was not read.
	Facts evidence.Proven[Facts]
	// Pins are the keys that it has proved to have, in tongues with such.
	Pins map[Tongue]string
}

func (e Opened) apply(d *Device) {
	if d.Access != Keyed && d.Access != Factory {
		d.touched(e.At)
	}
	d.learn(e.Facts)
	if len(e.Pins) > 0 {
		d.Pins = e.Pins
	}
	d.Access = Keyed
	if e.Factory {
		d.Access = Factory
	}
	d.OpenedAt, d.ResetAt, d.Alarm = e.At, time.Time{}, ""
}

// Commissioned is that every step held, with the settings as left.
type Commissioned struct {
	At          time.Time
	Left        Settings
	Facts       evidence.Proven[Facts]
	Certificate string // that it showed last, by its fingerprint; "" without HTTPS
}

func (e Commissioned) apply(d *Device) {
	left := e.Left
	if d.AsLeft == nil || !d.AsLeft.Equal(left) {
		d.touched(e.At)
	}
	if d.learn(e.Facts); !e.Facts.Stands() { // set up by hand: it tells nothing of itself
		d.Settings = &e.Left
	}
	d.AsLeft = &left
	if d.TLS != nil && e.Certificate != "" && e.Certificate != d.TLS.Fingerprint {
		// Some make a new certificate when they get another name or address.
		pinned := *d.TLS
		pinned.Fingerprint = e.Certificate
		d.TLS = &pinned
		d.touched(e.At)
	}
}

// Proving is that the device was compared with what is recorded.
type Proving struct {
	At   time.Time
	Held bool
	// Left are its settings where a commissioning that was cut short at its very end
	// left no record of them; nil where they were not read.
	Left *Settings
}

func (e Proving) apply(d *Device) {
	was := d.Proved
	d.Proved = time.Time{}
	if e.Held {
		d.Proved = e.At
		if d.AsLeft == nil && e.Left != nil {
			left := *e.Left
			d.AsLeft = &left
			d.Addresses, d.Clashing = []netip.Addr{left.Address}, nil
		}
	}
	if e.Held || !was.IsZero() {
		d.touched(e.At)
	}
}

// Alarmed is that the device is not as it should be by its identity: nothing of the
// keyring is offered to it.
type Alarmed struct {
	At  time.Time
	Why string
}

func (e Alarmed) apply(d *Device) {
	d.Alarm = e.Why
	d.void(e.At)
}

// Reset is that the device was put back into its factory state, or may have been
// where that is not certain.
type Reset struct {
	At      time.Time
	Certain bool
}

func (e Reset) apply(d *Device) {
	d.void(e.At)
	if !e.Certain {
		return
	}
	d.ResetAt = e.At
	d.Access, d.AsLeft, d.Settings = Fresh, nil, nil
	d.Condition = ""
}

// Restored is that a reset device, or the unit that replaces it, takes the device's
// place again, fresh. It keeps tag and allotment; what is known of its certificate and
// its password begins anew.
type Restored struct {
	At   time.Time
	Unit Device // as the survey met it
}

func (e Restored) apply(d *Device) {
	former := d.Former
	if e.Unit.MAC != d.MAC && d.Serial != "" {
		former = append(slices.Clone(former), d.Serial)
		former = former[max(0, len(former)-maxKept):]
	}
	d.MAC, d.Endpoint, d.Facts = e.Unit.MAC, e.Unit.Endpoint, e.Unit.Facts
	d.Former = former
	d.Addresses, d.Clashing, d.SeenAt = e.Unit.Addresses, e.Unit.Clashing, e.Unit.SeenAt
	d.Access, d.AsLeft, d.Alarm = Fresh, nil, ""
	d.OpenedAt, d.ResetAt = time.Time{}, time.Time{}
	d.void(e.At)
}

// Judged sets the device's condition by the site network, which may be invalid where
// nothing is known of it, and whether it is another's.
type Judged struct {
	Site    netip.Prefix
	NotOurs bool
}

func (e Judged) apply(d *Device) {
	d.Condition, d.NotOurs = ConditionOf(d, e.Site), e.NotOurs
	if !d.ResetAt.IsZero() && d.Settings == nil && d.Condition != Clash && d.Condition != Bare {
		d.Condition = ""
	}
}

// Silent: nothing more is known of it than that it is there.
type Silent struct{}

func (Silent) apply(d *Device) {
	if d.Access == "" || d.Access.Dumb() {
		d.Access = Unmanaged
		if LooksLike(func(port uint16) bool { return slices.Contains(d.Ports, port) }) {
			d.Access = Mute
		}
	}
}

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
	case d.TLS != nil && f.TLS != nil && f.TLS.Fingerprint != d.TLS.Fingerprint:
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
