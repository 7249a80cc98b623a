package lan

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"janustat/core/advice"
)

// Judge gives the faults, heaviest first and the likelier before the less
// likely. The same facts always give the same answer.
func Judge(f Report) []Fault {
	var out []Fault
	for _, look := range []func(Report) []Fault{
		withoutFrames,
		noLink, noRights, wrongAdapter, silence, selfAssigned, firewall, forwarding,
		noDHCP, twoDHCP, duplicate, grasping, otherSubnets, tagged, silent,
	} {
		out = append(out, look(f)...)
	}
	order := map[Weight]int{Stops: 0, Hampers: 1, Note: 2}
	slices.SortStableFunc(out, func(a, b Fault) int { return order[a.Weight] - order[b.Weight] })
	return out
}

func (f Report) chosen() (Adapter, bool) {
	at := slices.IndexFunc(f.Adapters, func(a Adapter) bool { return a.Name == f.Chosen })
	if at < 0 {
		return Adapter{}, false
	}
	return f.Adapters[at], true
}

// wired gives the adapters that a site's cable can be in.
func (f Report) wired(fits func(Adapter) bool) (names []string) {
	for _, a := range f.Adapters {
		if !a.Wireless && !a.Virtual && fits(a) {
			names = append(names, a.Name)
		}
	}
	return names
}

func noLink(f Report) []Fault {
	if a, ok := f.chosen(); ok {
		if a.Up && a.Link {
			return nil
		}
		return []Fault{{
			"no-link", Stops, a.Name + " has no link: no cable, or nothing alive at its other end",
			advice.Say("push the cable in at both ends, look for the port light, try another port of the switch; then run %s again", advice.Wire),
		}}
	}
	if f.Simulated || slices.ContainsFunc(f.Adapters, func(a Adapter) bool { return a.Up && a.Link }) {
		return nil
	}
	return []Fault{{"no-link", Stops, "no adapter of this laptop has a link", advice.Say("plug the cable in and look for the port light; a USB adapter may need another socket")}}
}

func noRights(f Report) []Fault {
	switch {
	case f.NoRights != "":
		return []Fault{{"no-rights", Stops, "this program may not use raw Ethernet frames here", advice.Say("%s; or go without, by %s, for what the laptop's own address reaches", f.NoRights, advice.UseWire.On("plain"))}}
	case f.Chosen == "" && f.Why != "":
		return []Fault{{"no-adapter", Stops, f.Why, advice.Say("name the one with the site's cable: %s", advice.WireByName)}}
	}
	return nil
}

func wrongAdapter(f Report) []Fault {
	a, ok := f.chosen()
	if !ok {
		return nil
	}
	others := f.wired(func(o Adapter) bool { return o.Name != a.Name && o.Link })
	choose := make([]any, len(others))
	for i, name := range others {
		choose[i] = advice.UseWire.On(name)
	}
	chooseOne := advice.Say("use %s"+strings.Repeat(" or %s", max(len(others)-1, 0)), choose...)
	switch {
	case (a.Wireless || a.Virtual) && len(others) > 0:
		kind := "wireless"
		if a.Virtual {
			kind = "not a piece of hardware"
		}
		return []Fault{{"wrong-adapter", Hampers, fmt.Sprintf("%s is %s, and another adapter has a cable in it", a.Name, kind), chooseOne}}
	case a.Wireless:
		return []Fault{{"wireless", Hampers, a.Name + " is wireless: access points drop frames for the temporary addresses used here", advice.Say("use a cable")}}
	case !a.Link && len(others) > 0:
		return []Fault{{"wrong-adapter", Stops, fmt.Sprintf("%s has no link, but %s has", a.Name, strings.Join(others, ", ")), chooseOne}}
	}
	return nil
}

func silence(f Report) []Fault {
	if a, ok := f.chosen(); !ok && !f.Simulated || ok && !a.Link || f.Chosen == "" || f.Frames > 0 {
		return nil
	}
	return []Fault{{
		"silence", Stops, "no network traffic was received: the switch port may be off, blocked or in a separate VLAN",
		advice.Say("try another port of the switch, or ask who runs it for an open access port"),
	}}
}

// linkLocal is where a system goes that finds no DHCP server (RFC 3927).
var linkLocal = netip.MustParsePrefix("169.254.0.0/16")

func selfAssigned(f Report) []Fault {
	a, _ := f.chosen()
	if !slices.ContainsFunc(a.Addresses, func(p netip.Prefix) bool { return linkLocal.Contains(p.Addr()) }) {
		return nil
	}
	return []Fault{{
		"self-assigned", Note, "the laptop gave itself a 169.254 address, having found no DHCP server",
		advice.Say("leave it: Janustat takes temporary addresses of its own in every subnet and never uses the laptop's"),
	}}
}

