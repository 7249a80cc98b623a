package field

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/dhcp"
	"janustat/internal/speak/wsd"
)

// Timing of a survey.
const (
	DefaultListen = 6 * time.Second  // at least this long
	surveyLimit   = 60 * time.Second // and never longer than this beyond it
	sweepRounds   = 4                // each lost frame is made up for by the next round
	sweepEvery    = 1500 * time.Millisecond
	askAtOnce     = 16 // devices read at the same time
	askTries      = 3
	resolveTries  = 6                       // each waits out APP_MAX_DELAY
	probeSpacing  = 60 * time.Millisecond   // small devices drop bursts
	quietAfter    = 1500 * time.Millisecond // an answer may take APP_MAX_DELAY (0.5 s) and two restransmissions
)

// probeAt are the moments of discovery probes after a visitor is ready:
// repeated as SOAP-over-UDP 1.1 demands of unreliable delivery.
var probeAt = []time.Duration{0, 350 * time.Millisecond, 900 * time.Millisecond, 1800 * time.Millisecond}

// clientPort is the UDP port our questions come from and answers go to.
const clientPort = 41702

// maxHeard bounds what a survey remembers, however much a hostile host sends.
const maxHeard = 1 << 16

// Survey looks for devices on a wire.
type Survey struct {
	Net     *reach.Net
	Subnets *Subnets
	Listen  time.Duration
	Rate    int
	Avoid   func(netip.Addr) bool // addresses never borrowed for visitors
	Log     *slog.Logger
	Tell    func(text string) // progress for a person; may be nil
}

// Findings are what a survey heard.
type Findings struct {
	Sightings []device.Sighting
	Offers    []job.Offer
	Unvisited map[netip.Prefix]error // subnets that no visitor could be had in
}

// hearing is one MAC at one address.
type hearing struct {
	mac  device.MAC
	addr netip.Addr
}

type surveyRun struct {
	Survey
	ctx context.Context
	ask chan struct{} // places for reading devices

	mu       sync.Mutex
	pending  int           // parts of the survey still under way
	finished chan struct{} // closed when the last one ends; then none begins any more
	found    Findings
	heard    map[hearing]bool       // by ARP or by discovery
	matched  map[hearing]*wsd.Match // discovery answered
	reading  map[hearing]bool       // device service being read, or read
	subnets  map[netip.Prefix]bool  // being visited
	visitors map[netip.Prefix]*reach.Visitor
	dhcpID   [4]byte
}

// Run surveys until it has listened long enough and asked whoever answered.
func (s Survey) Run(ctx context.Context) (*Findings, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, s.Listen+surveyLimit, errors.New("the survey took too long"))
	defer cancel()
	r := &surveyRun{
		Survey: s, ctx: ctx, ask: make(chan struct{}, askAtOnce), finished: make(chan struct{}),
		heard: map[hearing]bool{}, matched: map[hearing]*wsd.Match{}, reading: map[hearing]bool{},
		subnets: map[netip.Prefix]bool{}, visitors: map[netip.Prefix]*reach.Visitor{},
	}
	r.found.Unvisited = map[netip.Prefix]error{}
	if _, err := rand.Read(r.dhcpID[:]); err != nil {
		return nil, err
	}
	defer r.Net.Hear(r.hear)()
	r.spawn(func() {
		r.spawn(r.sweep)
		r.spawn(r.discoverDHCP)
		r.wait(s.Listen)
	})
	select {
	case <-r.finished:
	case <-r.Net.Done():
		return nil, fmt.Errorf("the wire went away: %w: plug the cable in and run the survey again", r.Net.Err())
	case <-ctx.Done():
		<-r.finished // everything below ends with ctx
		if !errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return nil, ctx.Err()
		}
	}
	return &r.found, nil
}

// spawn runs f as part of the survey, which lasts until its last part ends.
// What is heard after that starts nothing.
func (r *surveyRun) spawn(f func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	select {
	case <-r.finished:
		return
	default:
	}
	r.pending++
	go func() {
		f()
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.pending--; r.pending == 0 {
			close(r.finished)
		}
	}()
}

func (r *surveyRun) wait(d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-r.ctx.Done():
		return false
	}
}

func (r *surveyRun) sweep() {
	for round := range sweepRounds {
		begun := time.Now()
		n, err := arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, r.Subnets.Sweep(), r.Rate)
		if err != nil {
			r.Log.Warn("sweep ended early", "sent", n, "err", err)
			return
		}
		r.Log.Debug("swept", "round", round+1, "addresses", n, "took", time.Since(begun))
		if round < sweepRounds-1 && !r.wait(sweepEvery-min(sweepEvery, time.Since(begun))) {
			return
		}
	}
	r.wait(quietAfter)
}

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

