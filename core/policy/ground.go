package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/lan"
	"janustat/core/sheet"
	"janustat/core/text"
)

// Heard is what the last survey met beside devices.
type Heard struct {
	Laptop []netip.Prefix // the laptop's own addresses
	Offers []lan.Offer    // of DHCP servers
}

// Claims gathers what the job sheet, the devices and the last survey say of the site network.
// Keyed are devices that have, or may have, a password of this job.
func Claims(said *sheet.Sheet, h Heard, keyed map[int64]bool, devices []device.Device) (claims []ground.Claim) {
	if c, ok := said.Claim(); ok {
		claims = append(claims, c)
	}
	for i := range devices {
		if c, ok := claimOf(&devices[i], keyed); ok {
			claims = append(claims, c)
		}
	}
	for _, o := range h.Offers {
		claims = append(claims, ground.Claim{Rank: ground.FromLAN, Source: "DHCP server " + o.Server.String(), Subnet: o.Subnet, Gateway: o.Gateway, DNS: o.DNS, NTP: o.NTP})
	}
	for _, p := range h.Laptop {
		if !p.Addr().IsLinkLocalUnicast() && ground.CheckSubnet(p) == nil {
			claims = append(claims, ground.Claim{Rank: ground.FromLaptop, Source: "the laptop's own address", Subnet: p.Masked()})
		}
	}
	return claims
}

// Regard gives the site network by what is claimed and what was kept, and what the sources say now
// that differs from that. Sources that disagree are an error only while nothing is kept.
func Regard(kept ground.Kept, claims []ground.Claim, override bool, devices []device.Device) (g ground.Ground, differs []string, err error) {
	now, err := ground.Resolve(claims, override)
	if err != nil {
		if kept.Subnet.IsValid() && Settled(devices) {
			return kept.Ground, []string{err.Error()}, nil
		}
		return ground.Ground{}, nil, err
	}
	g, differs = ground.Keep(kept, now, Settled(devices))
	return g, differs, nil
}

// Reserved gives what must not be allotted: what the job sheet keeps clear, and every address that
// anything outside the job was ever seen at.
func Reserved(said *sheet.Sheet, h Heard, devices []device.Device) []ground.Reserved {
	out := said.Reserved()
	for _, p := range h.Laptop {
		out = append(out, ground.Reserved{Range: ground.One(p.Addr()), Why: "this laptop", Passing: true})
	}
	for _, o := range h.Offers {
		out = append(out, ground.Reserved{Range: ground.One(o.Offered), Why: "what DHCP offers next", Passing: true})
		if o.Server.IsValid() {
			out = append(out, ground.Reserved{Range: ground.One(o.Server), Why: "the DHCP server"})
		}
	}
	for i := range devices {
		d := &devices[i]
		if a, ok := leased(d); ok {
			out = append(out, ground.Reserved{Range: ground.One(a), Why: "leased by DHCP to " + d.Label()})
		}
		if d.InJob == device.Taken {
			continue
		}
		grasps := graspingText(d)
		for _, a := range d.Addresses {
			if a.Is4() {
				out = append(out, ground.Reserved{Range: ground.One(a), Why: cmp.Or(grasps, "in use by "+describeHolder(d)), Doubtful: grasps != ""})
			}
		}
	}
	return out
}

// claimOf gives what a device says of the site network by how somebody has set it up. One that
// has, or may have, a password of this job repeats a factory or our own decision.
func claimOf(d *device.Device, keyed map[int64]bool) (ground.Claim, bool) {
	s := d.Settings
	if s == nil || keyed[d.ID] || d.InJob == device.Left || d.Commissioned() || d.Alarm != "" || !setUp(d) {
		return ground.Claim{}, false
	}
	c := ground.Claim{Rank: ground.FromDevice, Source: fmt.Sprintf("%s %s", d.Kind, d.Label()), Gateway: s.Gateway}
	if d.Kind == device.Recorder {
		c.Rank, c.DNS, c.NTP = ground.FromRecorder, s.DNS, s.NTP
	}
	if s.Prefix > 0 {
		c.Subnet = netip.PrefixFrom(s.Address, s.Prefix).Masked()
	}
	return c, c.Subnet.IsValid()
}

