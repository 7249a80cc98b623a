package device

import (
	"cmp"
	"net/netip"
	"slices"
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

// NotEarlier keeps the moments of a device from going back behind what is known of it: two who write
// what they learnt at the same time may do so in any order.
func (d *Device) NotEarlier(was Device) {
	d.touched(was.ChangedAt)
	if was.SeenAt.After(d.SeenAt) {
		d.SeenAt = was.SeenAt
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
	d.Allotted, d.Why, d.Asked = was, e.Was.Why, e.Was.Asked
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
	Asked    bool // for, in place of one that the device has by right
}

func (e Allotment) apply(d *Device) {
	s := e.Settings
	if was := d.Allotted; was != nil {
		s.DHCP = s.DHCP || was.DHCP
		if was.Address == s.Address && was.Prefix == s.Prefix && was.Gateway == s.Gateway && was.DHCP == s.DHCP {
			d.Why, d.Asked = e.Why, e.Asked
			return
		}
	}
	d.Allotted, d.Why, d.Asked = &s, e.Why, e.Asked
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
	// Same tells that it is meant to be the same unit: the serial number that it does not say yet has to be
	// the one that it had, once its password opens it.
	Same bool
}

func (e Restored) apply(d *Device) {
	former, serial := d.Former, d.Serial
	if e.Unit.MAC != d.MAC && d.Serial != "" {
		former = append(slices.Clone(former), d.Serial)
		former = former[max(0, len(former)-maxKept):]
	}
	d.MAC, d.Endpoint, d.Facts = e.Unit.MAC, e.Unit.Endpoint, e.Unit.Facts
	d.Former = former
	if e.Same {
		d.Serial = cmp.Or(d.Serial, serial)
	}
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
