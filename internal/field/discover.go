package field

import (
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/mdns"
	"janustat/internal/speak/membership"
	"janustat/internal/speak/ssdp"
	"janustat/internal/speak/wsd"
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

// manyHosts is how many hosts of one subnet are asked one by one from the start: all of
// them would answer a question by multicast within half a second (WS-Discovery 2005/04,
// 2.4), several times over, which is more than small switches and sockets take.
const manyHosts = 100

// asksAll is how many rounds of discovery go by multicast, to hosts not heard as well.
const asksAll = 2

// probe sends discovery from a visitor: by multicast to all, then by unicast to
// those heard that stayed silent.
func (r *surveyRun) probe(subnet netip.Prefix, v *reach.Visitor) {
	begun, to := time.Now(), groupsFor(v)
	for i, at := range probeAt {
		if !r.wait(at - time.Since(begun)) {
			return
		}
		many := len(r.silent(subnet)) > manyHosts
		if i < asksAll && !many {
			for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}, {wsd.WebDevice}, nil} {
				r.send(v, device.MAC{}, netip.AddrPortFrom(to.wsd, wsd.Port), wsd.Probe(newUUID(), types...))
				if !r.wait(probeSpacing) {
					return
				}
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
	if r.wait(quietAfter) {
		r.askUsual(subnet, v)
	}
}

// askAlone asks hosts by unicast, one after the other.
func (r *surveyRun) askAlone(v *reach.Visitor, silent []hearing) bool {
	r.meet(v, silent)
	for _, h := range silent {
		for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}} {
			r.send(v, h.mac, netip.AddrPortFrom(h.addr, wsd.Port), wsd.Probe(newUUID(), types...))
		}
		if !r.wait(synSpacing) { // small switches drop bursts too
			return false
		}
	}
	return true
}

