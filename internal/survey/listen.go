package survey

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
)

// Listening tells what is heard on a wire without visiting anybody.
type Listening struct {
	Net     *reach.Net
	Subnets *Subnets
	Rate    int
	Meet    []lan.Silent // what should answer
}

// listenRounds is how often each question is sent; the DHCP servers' four
// seconds set the pace.
const listenRounds = 3

// Run listens for as long as looking for DHCP servers takes, sweeping once, and
// fills in what was heard.
func (l Listening) Run(ctx context.Context, f *lan.Report) error {
	var mu sync.Mutex
	hosts, vlans, dup := map[netip.Addr]map[device.MAC]bool{}, map[uint16]int{}, map[lan.Duplicate]bool{}
	own := l.Net.Facts().Addresses
	stop := l.Net.Hear(func(h reach.Heard) {
		mu.Lock()
		defer mu.Unlock()
		if h.VLAN != 0 {
			vlans[h.VLAN]++
		}
		c, ok := h.Claim()
		if !ok || !c.Address.Is4() || len(hosts) >= maxHeard {
			return
		}
		if hosts[c.Address] == nil {
			hosts[c.Address] = map[device.MAC]bool{}
		}
		if len(hosts[c.Address]) > floodHolders {
			return
		}
		hosts[c.Address][c.MAC] = true
		if slices.ContainsFunc(own, func(p netip.Prefix) bool { return p.Addr() == c.Address }) {
			dup[lan.Duplicate{Address: c.Address, Holder: c.MAC}] = true
		}
	})
	defer stop()
	drawn := l.draw(own)
	go l.ask(ctx, own, drawn)
	offers, err := OtherServers(ctx, l.Net)
	if err != nil {
		return err
	}
	stop()
	for _, o := range offers {
		f.Servers = append(f.Servers, lan.Server{Address: o.Server, MAC: o.ServerMAC, Subnet: o.Subnet, Gateway: o.Gateway})
	}
	slices.SortFunc(f.Servers, func(a, b lan.Server) int { return a.Address.Compare(b.Address) })
	_, f.Frames = l.Net.Traffic()
	mu.Lock()
	defer mu.Unlock()
	f.VLANs = vlans
	for d := range dup {
		f.Duplicates = append(f.Duplicates, d)
	}
	f.Graspers = l.graspers(drawn)
	slices.SortFunc(f.Duplicates, func(a, b lan.Duplicate) int {
		return cmp.Or(a.Address.Compare(b.Address), slices.Compare(a.Holder[:], b.Holder[:]))
	})
	counts := map[netip.Prefix]int{}
	for a, macs := range hosts {
		counts[l.Subnets.Of(a)] += len(macs)
	}
	for p, n := range counts {
		f.Subnets = append(f.Subnets, lan.Heard{Subnet: p, Hosts: n})
	}
	slices.SortFunc(f.Subnets, func(a, b lan.Heard) int { return cmp.Or(b.Hosts-a.Hosts, a.Subnet.Addr().Compare(b.Subnet.Addr())) })
	for _, m := range l.Meet {
		if len(hosts[m.Address]) == 0 {
			f.Silent = append(f.Silent, m)
		}
	}
	return nil
}

// draw gives some addresses of the site's and the laptop's subnets, drawn at random.
func (l Listening) draw(own []netip.Prefix) (out []netip.Addr) {
	for _, p := range l.Subnets.Near() {
		out = append(out, reach.Drawn(p)...)
	}
	return slices.DeleteFunc(out, func(a netip.Addr) bool {
		return slices.ContainsFunc(own, func(p netip.Prefix) bool { return p.Addr() == a })
	})
}

// graspers gives who claims more than it can have, and says of it whether it has most of
// what was drawn.
func (l Listening) graspers(drawn []netip.Addr) []lan.Grasp {
	out := l.Net.Graspers(l.Subnets.Near())
	for i := range out {
		out[i].Answers = l.Net.HasMost(out[i].MAC, drawn)
	}
	return out
}

// ask sweeps, and asks for those who should be there, by ARP probes: they claim nothing.
func (l Listening) ask(ctx context.Context, own []netip.Prefix, drawn []netip.Addr) {
	mac := l.Net.Facts().MAC
	for round := range listenRounds {
		for _, p := range own {
			_ = l.Net.Send(arp.Probe(mac, p.Addr()).Frame()) // a wire that is gone is told by the caller
		}
		for _, m := range l.Meet {
			_ = l.Net.Send(arp.Probe(mac, m.Address).Frame())
		}
		for _, a := range drawn {
			_ = l.Net.Send(arp.Probe(mac, a).Frame())
		}
		if round == 0 {
			_, _ = arp.Sweep(ctx, l.Net.Send, mac, l.Subnets.Sweep(), l.Rate)
		}
		t := time.NewTimer(l.Net.Pace.Of(time.Second))
		select {
		case <-t.C:
		case <-ctx.Done():
			t.Stop()
			return
		}
	}
}

// Expected gives who should answer on a site: its gateway, and the recorders
// with the addresses they were last met at.
func Expected(gateway netip.Addr, devices []device.Device) (out []lan.Silent) {
	if gateway.IsValid() {
		out = append(out, lan.Silent{What: "the gateway", Address: gateway})
	}
	for i := range devices {
		if d := &devices[i]; d.Kind == device.Recorder && d.InJob != device.Left && d.Address().Is4() {
			out = append(out, lan.Silent{What: fmt.Sprintf("recorder %s", d.Label()), Address: d.Address()})
		}
	}
	return out
}
