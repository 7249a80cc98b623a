package device

import (
	"net/netip"
	"time"
)

// Kept is what a store keeps of a device, beside its ID and the version of that: what its events come
// to. The same is always written as the same JSON.
type Kept struct {
	Tag       string       `json:"tag"`
	InJob     Choice       `json:"in_job"`
	MAC       MAC          `json:"mac"`
	Endpoint  string       `json:"endpoint"`
	Facts     Facts        `json:"facts"`
	Addresses []netip.Addr `json:"addresses,omitempty"`
	Condition Condition    `json:"condition"`
	Clashing  []MAC        `json:"clashing,omitempty"`
	FirstSeen time.Time    `json:"first_seen,omitzero"`
	SeenAt    time.Time    `json:"seen_at,omitzero"`
	Allotted  *Settings    `json:"allotted,omitempty"`
	Why       string       `json:"why"`
	Asked     bool         `json:"asked"`
	AsFound   *Settings    `json:"as_found,omitempty"`
	AsLeft    *Settings    `json:"as_left,omitempty"`
	Proved    time.Time    `json:"proved_at,omitzero"`
	OpenedAt  time.Time    `json:"opened_at,omitzero"`
	ResetAt   time.Time    `json:"reset_at,omitzero"`
	ChangedAt time.Time    `json:"changed_at,omitzero"`
	Alarm     string       `json:"alarm"`
}

// Kept gives what is kept of the device. Times are in UTC.
func (d *Device) Kept() Kept {
	return Kept{
		d.Tag, d.InJob, d.MAC, d.Endpoint, d.Facts, d.Addresses, d.Condition, d.Clashing, d.FirstSeen.UTC(), d.SeenAt.UTC(),
		d.Allotted, d.Why, d.Asked, d.AsFound, d.AsLeft, d.Proved.UTC(), d.OpenedAt.UTC(), d.ResetAt.UTC(), d.ChangedAt.UTC(), d.Alarm,
	}
}

// Be has the device be what was kept of it. What is not kept stays as it is.
func (d *Device) Be(k Kept) {
	d.Tag, d.InJob, d.MAC, d.Endpoint, d.Facts, d.Addresses, d.Condition, d.Clashing = k.Tag, k.InJob, k.MAC, k.Endpoint, k.Facts, k.Addresses, k.Condition, k.Clashing
	d.FirstSeen, d.SeenAt, d.Allotted, d.Why, d.Asked, d.AsFound, d.AsLeft = k.FirstSeen, k.SeenAt, k.Allotted, k.Why, k.Asked, k.AsFound, k.AsLeft
	d.Proved, d.OpenedAt, d.ResetAt, d.ChangedAt, d.Alarm = k.Proved, k.OpenedAt, k.ResetAt, k.ChangedAt, k.Alarm
}
