package survey

import (
	"slices"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/lan"
	"janustat/internal/reach"
	"janustat/internal/speak/dhcp"
	"janustat/internal/speak/mdns"
	"janustat/internal/speak/membership"
	"janustat/internal/speak/ssdp"
	"janustat/internal/speak/wsd"
	"janustat/internal/tongue/standard"
	"janustat/internal/tongues"
)

// hear takes every frame; it runs on the reading goroutine.
func (r *surveyRun) hear(h reach.Heard) {
	if h.VLAN != 0 {
		r.mu.Lock()
		r.found.VLANs[h.VLAN]++
		r.mu.Unlock()
		return
	}
	if c, ok := h.Claim(); ok {
		by := "arp"
		if h.ARP == nil {
			by = "nd"
		}
		s := device.Sighting{At: h.At, By: by, MAC: c.MAC, Address: c.Address}
		if h.ARP != nil && c.Announced && r.Net != nil && !r.Known[c.MAC] {
			r.claimed(s)
		} else {
			r.sighted(s)
		}
	}
	if h.ARP != nil {
		r.hearLook(*h.ARP)
	}
	if h.Datagram != nil && r.hearTongues(&h) {
		return
	}
	switch {
	case h.Membership != membership.None:
		r.hearMember(h)
	case h.Datagram != nil:
		r.hearDatagram(h, h.Datagram)
	case h.EchoReply():
		r.sighted(device.Sighting{At: h.At, By: "icmp", MAC: h.From, Address: h.Source})
	default:
		r.hearPort(h)
	}
}

// hearMember takes what a host, or a router, says of multicast groups.
func (r *surveyRun) hearMember(h reach.Heard) {
	by := "igmp"
	if h.Source.Is6() {
		by = "mld"
	}
	if h.Membership == membership.Query {
		// Somebody has this office already, and hosts report to it: we are silent from now on.
		r.mu.Lock()
		r.querier[by] = true
		r.mu.Unlock()
		return
	}
	if !h.Source.IsUnspecified() {
		r.sighted(device.Sighting{At: h.At, By: by, MAC: h.From, Address: h.Source})
		return
	}
	// Without an address there are switches too, which keep groups of their own: only
	// what listens for discovery is told.
	if !slices.Contains(membership.Groups(h.Frame), groupFor(h.Source)) {
		return
	}
	r.mu.Lock()
	fresh := r.hears(hearing{h.From, h.Source})
	if fresh {
		r.add(device.Sighting{At: h.At, By: by, MAC: h.From})
	}
	r.mu.Unlock()
	if r.event != nil {
		r.event(happening{mac: h.From, at: h.At})
	}
}

// hearTongues takes what devices say of themselves in tongues beside the standard one.
func (r *surveyRun) hearTongues(h *reach.Heard) bool {
	for _, t := range tongues.All {
		s, ok := t.Hear(h)
		if !ok {
			continue
		}
		r.mu.Lock()
		looks := r.looksInto(h.From, maxDatagramsOf)
		r.mu.Unlock()
		if looks {
			r.announced(t, s, h)
		}
		return true
	}
	return false
}

func (r *surveyRun) hearDatagram(h reach.Heard, d *reach.Datagram) {
	from, to := d.From.Port(), d.To.Port()
	most := maxDatagramsOf
	if from == mdns.PlainPort {
		most = tellsAll
	}
	r.mu.Lock()
	looks := r.looksInto(d.MAC, most)
	r.mu.Unlock()
	if !looks {
		return
	}
	switch {
	case to == dhcp.ServerPort:
		r.hearClient(h, d)
	case to == dhcp.ClientPort && from == dhcp.ServerPort:
		r.hearOffer(h, d)
	case from == mdns.Port, from == mdns.PlainPort && to == wsd.ClientPort:
		r.hearNames(h, d)
	case to == wsd.Port, to == wsd.ClientPort, to == ssdp.Port:
		if m, err := wsd.Parse(d.Payload); err == nil {
			r.hearDiscovery(h, d, m)
		} else if m, err := ssdp.Parse(d.Payload); err == nil {
			r.hearSSDP(h, d, m)
		}
	}
}

