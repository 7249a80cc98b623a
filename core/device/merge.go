package device

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Merge turns sightings into devices. What counts is identity, never address:
// the MAC on the wire first, then the endpoint reference and the serial number.
//
// Two different MACs on the wire stay two devices even when they claim one
// endpoint reference or one serial, since cloned identities are common and a
// wrong join would send one device another's settings; only a device service
// that lists the other MAC among its own interfaces, with the same endpoint
// reference, joins them. The result does not depend on the order of sightings:
// they are sorted first, and devices come out by MAC, then endpoint.
func Merge(sightings []Sighting) []Device {
	sorted := slices.Clone(sightings)
	slices.SortStableFunc(sorted, compareSightings)

	m := merger{byMAC: map[MAC]int{}, byEndpoint: map[string]int{}, bySerial: map[string]int{}}
	for i := range sorted {
		m.add(&sorted[i])
	}
	m.knowPorts()
	m.joinOwnInterfaces()
	out := make([]Device, 0, len(m.devices))
	for _, d := range m.devices {
		if d != nil {
			out = append(out, *d)
		}
	}
	slices.SortFunc(out, Compare)
	markClashes(out, sorted)
	return out
}

// Compare orders devices by MAC, then endpoint reference.
func Compare(a, b Device) int {
	return cmp.Or(slices.Compare(a.MAC[:], b.MAC[:]), cmp.Compare(a.Endpoint, b.Endpoint))
}

// compareSightings puts sightings that know their MAC first, so that those
// without can join a device that is already there.
func compareSightings(a, b Sighting) int {
	if a.MAC.IsZero() != b.MAC.IsZero() {
		if b.MAC.IsZero() {
			return -1
		}
		return 1
	}
	return cmp.Or(
		slices.Compare(a.MAC[:], b.MAC[:]),
		a.At.Compare(b.At),
		cmp.Compare(a.By, b.By),
		a.Address.Compare(b.Address),
		cmp.Compare(a.Endpoint, b.Endpoint),
		cmp.Compare(a.Facts.Serial, b.Facts.Serial),
	)
}

type merger struct {
	devices    []*Device
	byMAC      map[MAC]int
	byEndpoint map[string]int // only the first device of an endpoint: clones stay apart
	bySerial   map[string]int
}

func (m *merger) add(s *Sighting) {
	s.clean()
	at, known := m.find(s)
	if !known {
		at = len(m.devices)
		m.devices = append(m.devices, &Device{MAC: s.MAC, FirstSeen: s.At})
	}
	d := m.devices[at]
	if !s.MAC.IsZero() {
		m.byMAC[s.MAC] = at
	}
	if s.Endpoint != "" {
		d.Endpoint = s.Endpoint
		if _, taken := m.byEndpoint[s.Endpoint]; !taken {
			m.byEndpoint[s.Endpoint] = at
		}
	}
	if key := serialKey(s.Facts); key != "" {
		if _, taken := m.bySerial[key]; !taken {
			m.bySerial[key] = at
		}
	}
	d.absorb(s)
}

// find looks for the device of a sighting. One with a MAC is that MAC's
// device; one without may join by endpoint, then by serial.
func (m *merger) find(s *Sighting) (int, bool) {
	if !s.MAC.IsZero() {
		at, ok := m.byMAC[s.MAC]
		return at, ok
	}
	if s.Endpoint != "" {
		at, ok := m.byEndpoint[s.Endpoint]
		return at, ok
	}
	if key := serialKey(s.Facts); key != "" {
		at, ok := m.bySerial[key]
		return at, ok
	}
	return 0, false
}

func serialKey(f Facts) string {
	if f.Serial == "" || f.Make == "" {
		return ""
	}
	return strings.ToLower(f.Make) + "\x00" + f.Serial
}

