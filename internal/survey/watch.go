package survey

import (
	"context"
	"fmt"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/internal/pace"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/wsd"
)

// Timing of a watch.
const (
	watchTick    = 500 * time.Millisecond
	watchAsk     = 2 * time.Second  // between questions whether a device is there
	goneAfter    = 5 * time.Second  // after the first of the questions that it did not answer
	goneUnheard  = 7                // as many of them at least: where many answer at once, single answers are lost
	missedAfter  = 2 * time.Second  // likewise, from which on it is asked at every tick
	crowdExcused = 20 * time.Second // where most fall silent at once: it is the wire, or this laptop, that is slow
	crowdLeast   = 4                // fewer may well be unplugged together
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
	Moved     EventKind = "moved"     // it answers at another address
	Described EventKind = "described" // it had arrived, and has told by now what it is
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
	known    bool // what it is: so it was told
	present  bool
	address  netip.Addr
	instance uint64
	started  time.Time // last sign of a start
	silent   int       // questions since it was last heard
	asked    int       // of these, that count
	askedAt  time.Time // the first of these
}

// heard notes that it is there.
func (d *watched) heard(at time.Time) { d.last, d.silent, d.asked = at, 0, 0 }

// missed reports whether it is to be asked more often, before its silence is believed.
func (d *watched) missed(now time.Time, p pace.Pace) bool {
	return d.present && d.asked >= 2 && now.Sub(d.askedAt) > p.Of(missedAfter)
}

// gone reports whether its silence says that it has gone: it did not answer what it was asked, or,
// without an address, has said nothing for long. Nobody has gone who could not be asked.
func (d *watched) gone(now time.Time, p pace.Pace) bool {
	if !d.address.IsValid() {
		return now.Sub(d.last) > p.Of(bareGone)
	}
	return d.asked >= goneUnheard && now.Sub(d.askedAt) > p.Of(goneAfter)
}

type watchRun struct {
	*surveyRun
	told    func(Event)
	devices map[device.MAC]*watched
	crowdAt time.Time // since when most are silent
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
		r.devices[d.MAC] = &watched{device: d, last: now, first: now, told: true, known: d.Kind != "" && d.Kind != device.Other, present: true, address: d.Address()}
	}
	r.spawn(func() { <-ctx.Done() })
	stop := r.Net.Hear(r.hear)
	defer stop()
	for i := range w.Known { // the survey has not waited for those that were starting
		if d := &w.Known[i]; d.Access == device.Unread && d.Address().IsValid() {
			r.devices[d.MAC].known = false
			r.approach(d.MAC, d.Address())
		}
	}
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
					d.heard(now)
				}
				continue
			}
			r.catchUp()
			r.excuse(now)
			r.judge(now)
			for _, d := range r.devices {
				if d.missed(now, r.pace) {
					r.askIt(ctx, d)
				}
			}
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

// catchUp takes all that was heard by now: while this laptop is busy, answers wait to be looked at.
func (r *watchRun) catchUp() {
	for range len(r.heardOf) {
		r.take(<-r.heardOf)
	}
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
	d.heard(h.at)
	d.present = true
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
		switch {
		case d.present && d.gone(now, r.pace):
			r.leave(d, now)
		case d.present && !d.told && (r.wasReadYet(d.device.MAC) || now.Sub(d.first) > r.pace.Of(identifyIn)):
			d.told, d.known = true, r.wasReadYet(d.device.MAC)
			r.identify(d)
			r.tell(Arrived, d, d.first, 0)
		case d.present && d.told && !d.known && r.wasReadYet(d.device.MAC):
			d.known = true
			r.identify(d)
			r.tell(Described, d, now, 0)
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
		r.askIt(ctx, d)
	}
}

// askIt asks one device whether it is there. A question that does not leave says nothing.
func (r *watchRun) askIt(ctx context.Context, d *watched) {
	v, err := r.visitorNow(ctx, d.address)
	if err != nil || v == nil || r.Net.AskOnce(reach.Place{Address: d.address, From: v, MAC: d.device.MAC}) != nil {
		return
	}
	d.silent++
	if d.asked++; d.asked == 1 {
		d.askedAt = time.Now()
	}
}

// excuse has no silence count while most of those who are asked are silent at once, for a while: it is
// rather the wire that is slow, or this laptop, than that all of them were unplugged.
func (r *watchRun) excuse(now time.Time) {
	present, missing := 0, 0
	for _, d := range r.devices {
		if d.present && d.address.IsValid() {
			present++
			if d.silent >= 2 {
				missing++
			}
		}
	}
	if missing < crowdLeast || 2*missing <= present {
		r.crowdAt = time.Time{}
		return
	}
	if r.crowdAt.IsZero() {
		r.crowdAt = now
	}
	if now.Sub(r.crowdAt) < r.pace.Of(crowdExcused) {
		for _, d := range r.devices {
			d.asked = 0
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

// Times at which a newcomer is asked what it is: it answers ARP long before its service is there,
// and the Hello that tells of that may be lost.
var approachAt = []time.Duration{0, time.Second, 3 * time.Second, 10 * time.Second, 25 * time.Second, time.Minute, 2 * time.Minute}

// approach asks a newcomer what it is, until it has told.
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
			if !r.wait(after-r.pace.Since(begun)) || r.wasReadYet(mac) {
				return
			}
			for _, types := range [][]wsd.Type{{wsd.Transmitter}, {wsd.AnyDevice}} {
				r.send(v, mac, netip.AddrPortFrom(at, wsd.Port), wsd.Probe(wsd.NewID(), types...))
			}
		}
	})
}