func (r *surveyRun) hearDiscovery(h reach.Heard, d *reach.Datagram, m wsd.Message) {
	if r.event != nil {
		r.event(happening{mac: d.MAC, at: h.At, started: m.Kind == wsd.Hello, left: m.Kind == wsd.Bye, instance: m.Instance})
	}
	if m.Kind == wsd.Bye {
		return
	}
	for i := range m.Matches {
		r.match(h, d, &m.Matches[i])
	}
}

// sighted notes a MAC at an address, and visits the subnet if that is new.
func (r *surveyRun) sighted(s device.Sighting) {
	if !s.Address.IsValid() || s.Address.IsUnspecified() || s.Address.IsMulticast() || s.Address.Is6() && !s.Address.IsLinkLocalUnicast() {
		return
	}
	r.mu.Lock()
	r.ban(s.MAC, s.Address, nil)
	fresh := r.hears(hearing{s.MAC, s.Address})
	if fresh {
		r.add(s)
	}
	r.mu.Unlock()
	if r.event != nil {
		r.event(happening{mac: s.MAC, at: s.At, address: s.Address})
	}
	if fresh && r.Subnets.Askable(s.Address) {
		r.visitFor(s.Address, s.MAC)
		r.again(s.Address)
	}
}

// maxSightings bounds what a survey keeps, however many hosts a stranger pretends to be.
const maxSightings = 1 << 17

// add keeps a sighting. What a device's own service told is always kept: there are no
// more of these than devices that were read. The lock is held.
func (r *surveyRun) add(s device.Sighting) {
	if a := r.of(s.MAC); s.By != device.ByService {
		if a.sightings++; a.sightings > maxSightingsOf || len(r.found.Sightings) >= maxSightings {
			return
		}
	}
	r.byMAC[s.MAC] = append(r.byMAC[s.MAC], len(r.found.Sightings))
	r.found.Sightings = append(r.found.Sightings, s)
}

// told keeps what a protocol said of a MAC that is heard at the address too. A
// datagram that a router brought says nothing of the router.
func (r *surveyRun) told(h reach.Heard, d *reach.Datagram, by string, f device.Facts) {
	s := device.Sighting{At: h.At, By: by, MAC: d.MAC, Address: d.From.Addr(), Facts: f}
	r.mu.Lock()
	met := r.heard[hearing{d.MAC, s.Address}]
	r.mu.Unlock()
	if !onLink(d) && !met || !r.Subnets.Askable(s.Address) {
		return
	}
	r.sighted(device.Sighting{At: s.At, By: by, MAC: s.MAC, Address: s.Address})
	r.mu.Lock()
	r.add(s)
	r.mu.Unlock()
}

// onLink reports whether a datagram was sent on this link for all we can tell:
// to a group, which routers do not forward, or to us from a neighbour.
func onLink(d *reach.Datagram) bool {
	return d.To.Addr().IsMulticast() || d.From.Addr().IsPrivate() || d.From.Addr().IsLinkLocalUnicast()
}

// match takes an answer to discovery, or an announcement.
func (r *surveyRun) match(h reach.Heard, d *reach.Datagram, m *wsd.Match) {
	at := d.From.Addr()
	if !at.IsValid() || at.IsUnspecified() || at.Is6() && !at.IsLinkLocalUnicast() {
		return
	}
	key := hearing{d.MAC, at}
	r.mu.Lock()
	was := r.matched[key]
	if was == nil {
		a := r.of(d.MAC)
		if a.matches++; a.matches > maxMatchesOf || len(r.matched) >= maxHeard {
			r.mu.Unlock()
			return
		}
	}
	whole := m.With(was)
	r.matched[key] = &whole
	r.ban(d.MAC, at, &whole)
	r.hears(key)
	if was == nil || !whole.Says(*was) {
		r.add(sightingOf(h.At, key, &whole))
	}
	visitor := r.visitors[r.Subnets.Of(at)]
	r.mu.Unlock()
	if !r.Subnets.Askable(at) {
		return
	}
	r.visitFor(at, d.MAC)
	if visitor != nil || r.Net == nil {
		r.readOne(key, visitor)
	}
}

