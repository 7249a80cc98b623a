package device

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"

	"janustat/core/text"
)

func (d *Device) absorb(s *Sighting) {
	if d.SeenAt.Before(s.At) {
		d.SeenAt = s.At
	}
	if s.Address.IsValid() && !s.Address.IsUnspecified() {
		d.Addresses = mergeAddresses(d.Addresses, s.Address)
	}
	d.Facts.Absorb(s.Facts)
}

// Absorb lets later, non-empty facts replace earlier ones.
func (f *Facts) Absorb(n Facts) {
	n.clean()
	// Other is the absence of a better answer, so it never replaces one.
	if n.Kind != "" && (n.Kind != Other || f.Kind == "") {
		f.Kind, f.Indoor = n.Kind, n.Indoor
	}
	for _, p := range []struct {
		have *string
		said string
	}{
		{&f.Make, n.Make},
		{&f.Model, n.Model},
		{&f.Serial, n.Serial},
		{&f.Firmware, n.Firmware},
		{&f.Hardware, n.Hardware},
		{&f.Name, n.Name},
		{&f.Service, n.Service},
		{&f.Host, n.Host},
		{&f.Registry, n.Registry},
	} {
		if p.said != "" {
			*p.have = p.said
		}
	}
	if n.Access != "" && !f.Access.Over(n.Access) {
		f.Access = n.Access
	}
	if n.Settings != nil {
		f.Settings = n.Settings
	}
	if n.Rules != nil {
		f.Rules = n.Rules
	}
	switch {
	case n.TLS != nil:
		f.TLS, f.NoTLS = n.TLS, false
	case n.NoTLS && f.TLS == nil: // met there by one address, it offers HTTPS
		f.NoTLS = true
	}
	if n.TLS != nil || n.NoTLS {
		f.MuteTLS = ""
	} else if n.MuteTLS != "" && f.TLS == nil {
		f.MuteTLS, f.NoTLS = n.MuteTLS, false
	}
	if n.Writes != nil {
		f.Writes = n.Writes
	}
	if n.Stream != nil {
		f.Stream = n.Stream
	}
	if n.Encodings != nil {
		f.Encodings = n.Encodings
	}
	if n.Room != nil {
		f.Room = n.Room
	}
	if n.Links != nil {
		f.Links = n.Links
	}
	if n.Login != "" {
		f.Login = n.Login
	}
	f.Tongues = union(f.Tongues, n.Tongues)
	f.Pins = pinsOf(f.Pins, n.Pins)
	f.Ports, f.Offers = union(f.Ports, n.Ports), union(f.Offers, n.Offers)
	f.Offers, f.Ports = f.Offers[:min(len(f.Offers), maxKept)], f.Ports[:min(len(f.Ports), maxKept)]
	if n.Asks != nil {
		f.Asks = n.Asks
	}
	if len(n.OtherMAC) > 0 {
		f.OtherMAC = n.OtherMAC
	}
}

// TwoKeys stands in the place of a pin where two keys were announced for one MAC: which is
// the device's is not decided by who came last, and no conversation fits it.
const TwoKeys = "two keys were announced"

// pinsOf gives the keys of a device that were announced.
func pinsOf(was, is map[Tongue]string) map[Tongue]string {
	if len(was) == 0 {
		return is
	}
	out := maps.Clone(was)
	for t, pin := range is {
		if known := out[t]; known != "" && pinnedKey(known) != pinnedKey(pin) {
			pin = TwoKeys
		}
		out[t] = pin
	}
	return out
}

// clean makes what a stranger said fit to be kept.
func (s *Sighting) clean() {
	s.Endpoint = text.Harmless(s.Endpoint, text.Marker, nil)
	s.Facts.clean()
}

func (f *Facts) clean() {
	for _, p := range []*string{&f.Make, &f.Model, &f.Serial, &f.Firmware, &f.Hardware, &f.Name, &f.Host, &f.Registry} {
		*p = text.Harmless(*p, text.Short, nil)
	}
	for _, p := range []*string{&f.Service, &f.MuteTLS} {
		*p = text.Harmless(*p, text.Long, nil)
	}
	if f.Settings != nil {
		own := *f.Settings
		own.Name, own.Zone = text.Harmless(own.Name, text.Short, nil), text.Harmless(own.Zone, text.Short, nil)
		f.Settings = &own
	}
	if f.Asks != nil {
		own := *f.Asks
		text.Each(&own, func(s string) string { return text.Harmless(s, text.Short, nil) })
		f.Asks = &own
	}
	f.Offers = slices.Clone(f.Offers)
	text.Each(f.Offers, func(s string) string { return text.Harmless(s, text.Marker, nil) })
	f.Offers, f.Ports = f.Offers[:min(len(f.Offers), maxKept)], f.Ports[:min(len(f.Ports), maxKept)]
	f.OtherMAC = f.OtherMAC[:min(len(f.OtherMAC), maxKept)]
	if f.Stream != nil {
		own := *f.Stream
		own.Path, own.Codec = text.Harmless(own.Path, text.Long, nil), text.Harmless(own.Codec, text.Marker, nil)
		f.Stream = &own
	}
	f.Links = slices.Clone(f.Links)
	text.Each(f.Links, func(s string) string { return text.Harmless(s, text.Long, nil) })
}

// maxKept bounds the lists that are kept of what a device says of itself.
const maxKept = 32

// union gives all that either holds, sorted.
func union[T cmp.Ordered](have, more []T) []T {
	if len(more) == 0 {
		return have
	}
	all := slices.Concat(have, more)
	slices.Sort(all)
	return slices.Compact(all)
}

// MaxAddresses bounds the addresses that are kept of one MAC. Routers and proxies
// answer for many; what more there are says nothing of where to meet it.
const MaxAddresses = 32

func mergeAddresses(have []netip.Addr, more ...netip.Addr) []netip.Addr {
	for _, a := range more {
		if len(have) >= MaxAddresses {
			return have
		}
		if at, found := slices.BinarySearchFunc(have, a, netip.Addr.Compare); !found {
			have = slices.Insert(have, at, a)
		}
	}
	return have
}
