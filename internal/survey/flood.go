package survey

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
)

// What one MAC, one address or one subnet may cost. Honest hosts stay far below;
// routers that answer for others come near, and lose nothing by it.
const (
	maxSubnetsOf   = 8    // subnets visited for what one MAC claims
	maxVisited     = 96   // subnets visited beyond those that are known
	maxSightingsOf = 64   // kept of one MAC, beside what its own service told
	maxDatagramsOf = 600  // of one MAC that are looked into
	maxMatchesOf   = 8    // addresses of one MAC that answered discovery
	maxReadings    = 400  // devices being read at the same time, the slow ones
	maxOffers      = 32   // of DHCP servers
	tellsAll       = 5000 // datagrams of a DNS server that are looked into
)

// maxHolders is how many MACs are remembered of one address.
const maxHolders = floodHolders

// maxTold bounds the sightings that tell hosts apart.
const maxTold = 4096

// tellApart sees to it that whoever claims an address that another host has is among the
// sightings, however much else it claims. The lock is held.
func (r *surveyRun) tellApart() {
	told := 0
	for _, at := range slices.SortedFunc(maps.Keys(r.byAddress), netip.Addr.Compare) {
		macs := r.byAddress[at]
		kept := func(mac device.MAC) bool { return r.heard[hearing{mac, at}] }
		if len(macs) < 2 || !slices.ContainsFunc(macs, kept) {
			continue
		}
		for _, mac := range macs {
			if told < maxTold && !kept(mac) {
				told++
				r.found.Sightings = append(r.found.Sightings, device.Sighting{At: time.Now(), By: "arp", MAC: mac, Address: at})
			}
		}
	}
}

// What is told as a flood.
const (
	floodAddresses = 256
	floodSubnets   = 16
	floodHolders   = 64
	maxFloods      = 8
)

// Flood is a host that says more than any honest one, or an address that more claim
// than any LAN has hosts.
type Flood struct {
	MAC     device.MAC `json:"mac,omitzero"`
	Address netip.Addr `json:"address,omitzero"`
	What    string     `json:"what"`
}

// account is what one MAC has cost so far.
type account struct {
	addresses, subnets, sightings, datagrams, matches, claims int
}

// of gives the account of a MAC. The lock is held.
func (r *surveyRun) of(mac device.MAC) *account {
	a := r.accounts[mac]
	if a == nil {
		if len(r.accounts) >= maxHeard {
			return &r.overflow
		}
		a = &account{}
		r.accounts[mac] = a
	}
	return a
}

// looksInto reports whether a datagram of a MAC is looked into. The lock is held.
func (r *surveyRun) looksInto(mac device.MAC, most int) bool {
	a := r.of(mac)
	a.datagrams++
	return a.datagrams <= most
}

// hears notes a MAC at an address, and reports whether that is new and kept. The lock is held.
func (r *surveyRun) hears(key hearing) bool {
	if r.heard[key] {
		return false
	}
	macs := r.byAddress[key.addr]
	if slices.Contains(macs, key.mac) {
		return false // it has too many to be kept, and says so again
	}
	if len(macs) < maxHolders && (len(macs) > 0 || len(r.byAddress) < maxHeard) {
		r.byAddress[key.addr] = append(macs, key.mac)
	}
	r.holders[key.addr]++
	a := r.of(key.mac)
	if a.addresses++; a.addresses > device.MaxAddresses || len(r.heard) >= maxHeard {
		return false
	}
	r.heard[key] = true
	subnet := r.Subnets.Of(key.addr)
	r.bySubnet[subnet] = append(r.bySubnet[subnet], key)
	return true
}

// mayVisit reports whether a subnet is visited for what a MAC claims. Those that are
// known are, whoever claims them. The lock is held.
func (r *surveyRun) mayVisit(subnet netip.Prefix, mac device.MAC) bool {
	if r.subnets[subnet] || r.Subnets.Known(subnet) {
		return true
	}
	a := r.of(mac)
	if a.subnets++; a.subnets > maxSubnetsOf || r.strange >= maxVisited {
		return false
	}
	r.strange++
	return true
}

// floods tells who said too much, the loudest first.
func (r *surveyRun) floods() (out []Flood) {
	type loud struct {
		n int
		f Flood
	}
	var all []loud
	for mac, a := range r.accounts {
		switch {
		case a.subnets > floodSubnets:
			all = append(all, loud{a.subnets, Flood{MAC: mac, What: fmt.Sprintf("claims addresses in %d subnets", a.subnets)}})
		case a.addresses > floodAddresses:
			all = append(all, loud{a.addresses, Flood{MAC: mac, What: fmt.Sprintf("claims %d addresses", a.addresses)}})
		case a.datagrams > maxDatagramsOf:
			all = append(all, loud{a.datagrams, Flood{MAC: mac, What: fmt.Sprintf("sent %d announcements and answers", a.datagrams)}})
		}
	}
	// Those that told what they are, are no names of a stranger: new devices share the
	// address that their maker gave them.
	devices := map[netip.Addr]int{}
	for h := range r.heard {
		if r.read[h.mac] {
			devices[h.addr]++
		}
	}
	for at, n := range r.holders {
		if n -= devices[at]; n > floodHolders {
			all = append(all, loud{n, Flood{Address: at, What: fmt.Sprintf("is claimed by %d hosts that say nothing of themselves", n)}})
		}
	}
	if told := r.phantoms(); told != "" {
		out = append(out, Flood{What: told})
	}
	if r.Net != nil {
		for _, g := range r.Net.Graspers(r.Subnets.Near()) {
			if a := r.accounts[g.MAC]; a == nil || a.addresses <= floodAddresses && a.subnets <= floodSubnets {
				all = append(all, loud{g.Addresses, Flood{MAC: g.MAC, What: fmt.Sprintf("claims %d addresses of the site", g.Addresses)}})
			}
		}
	}
	slices.SortFunc(all, func(x, y loud) int {
		return cmp.Or(y.n-x.n, slices.Compare(x.f.MAC[:], y.f.MAC[:]), x.f.Address.Compare(y.f.Address))
	})
	for _, l := range all[:min(len(all), maxFloods)] {
		out = append(out, l.f)
	}
	return out
}

// Who names the flooder: its MAC, or the address.
func (f Flood) Who() string {
	if f.Address.IsValid() {
		return f.Address.String()
	}
	return f.MAC.String()
}

// quickTurn is how long a device may hold up others while it is read; then it goes on
// beside them.
const quickTurn = 2 * time.Second

// takeTurn waits for a place to read a device, and gives what ends it.
func (r *surveyRun) takeTurn() (end func(), ok bool) {
	select {
	case r.slow <- struct{}{}:
	case <-r.ctx.Done():
		return nil, false
	}
	select {
	case r.ask <- struct{}{}:
	case <-r.ctx.Done():
		<-r.slow
		return nil, false
	}
	given := make(chan struct{})
	timer := time.AfterFunc(quickTurn, func() { <-r.ask; close(given) })
	return func() {
		if timer.Stop() {
			<-r.ask
		} else {
			<-given
		}
		<-r.slow
	}, true
}
