package survey

import (
	"iter"
	"maps"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/mdns"
	"janustat/internal/speak/membership"
	"janustat/internal/speak/ssdp"
	"janustat/internal/speak/wsd"
	"janustat/internal/tongue"
	"janustat/internal/tongues"
)

// groups are where discovery is sent, by the family of the visitor.
type groups struct{ wsd, ssdp, mdns netip.Addr }

// groupFor is the group of WS-Discovery in the family of an address.
func groupFor(a netip.Addr) netip.Addr {
	if a.Is6() {
		return wsd.Group6
	}
	return wsd.Group
}

func groupsFor(v *reach.Visitor) groups {
	if v.Address().Is6() {
		return groups{wsd.Group6, ssdp.Group6, mdns.Group6}
	}
	return groups{wsd.Group, ssdp.Group4, mdns.Group4}
}

// manyHosts is how many silent hosts of a wire are asked one by one from the start: all of
// them would answer a question by multicast within half a second (WS-Discovery 2005/04,
// 2.4), several times over, which is more than small switches and sockets take.
const manyHosts = 100

// asksAll is how many rounds of discovery go by multicast, to hosts not heard as well.
const asksAll = 2

// asksAllLossy is how many there are on a wire that loses many frames: who answers one sort of question
// alone would be left out of one survey in a hundred by two.
const asksAllLossy = 4

// probe sends discovery from a visitor: by multicast to all, then by unicast to
// those heard that stayed silent.
func (r *surveyRun) probe(subnet netip.Prefix, v *reach.Visitor) {
	begun, to := time.Now(), groupsFor(v)
	for i, at := range r.moments(subnet) {
		if !r.wait(at - r.pace.Since(begun)) {
			return
		}
		many := r.manySilent()
		if (i < asksAll || i < asksAllLossy && r.Net.Loss() >= lossy) && !many {
			if !r.askAll(v, to) {
				return
			}
		}
		r.probeOthers(v, to, i)
		if v.Address().Is6() && !r.hasQuerier("mld") {
			if err := r.Net.AskMembers6(v); err != nil {
				r.Log.Warn("group members not asked", "err", err)
			}
		}
		if i < asksAll && !many {
			continue
		}
		if i == asksAll {
			r.askNames(subnet, v, to)
			r.meet(v, r.hostsIn(subnet)) // does anyone else answer there?
		}
		if !r.askAlone(v, r.silent(subnet)) {
			return
		}
	}
	if r.askLate(subnet, v) && r.wait(quietAfter) {
		r.askUsual(subnet, v)
	}
}

// askAll asks everyone on the wire, one visitor at a time: each of their questions is heard, and
// looked at, in every subnet.
func (r *surveyRun) askAll(v *reach.Visitor, to groups) bool {
	select {
	case r.mouth <- struct{}{}:
	case <-r.ctx.Done():
		return false
	}
	free := sync.OnceFunc(func() { <-r.mouth })
	defer free()
	if r.manySilent() { // they were heard meanwhile
		return true
	}
	if r.pace.Since(r.begun) > crowdKnown && r.hosts() <= manyHosts {
		free() // so few bear several
	}
	for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}, {wsd.WebDevice}, nil} {
		r.send(v, device.MAC{}, netip.AddrPortFrom(to.wsd, wsd.Port), wsd.Probe(wsd.NewID(), types...))
		if !r.wait(probeSpacing) {
			return false
		}
	}
	return true
}

// crowdKnown is when so much is heard that a small site shows to be one.
const crowdKnown = 200 * time.Millisecond

// hosts is how many were heard.
func (r *surveyRun) hosts() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.byMAC)
}

// manySilent reports whether so many hosts of the wire are silent yet that they are asked one by one.
func (r *surveyRun) manySilent() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := 0
	for h := range r.heard {
		if r.matched[h] == nil {
			if n++; n > manyHosts {
				return true
			}
		}
	}
	return false
}

// moments are when discovery is sent. Where many answer, each has less of the LAN and of
// this laptop, so those that stay silent are asked for longer, as long as some answer. That
// is looked at when it matters, since most are heard after the first question.
func (r *surveyRun) moments(subnet netip.Prefix) iter.Seq2[int, time.Duration] {
	return func(yield func(int, time.Duration) bool) {
		for i, at := range probeAt {
			if !yield(i, at) {
				return
			}
		}
		at, before := probeAt[len(probeAt)-1], 0
		for i := range maxLate {
			silent := len(r.silent(subnet))
			if len(r.hostsIn(subnet)) <= manyHosts || silent == 0 || i >= minLate && silent >= before {
				return
			}
			before = silent
			if at += probeLate; !yield(len(probeAt)+i, at) {
				return
			}
		}
	}
}

