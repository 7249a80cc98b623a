package field

import (
	"context"
	"fmt"
	"net/netip"
	"slices"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/job"
)

// Claims gathers what the job sheet, the register and the last survey say of
// the site network.
//
// A recorder counts when it is set up: its settings are known and it has a
// password that this job did not give it. One that is fresh, or that this job
// addressed, would only repeat a factory or our own decision.
func Claims(ctx context.Context, j *job.Job, devices []device.Device) ([]ground.Claim, error) {
	var claims []ground.Claim
	if c, ok := j.Sheet.Claim(); ok {
		claims = append(claims, c)
	}
	for i := range devices {
		if c, ok := claimOf(&devices[i]); ok {
			claims = append(claims, c)
		}
	}
	offers, err := j.Register.Offers(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range offers {
		claims = append(claims, ground.Claim{Rank: ground.FromLAN, Source: "DHCP server " + o.Server.String(), Subnet: o.Subnet, Gateway: o.Gateway, DNS: o.DNS, NTP: o.NTP})
	}
	last, err := j.Register.LastSurvey(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range last.Laptop {
		if !p.Addr().IsLinkLocalUnicast() && ground.CheckSubnet(p) == nil {
			claims = append(claims, ground.Claim{Rank: ground.FromLaptop, Source: "the laptop's own address", Subnet: p.Masked()})
		}
	}
	return claims, nil
}

func claimOf(d *device.Device) (ground.Claim, bool) {
	s := d.Settings
	if s == nil || d.InJob == device.Left || d.AsLeft != nil || !setUp(d) {
		return ground.Claim{}, false
	}
	c := ground.Claim{Rank: ground.FromLAN, Source: fmt.Sprintf("%s %s", d.Kind, d.Label()), Gateway: s.Gateway}
	if d.Kind == device.Recorder {
		c.Rank = ground.FromRecorder
	}
	if s.Prefix > 0 {
		c.Subnet = netip.PrefixFrom(s.Address, s.Prefix).Masked()
	}
	return c, c.Subnet.IsValid()
}

// setUp reports whether someone has given the device its settings on purpose.
func setUp(d *device.Device) bool {
	return d.Settings != nil && !d.Settings.DHCP && d.Access == device.Keyed && d.Settings.Address.Is4() && !d.Settings.Address.IsLinkLocalUnicast()
}

// Ground resolves the site network.
func Ground(ctx context.Context, j *job.Job, devices []device.Device) (ground.Ground, error) {
	claims, err := Claims(ctx, j, devices)
	if err != nil {
		return ground.Ground{}, err
	}
	return ground.Resolve(claims, j.Sheet.Network.Override)
}

// Judge sets the condition of every device by the site network, if it is known,
// and whether it is another's.
func Judge(sheet *job.Sheet, devices []device.Device, site netip.Prefix) {
	for i := range devices {
		devices[i].Condition = device.ConditionOf(&devices[i], site)
		devices[i].NotOurs = sheet.IsNotOurs(devices[i].Address())
	}
}

// Reserved gives what must not be allotted: what the job sheet keeps clear,
// and every address that anything outside the job was ever seen at.
func Reserved(ctx context.Context, j *job.Job, devices []device.Device) ([]ground.Reserved, error) {
	out := j.Sheet.Reserved()
	last, err := j.Register.LastSurvey(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range last.Laptop {
		out = append(out, ground.Reserved{Range: ground.One(p.Addr()), Why: "this laptop"})
	}
	offers, err := j.Register.Offers(ctx)
	if err != nil {
		return nil, err
	}
	for _, o := range offers {
		out = append(out, ground.Reserved{Range: ground.One(o.Offered), Why: "what DHCP offers next"})
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
		for _, a := range d.Addresses {
			if a.Is4() {
				out = append(out, ground.Reserved{Range: ground.One(a), Why: "in use by " + describeHolder(d)})
			}
		}
	}
	return out, nil
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
		return fmt.Sprintf("%s %s %s", d.Make, d.Model, d.Label())
	}
	return d.Label()
}

// Requests asks for an address for every taken device, recorders first, then by kind and tag.
func Requests(devices []device.Device) []ground.Request {
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
		return compareTags(a, b)
	})
	out := make([]ground.Request, len(taken))
	for i, d := range taken {
		r := ground.Request{Key: d.Tag, Block: string(d.Kind), Current: d.Address(), Alone: len(d.Clashing) == 0}
		if d.Allotted != nil {
			r.Earlier = d.Allotted.Address
		}
		c, claims := claimOf(d)
		r.Keep = claims && c.Rank == ground.FromRecorder
		// A leased address is the DHCP server's to give again.
		if d.Settings != nil && d.Settings.DHCP {
			r.Alone = false
		}
		out[i] = r
	}
	return out
}

// compareTags orders C2 before C10 and falls back to the MAC.
func compareTags(a, b *device.Device) int {
	if len(a.Tag) != len(b.Tag) {
		return len(a.Tag) - len(b.Tag)
	}
	if a.Tag != b.Tag {
		if a.Tag < b.Tag {
			return -1
		}
		return 1
	}
	return slices.Compare(a.MAC[:], b.MAC[:])
}