// knowPorts finds the ports of one device that does not tell its interfaces to everybody, by what
// it does: where a kernel's defaults are left, each port on a LAN answers ARP for the addresses
// of all of them (the weak model of RFC 1122, 3.3.4.2). Cards with the same two addresses or
// more, of which one says who it is and no other says otherwise, are one. Once that device is
// opened, it has to know them all: a stranger's card is told then.
func (m *merger) knowPorts() {
	groups := map[string][]*Device{} // by their addresses
	for _, d := range m.devices {
		own := 0 // beside those that any host may take
		for _, a := range d.Addresses {
			if a.Is4() && !a.IsLinkLocalUnicast() {
				own++
			}
		}
		if own > 1 && !d.MAC.IsZero() {
			key := fmt.Sprint(d.Addresses)
			groups[key] = append(groups[key], d)
		}
	}
	for _, ports := range groups {
		var who *Device
		one := len(ports) > 1 && len(ports) <= maxPorts
		for _, d := range ports {
			switch {
			case d.Endpoint == "":
			case who == nil:
				who = d
			default:
				one = one && d.Endpoint == who.Endpoint
			}
		}
		for _, d := range ports {
			one = one && who != nil && (d.Serial == "" || who.Serial == "" || d.Serial == who.Serial)
		}
		if !one {
			continue
		}
		for _, d := range ports {
			d.Endpoint = who.Endpoint
			for _, o := range ports {
				if o != d && !slices.Contains(d.OtherMAC, o.MAC) {
					d.OtherMAC = append(slices.Clone(d.OtherMAC), o.MAC)
				}
			}
		}
	}
}

// maxPorts is more than a device has on one LAN.
const maxPorts = 4

// joinOwnInterfaces joins the ports of one multi-homed device.
func (m *merger) joinOwnInterfaces() {
	order := make([]int, len(m.devices))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { // one that has told what it is comes first
		return cmp.Compare(len(m.devices[b].Model), 0) - cmp.Compare(len(m.devices[a].Model), 0)
	})
	for _, at := range order {
		d := m.devices[at]
		if d == nil || d.Endpoint == "" {
			continue
		}
		for _, mac := range d.OtherMAC {
			other, ok := m.byMAC[mac]
			if !ok || other == at || m.devices[other] == nil {
				continue
			}
			o := m.devices[other]
			if o.Endpoint != d.Endpoint || !slices.Contains(o.OtherMAC, d.MAC) {
				continue
			}
			d.Addresses = mergeAddresses(d.Addresses, o.Addresses...)
			if d.SeenAt.Before(o.SeenAt) {
				d.SeenAt = o.SeenAt
			}
			m.devices[other] = nil
		}
	}
}

// maxClashing bounds the others that are kept of those on one address: however many a
// stranger pretends to be, who is to be told apart is told by these.
const maxClashing = 16

// markClashes notes for each device the other MACs that answer for one of its addresses.
// sightings are sorted; those without a MAC say nothing here.
func markClashes(devices []Device, sightings []Sighting) {
	holders := map[netip.Addr][]MAC{}
	for i := range sightings {
		s := &sightings[i]
		if list := holders[s.Address]; !s.MAC.IsZero() && s.Address.IsValid() && len(list) <= maxClashing && !slices.Contains(list, s.MAC) {
			holders[s.Address] = append(list, s.MAC)
		}
	}
	for i := range devices {
		d := &devices[i]
		d.Clashing = nil
		for _, a := range d.Addresses {
			for _, other := range holders[a] {
				own := other == d.MAC || slices.Contains(d.OtherMAC, other)
				if !own && !slices.Contains(d.Clashing, other) && len(d.Clashing) < maxClashing {
					d.Clashing = append(d.Clashing, other)
				}
			}
		}
		slices.SortFunc(d.Clashing, func(a, b MAC) int { return slices.Compare(a[:], b[:]) })
	}
}

// ConditionOf judges a device's address against the site subnet, which may be
// invalid when nothing is known of it yet.
func ConditionOf(d *Device, site netip.Prefix) Condition {
	address := d.Address()
	switch {
	case !address.IsValid():
		return Bare
	case len(d.Clashing) > 0:
		return Clash
	case address.IsLinkLocalUnicast():
		return Adrift
	case site.IsValid() && !site.Contains(address):
		return Stray
	case d.Settings == nil:
		return ""
	case d.Settings.DHCP:
		return Leased
	case d.Allotted != nil && d.Allotted.Address == address && d.Allotted.Prefix == d.Settings.Prefix:
		return Settled
	case site.IsValid():
		return Static
	default:
		return ""
	}
}
