package field

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/wsd"
)

// Timing of a watch.
const (
	watchTick    = 500 * time.Millisecond
	watchAsk     = 2 * time.Second  // between questions whether a device is there
	goneAfter    = 7 * time.Second  // three questions unanswered
	bareGone     = 90 * time.Second // one without an address speaks when it likes (RFC 2131, 4.1: up to 64 s)
	identifyIn   = 12 * time.Second // how long a newcomer may take to be visited and read before it is told
	watchSweep   = 20 * time.Second // between sweeps for newcomers that stay silent
	restartOnce  = 10 * time.Second // within which further signs of a start are the same one
	maxHappening = 4096             // heard and not yet looked at
	maxWatched   = 2000             // addresses that are asked for, whether they are there
)

// happening is something heard of a MAC, for those who watch.
type happening struct {
	mac      device.MAC
	at       time.Time
	address  netip.Addr
	started  bool   // it says hello, as after a start
	left     bool   // it says goodbye
	instance uint64 // grows with each start
}

// Event is something that happened on the LAN while it was watched.
type Event struct {
	At     time.Time
	What   EventKind
	Device device.Device
	Away   time.Duration // of one that is back
}

// EventKind says what happened.
type EventKind string

// The kinds of events.
const (
	Arrived   EventKind = "arrived"
	Gone      EventKind = "gone"
	Back      EventKind = "back"
	Restarted EventKind = "restarted"
	Moved     EventKind = "moved" // it answers at another address
)

// Watch goes on listening after a survey.
type Watch struct {
	Survey
	Known []device.Device // what the survey found
	Event func(Event)
}

// watched is what is known of one MAC.
type watched struct {
	device   device.Device
	last     time.Time // heard
	first    time.Time
	told     bool // as arrived, or known before
	present  bool
	address  netip.Addr
	instance uint64
	started  time.Time // last sign of a start
}

type watchRun struct {
	*surveyRun
	told    func(Event)
	devices map[device.MAC]*watched
	heardOf chan happening
}

// Run watches until ctx ends, or Enough is true of all that was found.
func (w Watch) Run(ctx context.Context) (*Findings, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	r := &watchRun{surveyRun: newRun(ctx, w.Survey), told: w.Event, devices: map[device.MAC]*watched{}, heardOf: make(chan happening, maxHappening)}
	r.event = func(h happening) {
		select {
		case r.heardOf <- h:
		default: // a flood; a device that is there is heard again
		}
	}
	now := time.Now()
	for _, d := range w.Known {
		r.devices[d.MAC] = &watched{device: d, last: now, first: now, told: true, present: true, address: d.Address()}
	}
	r.spawn(func() { <-ctx.Done() })
	stop := r.Net.Hear(r.hear)
	defer stop()
	err := r.loop(ctx)
	cancel()
	<-r.finished
	return &r.found, err
}

func (r *watchRun) loop(ctx context.Context) error {
	tick, ask, sweep := time.NewTicker(r.pace.Of(watchTick)), time.NewTicker(r.pace.Of(watchAsk)), time.NewTicker(r.pace.Of(watchSweep))
	defer tick.Stop()
	defer ask.Stop()
	defer sweep.Stop()
	for {
		select {
		case h := <-r.heardOf:
			r.take(h)
		case now := <-tick.C:
			if r.Net.LinkFault() != nil { // nobody has gone: we have
				for _, d := range r.devices {
					d.last = now
				}
				continue
			}
			r.judge(now)
			if r.Enough != nil && r.Enough(r.snapshot()) {
				r.mu.Lock()
				r.found.Enough = true
				r.mu.Unlock()
				return nil
			}
		case <-ask.C:
			r.askAll(ctx)
		case <-sweep.C:
			r.spawn(func() { // one that fails is made up for by the next
				_, _ = arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, r.Subnets.Sweep(), r.Rate)
			})
		case <-r.Net.Done():
			return fmt.Errorf("the wire went away: %w: plug the cable in and watch again", r.Net.Err())
		case <-ctx.Done():
			return nil
		}
	}
}

// snapshot gives what is there now: gone devices do not count.
func (r *watchRun) snapshot() *Findings {
	so := &Findings{}
	for _, d := range r.devices {
		if d.present && d.told {
			so.Sightings = append(so.Sightings, device.Sighting{At: d.last, MAC: d.device.MAC, Address: d.address, Facts: d.device.Facts})
		}
	}
	return so
}