// meet asks for hosts by address, in the visitor's own name. A host that lost the
// answers to its own three questions drops what it meant to answer us; from a
// question to itself it learns where the visitor is (RFC 826; RFC 4861, 7.2.3).
func (r *surveyRun) meet(v *reach.Visitor, hosts []hearing) {
	asked := map[netip.Addr]bool{}
	for _, h := range hosts {
		if asked[h.addr] {
			continue
		}
		asked[h.addr] = true
		if err := r.Net.AskOnce(reach.Place{From: v, Address: h.addr}); err != nil {
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
	r.sendFrom(v, clientPort, mac, to, payload)
}

func (r *surveyRun) sendFrom(v *reach.Visitor, port uint16, mac device.MAC, to netip.AddrPort, payload []byte) {
	if err := r.Net.SendUDP(v, port, mac, to, payload); err != nil {
		r.Log.Warn("discovery not sent", "to", to, "err", err)
	}
}

// readMatches reads the devices of a subnet that announced themselves before
// the visitor was there.
func (r *surveyRun) readMatches(subnet netip.Prefix) {
	r.mu.Lock()
	visitor := r.visitors[subnet]
	var waiting []hearing
	for h := range r.matched {
		if r.Subnets.Of(h.addr) == subnet {
			waiting = append(waiting, h)
		}
	}
	r.mu.Unlock()
	for _, h := range waiting {
		r.readOne(h, visitor)
	}
}

// v6Patience is how long a device met by IPv6 may take to be read by IPv4, which
// says the same; then it is read by IPv6.
const v6Patience = 3 * time.Second

// readOne reads a device's own service, resolving where it is first if need be.
func (r *surveyRun) readOne(key hearing, v *reach.Visitor) {
	r.mu.Lock()
	m := r.matched[key]
	if !speaksDevice(m) || r.reading[key] {
		r.mu.Unlock()
		return
	}
	r.reading[key] = true
	r.mu.Unlock()
	r.spawn(func() {
		if key.addr.Is6() && v != nil {
			if !r.wait(v6Patience - time.Since(r.begun)) {
				return
			}
			r.mu.Lock()
			done := r.read[key.mac]
			r.mu.Unlock()
			if done {
				return
			}
		}
		begun := time.Now()
		for try := range askTries {
			m = r.resolve(key, v, m)
			end, ok := r.takeTurn()
			if !ok {
				return
			}
			s, err := r.reader(v, key, m)
			end()
			if errors.Is(err, reach.ErrNoVisitor) { // somebody took our visitor's address
				if again, verr := r.Net.Visit(r.ctx, r.Subnets.Of(key.addr), key.addr, r.Avoid); verr == nil {
					v = again
					r.mu.Lock()
					r.visitors[r.Subnets.Of(key.addr)] = v
					r.mu.Unlock()
				}
			}
			if err == nil {
				r.wasRead(key, s)
				return
			}
			r.Log.Debug("device not read", "mac", key.mac, "at", key.addr, "try", try+1, "err", err)
			if v == nil || !r.wait(400*time.Millisecond) || time.Since(begun) > readLimit {
				return
			}
		}
		// It is there and speaks; only its details are missing.
		r.Log.Warn("device answers discovery but not its service", "mac", key.mac, "at", key.addr)
	})
}

func (r *surveyRun) wasRead(key hearing, s device.Sighting) {
	r.mu.Lock()
	r.add(s)
	r.read[key.mac] = true
	r.mu.Unlock()
	r.Tell(fmt.Sprintf("found %s %s %s at %s", s.Facts.Kind, s.Facts.Make, s.Facts.Model, key.addr))
	// A device met by IPv6 tells its IPv4 address: the subnet may be one that
	// nothing was heard from yet.
	if own := s.Facts.Settings; own != nil && key.addr.Is6() && r.Net != nil && r.Subnets.Askable(own.Address) {
		r.visit(own.Address)
	}
}

// resolve asks where the service is when a match did not say (2005/04, 6).
func (r *surveyRun) resolve(key hearing, v *reach.Visitor, m *wsd.Match) *wsd.Match {
	for try := range resolveTries {
		if len(m.XAddrs) > 0 || v == nil {
			return m
		}
		r.Log.Debug("resolving", "mac", key.mac, "at", key.addr)
		// Asked of all, as the standard has it, and of the device alone where its switch
		// passes no multicast on.
		mac, to := device.MAC{}, groupsFor(v).wsd
		if try%2 == 1 {
			mac, to = key.mac, key.addr
		}
		r.send(v, mac, netip.AddrPortFrom(to, wsd.Port), wsd.Resolve(newUUID(), m.Endpoint))
		for range 8 { // the answer may take APP_MAX_DELAY, and the device a while longer
			if !r.wait(100 * time.Millisecond) {
				return m
			}
			r.mu.Lock()
			m = r.matched[key]
			r.mu.Unlock()
			if len(m.XAddrs) > 0 {
				break
			}
		}
	}
	return m
}

// membersAt are the moments at which all members of groups are asked to report.
var membersAt = []time.Duration{0, 500 * time.Millisecond, 1100 * time.Millisecond}

// askMembers has every host that joined an IPv4 group report itself.
func (r *surveyRun) askMembers() {
	begun := time.Now()
	for _, at := range membersAt {
		if !r.wait(at-time.Since(begun)) || r.hasQuerier("igmp") {
			return
		}
		if err := r.Net.AskMembers(); err != nil {
			r.Log.Warn("group members not asked", "err", err)
			return
		}
	}
	r.wait(membership.MaxResponse)
}

// hasQuerier reports whether somebody else asks for group members by a protocol.
func (r *surveyRun) hasQuerier(protocol string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.querier[protocol]
}

// DHCP servers are asked so often, and so far apart: one may take a while over an
// offer, since it looks whether the address is free (RFC 2131, 2.2).
const (
	dhcpAsks  = 3
	dhcpEvery = 900 * time.Millisecond
	dhcpQuiet = 1500 * time.Millisecond
	dhcpLate  = 6 * time.Second // from the first question, where a server is heard to look
)

func (r *surveyRun) discoverDHCP() {
	for i := range dhcpAsks {
		if err := askDHCP(r.Net, r.dhcpID); err != nil {
			r.Log.Warn("DHCP not asked", "err", err)
			return
		}
		quiet := dhcpEvery
		if i == dhcpAsks-1 {
			quiet = dhcpQuiet
		}
		if !r.wait(quiet) {
			return
		}
	}
	for r.serverLooks() && time.Since(r.begun) < dhcpLate {
		if !r.wait(countEvery) {
			return
		}
	}
}

// serverLooks reports whether somebody was heard to ask for an address that nobody has,
// right after a question to DHCP servers, and no offer has come: some servers look for
// seconds whether what they offer is free.
func (r *surveyRun) serverLooks() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.looked && len(r.found.Offers) == 0
}

// hearLook takes such a question.
func (r *surveyRun) hearLook(p arp.Packet) {
	if p.Op != arp.Request || time.Since(r.begun) > dhcpAsks*dhcpEvery {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	// The net is not asked which addresses are ours: this runs inside its reading.
	for _, v := range r.visitors {
		if v.Address() == p.Target {
			return
		}
	}
	r.looked = r.looked || len(r.byAddress[p.Target]) == 0
}

// newUUID gives a random UUID as a URN (RFC 4122, 4.4).
func newUUID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:])
}