// askAlone asks hosts by unicast, one after the other.
func (r *surveyRun) askAlone(v *reach.Visitor, silent []hearing) bool {
	r.meet(v, silent)
	for _, h := range silent {
		r.mu.Lock()
		r.asked[h]++
		last := r.asked[h] == askedEnough
		r.mu.Unlock()
		as := [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}}
		if last { // whatever else it is: a printer has been asked by multicast alone
			as = append(as, nil)
		}
		for _, types := range as {
			r.send(v, h.mac, netip.AddrPortFrom(h.addr, wsd.Port), wsd.Probe(wsd.NewID(), types...))
		}
		if !r.wait(synSpacing) { // small switches drop bursts too
			return false
		}
	}
	return true
}

// A host is no bystander before it was asked so often by itself, so far apart: on a LAN that
// loses frames or is slow, and on a busy laptop, one is heard when the rounds are over, or its
// answers are lost.
const (
	askedEnough = 3
	lateEvery   = 600 * time.Millisecond
)

// askLate asks those in a subnet that are silent and were not asked often enough, until they
// were; among those that are asked by themselves at all.
func (r *surveyRun) askLate(subnet netip.Prefix, v *reach.Visitor) bool {
	for {
		due := r.due(subnet)
		if len(due) == 0 {
			return true
		}
		if !r.wait(lateEvery) || !r.askAlone(v, due) {
			return false
		}
	}
}

// due gives the silent hosts in a subnet that were asked too seldom. Where there are none,
// the rounds of the subnet are over.
func (r *surveyRun) due(subnet netip.Prefix) []hearing {
	out := r.silent(subnet)
	r.mu.Lock()
	defer r.mu.Unlock()
	out = slices.DeleteFunc(out, func(h hearing) bool { return r.asked[h] >= askedEnough })
	r.rounds[subnet] = len(out) > 0
	return out
}

// again takes up the rounds in the subnet of an address that was first heard when they were over.
func (r *surveyRun) again(at netip.Addr) {
	subnet := r.Subnets.Of(at)
	r.mu.Lock()
	v, under := r.visitors[subnet], r.rounds[subnet]
	if v != nil && !under && !r.only {
		r.rounds[subnet] = true
	}
	r.mu.Unlock()
	if v == nil || under || r.only {
		return
	}
	r.spawn(func() {
		r.spawn(func() { r.askPorts(subnet, v, lateSyn) })
		if r.askLate(subnet, v) && r.wait(quietAfter) {
			r.askUsual(subnet, v)
		}
	})
}

// meet asks for hosts by address, in the visitor's own name. A host that lost the
// answers to its own three questions drops what it meant to answer us; from a
// question to itself it learns where the visitor is (RFC 826; RFC 4861, 7.2.3).
func (r *surveyRun) meet(v *reach.Visitor, hosts []hearing) {
	for _, h := range hosts {
		if err := r.Net.AskOnce(reach.Place{From: v, Address: h.addr, MAC: h.mac}); err != nil {
			r.Log.Warn("not asked", "address", h.addr, "err", err)
		}
		if !r.wait(synSpacing) {
			return
		}
	}
}

// searchWait is how many seconds answers to an SSDP search may be spread over.
const searchWait = 1

// probeOthers sends the discovery of protocols that tell what bystanders are.
func (r *surveyRun) probeOthers(v *reach.Visitor, to groups, round int) {
	if round%2 == 0 {
		r.send(v, device.MAC{}, netip.AddrPortFrom(to.ssdp, ssdp.Port), ssdp.Search(to.ssdp, searchWait))
	}
	if err := r.Net.SendEcho(v, uint16(round)); err != nil {
		r.Log.Warn("echo not sent", "err", err)
	}
	r.mu.Lock()
	types := slices.Sorted(maps.Keys(r.services))
	r.mu.Unlock()
	if ask, err := mdns.Browse(types...); err == nil {
		r.sendFrom(v, mdns.Port, device.MAC{}, netip.AddrPortFrom(to.mdns, mdns.Port), ask)
	}
}

