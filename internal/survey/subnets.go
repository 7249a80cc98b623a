package survey

import (
	"iter"
	"net/netip"
	"slices"

	"janustat/core/ground"
	"janustat/internal/reach"
)

// factorySubnets are private subnets that devices are commonly delivered on,
// by no maker in particular: the first of each private range and its neighbours. They
// are swept for devices that neither speak by themselves nor report their groups.
var factorySubnets = []netip.Prefix{
	netip.MustParsePrefix("192.168.0.0/24"),
	netip.MustParsePrefix("192.168.1.0/24"),
	netip.MustParsePrefix("192.168.2.0/24"),
	netip.MustParsePrefix("192.168.10.0/24"),
	netip.MustParsePrefix("10.0.0.0/24"),
	netip.MustParsePrefix("10.0.1.0/24"),
	netip.MustParsePrefix("172.16.0.0/24"),
	netip.MustParsePrefix("172.16.1.0/24"),
}

// firstGroup is the first octet of multicast groups, after which no host's address comes.
const firstGroup = 224

// assumedBits is the mask taken for an address in no known subnet: nearly all
// factory masks are /24, and a visitor in the same /24 is on link for any wider one.
const assumedBits = 24

// widestSweep is the widest subnet that is swept whole, in bits: 4,096
// addresses take two seconds. Wider ones are left to discovery by multicast.
const widestSweep = 20

// Subnets knows which subnet an address is met in.
type Subnets struct {
	site    netip.Prefix   // invalid if not known
	known   []netip.Prefix // narrowest first
	swept   []netip.Prefix
	near    int            // how many of them, from the first, are the site's or the laptop's
	wide    []netip.Prefix // known, but too wide to sweep
	notOurs []netip.Prefix
}

// NewSubnets puts together the laptop's subnets, the site's (invalid if not
// known), the job sheet's further ones and the common factory subnets. Those in
// notOurs are another's: nothing is sent there. A laptop's public subnet is left
// alone too, unless it is the site's or the sheet names it.
func NewSubnets(laptop []netip.Prefix, site netip.Prefix, more, notOurs []netip.Prefix) *Subnets {
	s := &Subnets{site: site, notOurs: notOurs}
	add := func(p netip.Prefix) {
		p = p.Masked()
		if ground.CheckSubnet(p) != nil || slices.Contains(s.known, p) {
			return
		}
		s.known = append(s.known, p)
		if p.Bits() < widestSweep {
			s.wide = append(s.wide, p)
			return
		}
		s.swept = append(s.swept, p)
	}
	if site.IsValid() {
		add(site)
	}
	for _, p := range laptop {
		if p.Addr().IsPrivate() {
			add(p)
		}
	}
	s.near = len(s.swept)
	for _, p := range slices.Concat(more, factorySubnets) {
		add(p)
	}
	slices.SortStableFunc(s.known, func(a, b netip.Prefix) int { return b.Bits() - a.Bits() })
	return s
}

// Of gives the subnet that an address is met in: a known one, else the /24 around it.
func (s *Subnets) Of(a netip.Addr) netip.Prefix {
	switch {
	case a.Is6():
		return reach.LinkLocal6
	case a.IsLinkLocalUnicast():
		return reach.LinkLocal4
	}
	if s.site.IsValid() && s.site.Contains(a) {
		return s.site
	}
	// A laptop's own mask beats a factory /24 inside it: the widest wins.
	for i := len(s.known) - 1; i >= 0; i-- {
		if s.known[i].Contains(a) {
			return s.known[i]
		}
	}
	p, err := a.Prefix(assumedBits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// Known reports whether a subnet is one that is visited whoever claims it: the site's,
// the laptop's, those of the job sheet, the common factory ones and the link's own.
func (s *Subnets) Known(p netip.Prefix) bool {
	return slices.Contains(s.known, p) || p == reach.LinkLocal6 || p == reach.LinkLocal4
}

// Wide gives the known subnets that are too wide to sweep.
func (s *Subnets) Wide() []netip.Prefix { return s.wide }

// Sweep yields every host address to sweep once, subnet by subnet.
func (s *Subnets) Sweep() iter.Seq[netip.Addr] { return s.sweep(s.swept) }

// SweepSite yields those of the site's subnet and of the laptop's, as far as they are known.
func (s *Subnets) SweepSite() iter.Seq[netip.Addr] { return s.sweep(s.swept[:s.near]) }

// Near gives the site's subnet and the laptop's, as far as they are known and swept.
func (s *Subnets) Near() []netip.Prefix { return s.swept[:s.near] }

func (s *Subnets) sweep(list []netip.Prefix) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for i, p := range list {
			for a := range hostsOf(p) {
				if contains(s.swept[:i], a) || contains(s.notOurs, a) {
					continue
				}
				if !yield(a) {
					return
				}
			}
		}
	}
}

// hostsOf yields the host addresses of a subnet.
func hostsOf(p netip.Prefix) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		last := ground.ToUint(ground.Broadcast(p))
		for u := ground.ToUint(ground.Network(p)) + 1; u < last; u++ {
			if !yield(ground.FromUint(u)) {
				return
			}
		}
	}
}

func contains(list []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(list, func(p netip.Prefix) bool { return p.Contains(a) })
}

// SweepWide yields the host addresses of ranges named by the person that Sweep
// does not cover, once each.
func (s *Subnets) SweepWide(ranges []netip.Prefix) iter.Seq[netip.Addr] {
	return func(yield func(netip.Addr) bool) {
		for i, p := range ranges {
			for a := range hostsOf(p) {
				if contains(ranges[:i], a) || contains(s.swept, a) || contains(s.notOurs, a) {
					continue
				}
				if !yield(a) {
					return
				}
			}
		}
	}
}

// Bans reports whether there are any subnets of another's.
func (s *Subnets) Bans() bool { return len(s.notOurs) > 0 }

// NotOurs reports whether an address is in a subnet of another's.
func (s *Subnets) NotOurs(a netip.Addr) bool { return a.IsValid() && contains(s.notOurs, a) }

// Askable reports whether an address may be visited at all: what a device on the link
// has, be it private, shared (RFC 6598), public or link-local. Where it is
// reached is the link, whatever routers would do; never another's, and none that no
// host can have (RFC 6890).
func (s *Subnets) Askable(a netip.Addr) bool {
	switch {
	case !a.IsValid() || a.IsUnspecified() || contains(s.notOurs, a):
		return false
	case a.Is6():
		return a.IsLinkLocalUnicast()
	}
	first := a.As4()[0]
	return first != 0 && first < firstGroup && !a.IsLoopback()
}
