package device

import (
	"net/netip"
	"slices"
	"time"

	"janustat/core/text"
)

// Change is one difference between a survey and what the register held.
type Change struct {
	Label string `json:"device"`
	MAC   MAC    `json:"mac"`
	What  string `json:"what"` // new, gone, back, changed, alarm
	Text  string `json:"text"`
}

// Reconcile carries what a survey found into what the register knows.
//
// last is the moment of the previous survey; a known device not seen since then
// was already gone and is not reported again. Devices keep their tag, choice,
// allotment and history; what was seen replaces what was known.
func Reconcile(known, found []Device, last time.Time) ([]Device, []Change) {
	byMAC := make(map[MAC]int, len(known))
	byEndpoint := make(map[string]int, len(known))
	for i := range known {
		if !known[i].MAC.IsZero() {
			byMAC[known[i].MAC] = i
		} else if known[i].Endpoint != "" {
			byEndpoint[known[i].Endpoint] = i
		}
	}
	all := slices.Clone(known)
	seen := make([]bool, len(known))
	var changes []Change
	for _, f := range found {
		at, ok := byMAC[f.MAC]
		if !ok {
			at, ok = byEndpoint[f.Endpoint]
		}
		if !ok || f.MAC.IsZero() && f.Endpoint == "" {
			all = append(all, f)
			changes = append(changes, Change{f.Label(), f.MAC, "new", describe(&f)})
			continue
		}
		seen[at] = true
		changes = append(changes, all[at].seen(f, last)...)
	}
	for i, was := range seen {
		if d := &all[i]; !was && !d.SeenAt.Before(last) {
			changes = append(changes, Change{d.Label(), d.MAC, "gone", "last at " + addressText(d.Address())})
		}
	}
	return all, changes
}

func describe(d *Device) string {
	what := string(d.Kind)
	if maker := text.Words(d.Make, d.Model); d.Make != "" {
		what += ", " + maker
	}
	return what + " at " + addressText(d.Address())
}

// certificate tells a certificate by the beginning of its fingerprint.
func certificate(t *TLS) string {
	if t == nil || len(t.Fingerprint) < shownFingerprint {
		return ""
	}
	return t.Fingerprint[:shownFingerprint]
}

// shownFingerprint is how much of a fingerprint tells two apart at a glance.
const shownFingerprint = 16

func addressText(a netip.Addr) string {
	if !a.IsValid() {
		return "no address"
	}
	return a.String()
}
