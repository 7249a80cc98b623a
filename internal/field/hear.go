package field

import (
	"slices"
	"time"

	"janustat/core/device"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/dhcp"
	"janustat/internal/speak/wsd"
)

// hear takes every frame; it runs on the reading goroutine.
func (r *surveyRun) hear(h reach.Heard) {
	if p, err := arp.Parse(h.Frame); err == nil {
		// The sender field is what the packet claims; the frame says who sent it.
		if p.SenderMAC == h.From {
			r.sighted(device.Sighting{At: time.Now(), By: "arp", MAC: h.From, Address: p.Sender})
		}
		return
	}
	d := h.Datagram
	if d == nil {
		return
	}
	switch {
	case d.To.Port() == dhcp.ClientPort && d.From.Port() == dhcp.ServerPort:
		r.hearOffer(d)
	case d.To.Port() == wsd.Port, d.To.Port() == clientPort:
		if m, err := wsd.Parse(d.Payload); err == nil && m.Kind != wsd.Bye {
			for i := range m.Matches {
				r.match(d, &m.Matches[i])
			}
		}
	}
}

// sighted notes a MAC at an address, and visits the subnet if that is new.
func (r *surveyRun) sighted(s device.Sighting) {
	if !s.Address.Is4() || s.Address.IsUnspecified() {
		return
	}
	key := hearing{s.MAC, s.Address}
	r.mu.Lock()
	known := r.heard[key]
	if !known && len(r.heard) < maxHeard {
		r.heard[key] = true
		r.found.Sightings = append(r.found.Sightings, s)
	}
	r.mu.Unlock()
	if !known && r.Subnets.Askable(s.Address) {
		r.visit(s.Address)
	}
}

// match takes an answer to discovery, or an announcement.
func (r *surveyRun) match(d *reach.Datagram, m *wsd.Match) {
	at := d.From.Addr()
	if !at.Is4() || at.IsUnspecified() {
		return
	}
	key := hearing{d.MAC, at}
	scopes := wsd.ReadScopes(m.Scopes)
	kind, indoor := kindOf(m.Types, scopes, nil)
	s := device.Sighting{
		At: time.Now(), By: "wsd", MAC: d.MAC, Address: at, Endpoint: m.Endpoint,
		Facts: device.Facts{Kind: kind, Indoor: indoor, Name: scopes.Name, Model: plainHardware(scopes.Hardware)},
	}
	r.mu.Lock()
	if len(r.matched) >= maxHeard {
		r.mu.Unlock()
		return
	}
	was := r.matched[key]
	if was == nil || len(was.XAddrs) == 0 {
		r.matched[key] = m
	}
	if was == nil {
		r.heard[key] = true
		r.found.Sightings = append(r.found.Sightings, s)
	}
	visitor := r.visitors[r.Subnets.Of(at)]
	r.mu.Unlock()
	if !r.Subnets.Askable(at) {
		return
	}
	r.visit(at)
	if visitor != nil {
		r.read(key, visitor)
	}
}

func (r *surveyRun) hearOffer(d *reach.Datagram) {
	o, err := dhcp.ParseOffer(d.Payload, r.dhcpID)
	if err != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if slices.ContainsFunc(r.found.Offers, func(x job.Offer) bool { return x.ServerMAC == d.MAC }) {
		return
	}
	r.found.Offers = append(r.found.Offers, job.Offer{
		ServerMAC: d.MAC, Server: o.Server, Subnet: o.Subnet, Gateway: o.Gateway, Offered: o.Address, At: time.Now(),
	})
}