func firewall(f Report) []Fault {
	var hard, soft []string
	for _, r := range f.Firewall {
		if r.Reaches {
			hard = append(hard, r.Where+": "+r.Text)
		} else {
			soft = append(soft, r.Where+": "+r.Text)
		}
	}
	var out []Fault
	if len(hard) > 0 {
		out = append(out, Fault{
			"firewall", Hampers, "a firewall rule drops frames before they leave: " + strings.Join(hard, "; "),
			advice.Say("take that rule out while you work (`nft -a list ruleset` shows its handle)"),
		})
	}
	if len(soft) > 0 {
		out = append(out, Fault{
			"firewall-input", Note, "the firewall drops what it does not know: " + strings.Join(soft, "; "),
			advice.Say("leave it: raw frames are read before it. Only programs that use the laptop's own addresses are stopped by it"),
		})
	}
	return out
}

func forwarding(f Report) []Fault {
	if !f.Forwards {
		return nil
	}
	return []Fault{{
		"forwarding", Hampers, "this laptop forwards IPv4 (containers or a shared connection switch that on), so its system may answer for our temporary addresses",
		advice.Say("while you work: sudo sysctl net.ipv4.ip_forward=0"),
	}}
}

func noDHCP(f Report) []Fault {
	if f.Chosen == "" || len(f.Servers) > 0 || f.Frames == 0 {
		return nil
	}
	return []Fault{{"no-dhcp", Note, "no DHCP server answers", advice.Say("nothing to do for devices with an address; those without one get theirs by %s", advice.Lease)}}
}

func twoDHCP(f Report) []Fault {
	if len(f.Servers) < 2 {
		return nil
	}
	names := make([]string, len(f.Servers))
	for i, s := range f.Servers {
		names[i] = fmt.Sprintf("%s (%s) for %s", s.Address, s.MAC, s.Subnet)
	}
	return []Fault{{
		"two-dhcp", Hampers, fmt.Sprintf("%d DHCP servers answer: %s; devices get an address from either by chance", len(f.Servers), strings.Join(names, ", ")),
		advice.Say("ask whoever runs the network which one is right before you disconnect anything; the other is often a router or recorder somebody plugged in"),
	}}
}

func duplicate(f Report) (out []Fault) {
	for _, d := range f.Duplicates {
		out = append(out, Fault{
			"duplicate", Hampers, fmt.Sprintf("the laptop's own address %s is also claimed by %s", d.Address, d.Holder),
			advice.Say("give the laptop another one, or let DHCP: its own connections suffer; Janustat's do not"),
		})
	}
	return out
}

func grasping(f Report) (out []Fault) {
	for _, g := range f.Graspers {
		what := fmt.Sprintf("%s claims %d addresses here, more than a host can have", g.MAC, g.Addresses)
		weight := Hampers
		if g.Answers {
			what, weight = fmt.Sprintf("%s answers for addresses that nobody has, %d so far: every free address looks taken", g.MAC, g.Addresses), Stops
		}
		out = append(out, Fault{"grasping", weight, what, advice.Say("find it by its MAC in the switch's table: switch off proxy ARP if it is a router; if not, ask whoever runs the network before you disconnect it. Then run %s again", advice.Wire)})
	}
	return out
}

func otherSubnets(f Report) []Fault {
	var others []string
	for _, h := range f.Subnets {
		if f.Site.IsValid() && !f.Site.Overlaps(h.Subnet) {
			others = append(others, fmt.Sprintf("%s (%d)", h.Subnet, h.Hosts))
		}
	}
	if len(others) == 0 {
		return nil
	}
	return []Fault{{
		"other-subnets", Note, fmt.Sprintf("hosts are heard outside the site subnet %s (from %s): %s", f.Site, f.SiteFrom, strings.Join(others, ", ")),
		advice.Say("new devices arrive on factory addresses. If another's network shares this cable, name it in the job sheet under network.not_ours"),
	}}
}

func tagged(f Report) []Fault {
	if len(f.VLANs) == 0 {
		return nil
	}
	var ids []string
	for _, id := range slices.Sorted(maps.Keys(f.VLANs)) {
		ids = append(ids, fmt.Sprint(id))
	}
	return []Fault{{
		"tagged", Hampers, "frames arrive with a VLAN tag (" + strings.Join(ids, ", ") + "): this is a trunk port, and what is in those VLANs is not reached from here",
		advice.Say("ask for an access port in the cameras' VLAN, or use the switch port a camera was on"),
	}}
}

func silent(f Report) (out []Fault) {
	for _, s := range f.Silent {
		out = append(out, Fault{
			"silent", Hampers, fmt.Sprintf("%s does not answer at %s", s.What, s.Address),
			advice.Say("is it switched on, and on this cable? If its address is wrong, correct the job sheet"),
		})
	}
	return out
}

// withoutFrames tells what cannot be done without raw frames.
func withoutFrames(f Report) []Fault {
	if len(f.Limits) == 0 {
		return nil
	}
	return []Fault{{"plain", Hampers, "the plain wire uses the kernel's own sockets: " + strings.Join(f.Limits, "; "), advice.Say("enough for devices in the laptop's own subnet; for all others use an adapter by its name, which needs raw frames: %s", advice.WireByName)}}
}