// askNames asks for the names of the addresses heard in a subnet: everyone by
// multicast, and the site's DNS servers that are in it.
func (r *surveyRun) askNames(subnet netip.Prefix, v *reach.Visitor, to groups) {
	var list []netip.Addr
	asked := map[netip.Addr]bool{}
	for _, h := range r.hostsIn(subnet) {
		if !asked[h.addr] {
			asked[h.addr] = true
			list = append(list, h.addr)
		}
	}
	for part := range slices.Chunk(list, mdns.MaxReverse) {
		if ask, err := mdns.Reverse(part...); err == nil {
			r.sendFrom(v, mdns.Port, device.MAC{}, netip.AddrPortFrom(to.mdns, mdns.Port), ask)
		}
	}
	for _, server := range r.dnsServers(subnet) {
		for i, a := range list {
			if ask, err := mdns.Ask(uint16(i+1), a); err == nil {
				r.send(v, server.mac, netip.AddrPortFrom(server.addr, mdns.PlainPort), ask)
			}
			if !r.wait(synSpacing) {
				return
			}
		}
	}
}

// maxServers bounds the DNS servers that are asked for names.
const maxServers = 4

// dnsServers gives the DNS servers that DHCP offers name and that were heard.
func (r *surveyRun) dnsServers(subnet netip.Prefix) (out []hearing) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range r.found.Offers {
		for _, at := range o.DNS {
			for _, mac := range r.byAddress[at] {
				if h := (hearing{mac, at}); subnet.Contains(at) && !slices.Contains(out, h) && len(out) < maxServers {
					out = append(out, h)
				}
			}
		}
	}
	return out
}

// maxAlone is how many hosts of a subnet are asked one after the other in a round: it
// takes them a second.
const maxAlone = 512

// silent gives those heard in a subnet that have not answered discovery, in the order heard.
func (r *surveyRun) silent(subnet netip.Prefix) (out []hearing) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, h := range r.bySubnet[subnet] {
		if r.matched[h] == nil && r.Subnets.Askable(h.addr) {
			if out = append(out, h); len(out) == maxAlone {
				break
			}
		}
	}
	return out
}

func (r *surveyRun) send(v *reach.Visitor, mac device.MAC, to netip.AddrPort, payload []byte) {
	r.sendFrom(v, wsd.ClientPort, mac, to, payload)
}

func (r *surveyRun) sendFrom(v *reach.Visitor, port uint16, mac device.MAC, to netip.AddrPort, payload []byte) {
	if err := r.Net.SendUDP(v, port, mac, to, payload); err != nil {
		r.Log.Warn("discovery not sent", "to", to, "err", err)
	}
}

// membersAt are the moments at which all members of groups are asked to report.
var membersAt = []time.Duration{0, 500 * time.Millisecond, 1100 * time.Millisecond}

// seekTongues asks for devices in tongues beside the standard one, each time that group
// members are asked.
func (r *surveyRun) seekTongues() {
	begun := time.Now()
	for _, at := range membersAt {
		if !r.wait(at - r.pace.Since(begun)) {
			return
		}
		for _, t := range tongues.All {
			seek := func() error { return t.Seek(r.Net) }
			if m, ok := t.(tongue.Meeter); ok {
				seek = func() error { return r.seekMarked(m) }
			}
			if err := seek(); err != nil {
				r.Log.Warn("not asked", "tongue", t.Name(), "err", err)
				return
			}
		}
	}
	r.pause(askedWait)
}

// askedWait is how long an answer may take in a tongue that has no time of its own for that.
const askedWait = 500 * time.Millisecond

// askMembers has every host that joined an IPv4 group report itself.
func (r *surveyRun) askMembers() {
	begun := time.Now()
	for _, at := range membersAt {
		if !r.wait(at-r.pace.Since(begun)) || r.hasQuerier("igmp") {
			return
		}
		if err := r.Net.AskMembers(); err != nil {
			r.Log.Warn("group members not asked", "err", err)
			return
		}
	}
	r.pause(membership.MaxResponse) // which is said in the question
}

// hasQuerier reports whether somebody else asks for group members by a protocol.
func (r *surveyRun) hasQuerier(protocol string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.querier[protocol]
}