// visit takes a visitor in the subnet of an address and sends discovery from it.
func (r *surveyRun) visit(near netip.Addr) {
	subnet := r.Subnets.Of(near)
	r.mu.Lock()
	begun := r.subnets[subnet]
	r.subnets[subnet] = true
	r.mu.Unlock()
	if begun {
		return
	}
	r.spawn(func() {
		v, err := r.Net.Visit(r.ctx, subnet, near, r.Avoid)
		r.mu.Lock()
		if err != nil {
			r.found.Unvisited[subnet] = err
		} else {
			r.visitors[subnet] = v
		}
		r.mu.Unlock()
		if err != nil {
			r.Log.Warn("no visitor", "subnet", subnet, "err", err)
			return
		}
		r.Log.Debug("visiting", "subnet", subnet, "as", v.Address())
		r.readMatches(subnet)
		r.probe(subnet, v)
	})
}

// probe sends discovery probes from a visitor: by multicast to all, then by
// unicast to those heard by ARP that stayed silent.
func (r *surveyRun) probe(subnet netip.Prefix, v *reach.Visitor) {
	begun := time.Now()
	for i, at := range probeAt {
		if !r.wait(at - time.Since(begun)) {
			return
		}
		for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}, nil} {
			r.send(v, device.MAC{}, netip.AddrPortFrom(wsd.Group, wsd.Port), wsd.Probe(newUUID(), types...))
			if !r.wait(probeSpacing) {
				return
			}
		}
		if i < 2 {
			continue
		}
		for _, h := range r.silent(subnet) {
			for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}} {
				r.send(v, h.mac, netip.AddrPortFrom(h.addr, wsd.Port), wsd.Probe(newUUID(), types...))
			}
		}
	}
	r.wait(quietAfter)
}

// silent gives those heard in a subnet that have not answered discovery.
func (r *surveyRun) silent(subnet netip.Prefix) []hearing {
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []hearing
	for h := range r.heard {
		if subnet.Contains(h.addr) && r.matched[h] == nil {
			out = append(out, h)
		}
	}
	slices.SortFunc(out, func(a, b hearing) int { return slices.Compare(a.mac[:], b.mac[:]) })
	return out
}

func (r *surveyRun) send(v *reach.Visitor, mac device.MAC, to netip.AddrPort, payload []byte) {
	if err := r.Net.SendUDP(v, clientPort, mac, to, payload); err != nil {
		r.Log.Warn("discovery not sent", "to", to, "err", err)
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
		r.read(h, visitor)
	}
}

// read reads a device's own service, resolving where it is first if need be.
func (r *surveyRun) read(key hearing, v *reach.Visitor) {
	r.mu.Lock()
	m := r.matched[key]
	if !speaksDevice(m) || r.reading[key] {
		r.mu.Unlock()
		return
	}
	r.reading[key] = true
	r.mu.Unlock()
	r.spawn(func() {
		m := r.resolve(key, v, m)
		for try := range askTries {
			select {
			case r.ask <- struct{}{}:
			case <-r.ctx.Done():
				return
			}
			s, err := readDevice(r.ctx, r.Net, v, key, m)
			<-r.ask
			if err == nil {
				r.mu.Lock()
				r.found.Sightings = append(r.found.Sightings, s)
				r.mu.Unlock()
				r.Tell(fmt.Sprintf("%s %s %s at %s", s.Facts.Kind, s.Facts.Make, s.Facts.Model, key.addr))
				return
			}
			r.Log.Debug("device not read", "mac", key.mac, "at", key.addr, "try", try+1, "err", err)
			if !r.wait(400 * time.Millisecond) {
				return
			}
		}
		// It is there and speaks; only its details are missing.
		r.Log.Warn("device answers discovery but not its service", "mac", key.mac, "at", key.addr)
	})
}

// resolve asks where the service is when a match did not say (2005/04, 6).
func (r *surveyRun) resolve(key hearing, v *reach.Visitor, m *wsd.Match) *wsd.Match {
	for range resolveTries {
		if len(m.XAddrs) > 0 {
			return m
		}
		r.Log.Debug("resolving", "mac", key.mac, "at", key.addr)
		r.send(v, device.MAC{}, netip.AddrPortFrom(wsd.Group, wsd.Port), wsd.Resolve(newUUID(), m.Endpoint))
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

func (r *surveyRun) discoverDHCP() {
	ask, err := dhcp.Discover(r.Net.Facts().MAC, r.dhcpID)
	if err != nil {
		r.Log.Warn("DHCP not asked", "err", err)
		return
	}
	for range 3 {
		if err := r.Net.SendBroadcast(dhcp.ClientPort, dhcp.ServerPort, ask); err != nil {
			r.Log.Warn("DHCP not asked", "err", err)
			return
		}
		if !r.wait(time.Second) {
			return
		}
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

// newUUID gives a random UUID as a URN (RFC 4122, 4.4).
func newUUID() string {
	var b [16]byte
	_, _ = rand.Read(b[:]) // never fails (crypto/rand)
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("urn:uuid:%x-%x-%x-%x-%x", b[0:4], b[4:6], b[6:8], b[8:10], b[10:])
}