// setUp reports whether someone has given the device its settings on purpose: they are
// as they were before this job touched it.
func setUp(d *device.Device) bool {
	s := d.Settings
	asFound := d.AsFound == nil || d.AsFound.Address == s.Address && d.AsFound.Prefix == s.Prefix
	return !s.DHCP && d.Access == device.Keyed && asFound && s.Address.Is4() && !s.Address.IsLinkLocalUnicast()
}

// Settled reports whether any device was set up by the site network as it is: then it
// changes only on request.
func Settled(devices []device.Device) bool {
	return slices.ContainsFunc(devices, func(d device.Device) bool { return d.InJob == device.Taken && d.Commissioned() })
}

// Judge sets the condition of every device by the site network, if it is known,
// and whether it is another's.
func Judge(sheet *sheet.Sheet, devices []device.Device, site netip.Prefix) {
	for i := range devices {
		devices[i].Apply(device.Judged{Site: site, NotOurs: sheet.IsNotOurs(devices[i].Address())})
	}
}

// graspingText says of a host that claims more addresses than one can have that it does; the
// empty text is for all others. Its word alone keeps no address from being used.
func graspingText(d *device.Device) string {
	n := 0
	for _, a := range d.Addresses {
		if a.Is4() {
			n++
		}
	}
	if n <= lan.MaxOwn || d.Kind != device.Other {
		return ""
	}
	return fmt.Sprintf("claimed by %s, as %d others are", describeHolder(d), n-1)
}

// leased gives the address that the site's DHCP server has given a device, which
// is the server's to give again. What this job allotted is ours: `janustat
// lease` gives it too.
func leased(d *device.Device) (netip.Addr, bool) {
	var a netip.Addr
	switch {
	case d.Settings != nil && d.Settings.DHCP:
		a = d.Settings.Address
	case d.Asks != nil:
		a = d.Asks.Wants
	}
	ours := d.Allotted != nil && d.Allotted.Address == a
	return a, a.Is4() && !ours && !a.IsUnspecified()
}

func describeHolder(d *device.Device) string {
	if d.Make != "" {
		return text.Words(d.Make, d.Model, d.Label())
	}
	return d.Label()
}

// Asking is what addresses are asked for by, beside what is known of the devices.
type Asking struct {
	Again    func(*device.Device) bool       // forgets what it was allotted
	Renumber func(*device.Device) bool       // forgets what address it has as well
	Begun    func(*device.Device) bool       // was sent its address, or may have been
	Keyed    map[int64]bool                  // those that have, or may have, a password of this job
	Named    func(*device.Device) netip.Addr // what the job sheet names for it
}

// Requests asks for an address for every taken device, recorders first, then by kind and
// tag.
func Requests(devices []device.Device, by Asking) []ground.Request {
	var taken []*device.Device
	for i := range devices {
		if devices[i].InJob == device.Taken {
			taken = append(taken, &devices[i])
		}
	}
	slices.SortFunc(taken, func(a, b *device.Device) int {
		if a.Kind != b.Kind {
			return a.Kind.Order() - b.Kind.Order()
		}
		return cmp.Or(text.Natural(a.Tag, b.Tag), slices.Compare(a.MAC[:], b.MAC[:]))
	})
	out := make([]ground.Request, len(taken))
	for i, d := range taken {
		r := ground.Request{Key: d.Tag, Block: string(d.Kind), Current: d.Address(), Alone: len(d.Clashing) == 0}
		number := by.Renumber(d)
		anew := number || by.Again(d)
		if d.Allotted != nil && !anew {
			r.Earlier = d.Allotted.Address
		}
		r.Begun = r.Earlier.IsValid() && (by.Begun(d) || d.Asked)
		if r.Fixed = d.Commissioned() && !anew; !r.Fixed {
			r.Named = by.Named(d)
		}
		c, claims := claimOf(d, by.Keyed)
		r.Keep = claims && c.Rank == ground.FromRecorder && !number
		// A leased address is the DHCP server's to give again.
		leased := d.Settings != nil && d.Settings.DHCP
		r.Static = !leased && d.Settings != nil && d.Settings.Address == r.Current
		if leased || number {
			r.Alone = false
		}
		out[i] = r
	}
	return out
}