// take carries one happening into what is known.
func (r *watchRun) take(h happening) {
	d := r.devices[h.mac]
	if d == nil {
		if len(r.devices) >= maxHeard {
			return
		}
		d = &watched{first: h.at, present: true, device: device.Device{MAC: h.mac, FirstSeen: h.at, SeenAt: h.at}}
		r.devices[h.mac] = d
		if h.address.IsValid() {
			r.approach(h.mac, h.address)
		}
	}
	away := h.at.Sub(d.last)
	was, before := d.present, d.instance
	if h.instance > 0 {
		d.instance = h.instance
	}
	if h.left {
		r.leave(d, h.at)
		return
	}
	d.last, d.present = h.at, true
	switch {
	case !d.told:
	case !was:
		r.tell(Back, d, h.at, away)
		d.started = h.at
	case h.started && (before == 0 || h.instance > before) && h.at.Sub(d.started) > r.pace.Of(restartOnce):
		r.tell(Restarted, d, h.at, 0)
		d.started = h.at
	}
	// A device that claims a second address keeps the first while it answers there.
	if h.address.IsValid() && h.address.Is4() && h.address != d.address {
		moved := d.told && d.address.Is4()
		d.address = h.address
		d.device.Addresses = []netip.Addr{h.address}
		if moved {
			r.tell(Moved, d, h.at, 0)
			r.approach(h.mac, h.address)
		}
	} else if h.address.IsValid() && !d.address.IsValid() {
		d.address, d.device.Addresses = h.address, []netip.Addr{h.address}
	}
}

func (r *watchRun) leave(d *watched, at time.Time) {
	if d.present && d.told {
		r.tell(Gone, d, at, 0)
	}
	d.present = false
}

// judge tells newcomers once it is known what they are, and who has gone.
func (r *watchRun) judge(now time.Time) {
	for _, d := range r.devices {
		limit := goneAfter
		if !d.address.IsValid() {
			limit = bareGone
		}
		switch {
		case d.present && now.Sub(d.last) > r.pace.Of(limit):
			r.leave(d, now)
		case d.present && !d.told && (r.wasReadYet(d.device.MAC) || now.Sub(d.first) > r.pace.Of(identifyIn)):
			d.told = true
			r.identify(d)
			r.tell(Arrived, d, d.first, 0)
		}
	}
}

func (r *watchRun) wasReadYet(mac device.MAC) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.read[mac]
}

// identify gathers what was heard of a newcomer.
func (r *watchRun) identify(d *watched) {
	r.mu.Lock()
	var own []device.Sighting
	for _, i := range r.byMAC[d.device.MAC] {
		own = append(own, r.found.Sightings[i])
	}
	r.mu.Unlock()
	for _, found := range device.Merge(own) {
		d.device = found
		d.address = found.Address()
	}
}

func (r *watchRun) tell(what EventKind, d *watched, at time.Time, away time.Duration) {
	r.told(Event{At: at, What: what, Device: d.device, Away: away})
}

// askAll asks every device that is there whether it still is, each by itself.
func (r *watchRun) askAll(ctx context.Context) {
	asked := 0
	for _, d := range r.devices {
		if !d.present || !d.address.IsValid() || !r.Subnets.Askable(d.address) {
			continue
		}
		if asked++; asked > maxWatched { // the others are heard when they speak
			return
		}
		v, err := r.visitorNow(ctx, d.address)
		if err == nil && v != nil {
			_ = r.Net.AskOnce(reach.Place{Address: d.address, From: v, MAC: d.device.MAC}) // a lost question is asked again
		}
	}
}

// visitorNow gives the visitor of a subnet if there is one already; if not, one
// is taken for the next time.
func (r *watchRun) visitorNow(ctx context.Context, a netip.Addr) (*reach.Visitor, error) {
	subnet := r.Subnets.Of(a)
	r.mu.Lock()
	v := r.visitors[subnet]
	r.mu.Unlock()
	if v == nil {
		r.visit(a)
	}
	return v, ctx.Err()
}

// Times at which a newcomer is asked what it is: its service may take a while.
var approachAt = []time.Duration{0, time.Second, 3 * time.Second}

// approach asks a newcomer what it is.
func (r *watchRun) approach(mac device.MAC, at netip.Addr) {
	if !r.Subnets.Askable(at) {
		return
	}
	r.spawn(func() {
		v, err := r.Net.Visit(r.ctx, r.Subnets.Of(at), at, r.Avoid)
		if err != nil {
			return
		}
		r.mu.Lock()
		r.visitors[r.Subnets.Of(at)] = v
		r.mu.Unlock()
		begun := time.Now()
		for _, after := range approachAt {
			if !r.wait(after - r.pace.Since(begun)) {
				return
			}
			for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}} {
				r.send(v, mac, netip.AddrPortFrom(at, wsd.Port), wsd.Probe(newUUID(), types...))
			}
		}
	})
}
