package ground

import (
	"fmt"
	"net/netip"
	"slices"
)

// Kept is the ground of a job as it was resolved before, with the ranks of its sources.
type Kept struct {
	Ground
	Ranks Ranks `json:"ranks"`
}

// Keep decides between the ground that a job has and what the sources say now, and
// tells in words what differs from what stays. Nothing of the ground is forgotten: what
// is not said any more stays. Once settled, that is, once a device was set up by it, it
// stays as it is. Before that, a better source wins, and one of the same sort where a
// person has changed it: the job sheet, the recorder, the laptop's own address; what
// the LAN says on another day may be another LAN.
func Keep(kept Kept, now Ground, settled bool) (g Ground, differs []string) {
	if !kept.Subnet.IsValid() {
		return now, nil
	}
	was := kept.Ground
	was.Ranks = kept.Ranks
	if !now.Subnet.IsValid() {
		return was, nil
	}
	if now.Subnet != was.Subnet {
		if wins(was.Ranks.Subnet, now.Ranks.Subnet, settled) {
			return now, nil
		}
		return was, []string{fmt.Sprintf("the site's subnet is %s (from %s); %s says %s now", was.Subnet, was.SubnetFrom, now.SubnetFrom, now.Subnet)}
	}
	g = was
	if !settled && now.Ranks.Subnet <= was.Ranks.Subnet {
		g.SubnetFrom, g.Ranks.Subnet = now.SubnetFrom, now.Ranks.Subnet
	}
	note := func(what, is, from, source, said string) {
		differs = append(differs, fmt.Sprintf("%s %s (from %s); %s says %s now", what, is, from, source, said))
	}
	switch {
	case !now.Gateway.IsValid() || now.Gateway == was.Gateway:
	case !settled && (!was.Gateway.IsValid() || wins(was.Ranks.Gateway, now.Ranks.Gateway, settled)):
		g.Gateway, g.GatewayFrom, g.Ranks.Gateway = now.Gateway, now.GatewayFrom, now.Ranks.Gateway
	default:
		note("the gateway is", orNone(was.Gateway), orNobody(was.GatewayFrom), now.GatewayFrom, now.Gateway.String())
	}
	for _, s := range []struct {
		what       string
		have, said []netip.Addr
		rank, by   Rank
		from, now  string
		take       func()
	}{
		{aboutDNS, was.DNS, now.DNS, was.Ranks.DNS, now.Ranks.DNS, was.DNSFrom, now.DNSFrom, func() { g.DNS, g.DNSFrom, g.Ranks.DNS = now.DNS, now.DNSFrom, now.Ranks.DNS }},
		{aboutNTP, was.NTP, now.NTP, was.Ranks.NTP, now.Ranks.NTP, was.NTPFrom, now.NTPFrom, func() { g.NTP, g.NTPFrom, g.Ranks.NTP = now.NTP, now.NTPFrom, now.Ranks.NTP }},
	} {
		switch {
		case len(s.said) == 0 || slices.Equal(s.have, s.said):
		case !settled && (len(s.have) == 0 || wins(s.rank, s.by, settled)):
			s.take()
		case len(s.have) == 0:
			note("the "+s.what+" are", "none", "nobody", s.now, List(s.said))
		default:
			note("the "+s.what+" are", List(s.have), s.from, s.now, List(s.said))
		}
	}
	return g, differs
}

// wins reports whether what a source of rank now says takes the place of what one of
// rank was said before.
func wins(was, now Rank, settled bool) bool {
	if settled || now > was {
		return false
	}
	return now < was || now != FromLAN && now != FromDevice
}

func orNone(a netip.Addr) string {
	if !a.IsValid() {
		return "none"
	}
	return a.String()
}

func orNobody(source string) string {
	if source == "" {
		return "nobody"
	}
	return source
}