// sightingOf is what an answer to discovery says of a device.
func sightingOf(at time.Time, key hearing, m *wsd.Match) device.Sighting {
	scopes := wsd.ReadScopes(m.Scopes)
	kind, indoor := standard.KindOf(m.Types, scopes, nil)
	s := device.Sighting{
		At: at, By: "wsd", MAC: key.mac, Address: key.addr, Endpoint: m.Endpoint,
		Facts: device.Facts{Kind: kind, Indoor: indoor, Name: scopes.Name, Model: standard.PlainHardware(scopes.Hardware)},
	}
	if !standard.Speaks(m) {
		for _, t := range m.Types {
			s.Facts.Offers = append(s.Facts.Offers, "wsd:"+t.Local)
		}
	}
	return s
}

// hearClient takes what a device says when it asks for an address.
func (r *surveyRun) hearClient(h reach.Heard, d *reach.Datagram) {
	q, err := dhcp.ParseRequest(d.Payload)
	// What a relay passes on comes from another link.
	if err != nil || q.MAC != h.From || q.Kind != dhcp.Wants && q.Kind != dhcp.Takes {
		return
	}
	f := device.Facts{Host: q.Host, Asks: &device.DHCPClient{VendorClass: q.VendorClass, ClientID: q.ClientID, Host: q.Host, Wants: q.Address}}
	r.mu.Lock()
	r.add(device.Sighting{At: h.At, By: "dhcp", MAC: q.MAC, Facts: f})
	r.mu.Unlock()
	if r.event != nil {
		r.event(happening{mac: q.MAC, at: h.At})
	}
	// One that goes on with a lease tells which address it has (RFC 2131, 4.3.2).
	if q.Current.IsValid() && d.From.Addr() == q.Current {
		r.sighted(device.Sighting{At: h.At, By: "dhcp", MAC: q.MAC, Address: q.Current})
	}
}

func (r *surveyRun) hearOffer(h reach.Heard, d *reach.Datagram) {
	o, err := dhcp.ParseOffer(d.Payload, r.dhcpID)
	if err != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.found.Offers) >= maxOffers || slices.ContainsFunc(r.found.Offers, func(x lan.Offer) bool { return x.ServerMAC == d.MAC }) {
		return
	}
	r.found.Offers = append(r.found.Offers, offerOf(d.MAC, o, h.At))
}

func offerOf(server device.MAC, o dhcp.Offer, at time.Time) lan.Offer {
	return lan.Offer{
		ServerMAC: server, Server: o.Server, Subnet: o.Subnet, Gateway: o.Gateway, Offered: o.Address,
		DNS: o.DNS, NTP: o.NTP, LeaseS: int64(o.Lease.Seconds()), At: at,
	}
}

func (r *surveyRun) hearSSDP(h reach.Heard, d *reach.Datagram, m ssdp.Message) {
	if m.Gone {
		return
	}
	var f device.Facts
	if kind := m.Kind(); kind != "" {
		f.Offers = []string{"ssdp:" + kind}
	}
	r.told(h, d, "ssdp", f)
}

// hearNames takes answers of multicast DNS and of DNS servers.
func (r *surveyRun) hearNames(h reach.Heard, d *reach.Datagram) {
	m, err := mdns.Parse(d.Payload)
	if err != nil {
		return
	}
	r.mu.Lock()
	for _, t := range m.Types {
		if len(r.services) < maxServices {
			r.services[t] = true
		}
	}
	r.mu.Unlock()
	if d.From.Port() == mdns.PlainPort {
		r.nameAll(h, m)
		return
	}
	var f device.Facts
	for host, list := range m.Addresses {
		// Another's records come along in answers; a host is known by its own address.
		if slices.Contains(list, d.From.Addr()) || len(m.Addresses) == 1 {
			f.Host = host
		}
	}
	if name := m.Names[d.From.Addr()]; name != "" {
		f.Host = name
	}
	for _, s := range m.Services {
		f.Offers = append(f.Offers, s.Type)
	}
	slices.Sort(f.Offers)
	r.told(h, d, "mdns", f)
}

// maxServices bounds the types of service asked for.
const maxServices = 16

// nameAll notes the names that a DNS server has for addresses, of every MAC heard there.
func (r *surveyRun) nameAll(h reach.Heard, m mdns.Message) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for at, name := range m.Names {
		if name == "" || strings.HasSuffix(name, ".arpa") {
			continue
		}
		for _, mac := range r.byAddress[at] {
			r.add(device.Sighting{At: h.At, By: "dns", MAC: mac, Address: at, Facts: device.Facts{Host: name}})
		}
	}
}
