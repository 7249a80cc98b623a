package bench

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/pace"
)

// queueLen is how many frames wait at a port before the switch drops more, as
// a real switch does when a buffer is full.
const queueLen = 4096

// Switch is a learning Ethernet switch (IEEE 802.1D, 7.8) with fault injection.
type Switch struct {
	mu    sync.RWMutex
	ports []*Port
	table map[device.MAC]*Port
	loss  float64       // share of deliveries dropped, 0 to 1
	delay time.Duration // of every delivery
	seed  uint64
	pace  pace.Pace // of what is plugged in
	storm Storm
	count uint64 // ports made, which seeds each port's own chance
	// Who is to hear what most take no notice of: of thousands of ports it is brought to these alone.
	open    map[*Port]bool    // all of it
	answers index[netip.Addr] // questions for an address
	named   index[device.MAC] // what asks one host, by its MAC
	heeding map[*Port]bool    // whose address it is
}

// interest is what a port hears of frames that most take no notice of.
type interest struct {
	all     bool
	answers netip.Addr // it answers for this address; invalid for none
	named   device.MAC // it is this host; zero for none
	heeds   bool       // it takes note of announcements
}

// hear changes what the port hears of such frames.
func (p *Port) hear(in interest) {
	s := p.sw
	s.mu.Lock()
	defer s.mu.Unlock()
	p.forget()
	select {
	case <-p.closed:
		return
	default:
	}
	p.hears = in
	if in.all {
		s.open[p] = true
	}
	if in.heeds {
		s.heeding[p] = true
	}
	if in.answers.IsValid() {
		s.answers.add(in.answers, p)
	}
	if !in.named.IsZero() {
		s.named.add(in.named, p)
	}
}

// index are ports by what they hear.
type index[K comparable] map[K]map[*Port]bool

func (x index[K]) add(k K, p *Port) {
	if x[k] == nil {
		x[k] = map[*Port]bool{}
	}
	x[k][p] = true
}

func (x index[K]) drop(k K, p *Port) {
	if delete(x[k], p); len(x[k]) == 0 {
		delete(x, k)
	}
}

// forget takes the port out of what it hears. The switch's lock is held.
func (p *Port) forget() {
	s := p.sw
	delete(s.open, p)
	delete(s.heeding, p)
	s.answers.drop(p.hears.answers, p)
	s.named.drop(p.hears.named, p)
	p.hears = interest{}
}

// NewSwitch makes a switch. The same seed gives each port the same chances.
func NewSwitch(loss float64, delay time.Duration, seed uint64) *Switch {
	return &Switch{
		table: map[device.MAC]*Port{}, loss: loss, delay: delay, seed: seed,
		open: map[*Port]bool{}, answers: index[netip.Addr]{}, named: index[device.MAC]{}, heeding: map[*Port]bool{},
	}
}

// Port is one socket of the switch with a cable in it.
type Port struct {
	sw     *Switch
	queue  chan delivery
	wants  func(glance) bool // the filter of what is plugged in
	closed chan struct{}
	once   sync.Once
	chance *rand.Rand
	mu     sync.Mutex // guards chance
	meter  meter
	hears  interest // guarded by the switch's lock
}

// delivery is a frame on its way.
type delivery struct {
	frame []byte
	due   time.Time // when it arrives; zero at once
}

// Plug connects something that takes frames. deliver runs on the port's own
// goroutine and may keep the frame. Frames that wants is false of are not brought, as a
// card filters them; it runs on the sender's goroutine and may be nil for all. With one, the port
// says by hear what it hears of frames that most take no notice of.
func (s *Switch) Plug(deliver func(frame []byte), wants func(glance) bool) *Port {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.count++
	p := &Port{
		sw: s, queue: make(chan delivery, queueLen), wants: wants, closed: make(chan struct{}),
		chance: rand.New(rand.NewPCG(s.seed, s.count)),
	}
	s.ports = append(s.ports, p)
	if wants == nil {
		p.hears.all, s.open[p] = true, true
	}
	go p.run(deliver)
	return p
}

func (p *Port) run(deliver func([]byte)) {
	for {
		select {
		case d := <-p.queue:
			// Each is late by as much, however many come: a long cable is no slow one.
			if !d.due.IsZero() {
				time.Sleep(time.Until(d.due))
			}
			deliver(d.frame)
		case <-p.closed:
			return
		}
	}
}

// Unplug pulls the cable. Frames still queued are lost.
func (p *Port) Unplug() {
	p.once.Do(func() {
		close(p.closed)
		p.sw.mu.Lock()
		defer p.sw.mu.Unlock()
		p.forget()
		p.sw.ports = slices.DeleteFunc(p.sw.ports, func(other *Port) bool { return other == p })
		for mac, at := range p.sw.table {
			if at == p {
				delete(p.sw.table, mac)
			}
		}
	})
}

// Send takes a frame into the switch at this port. The frame is copied.
func (p *Port) Send(frame []byte) {
	if len(frame) < 14 {
		return
	}
	seen := glanceAt(frame)
	if !p.meter.passes(p.sw.storm, seen.to, time.Now()) {
		return
	}
	src, dst := device.MACFrom(frame[6:12]), seen.to
	s := p.sw
	s.mu.RLock()
	known, to := s.table[src] == p, s.table[dst]
	s.mu.RUnlock()
	if !known && !src.IsGroup() {
		s.mu.Lock()
		s.table[src] = p
		s.mu.Unlock()
	}
	var copied []byte // once, for all that want it: receivers only read frames
	bring := func(to *Port) {
		if to == p || to.wants != nil && !to.wants(seen) {
			return
		}
		if copied == nil {
			copied = append([]byte(nil), frame...)
		}
		to.take(copied)
	}
	if to != nil && !dst.IsGroup() {
		bring(to)
		return
	}
	s.mu.RLock()
	defer s.mu.RUnlock()
	if !seen.few() {
		for _, other := range s.ports {
			bring(other)
		}
		return
	}
	for other := range s.open {
		bring(other)
	}
	if seen.tells {
		for other := range s.heeding {
			if !other.hears.all {
				bring(other)
			}
		}
	}
	for other := range s.answers[seen.asks] {
		if !other.hears.all && !seen.tells {
			bring(other)
		}
	}
	for other := range s.named[seen.one] {
		if !other.hears.all {
			bring(other)
		}
	}
}

func (p *Port) take(frame []byte) {
	if p.sw.storm.Shut > 0 && p.meter.closedNow(time.Now()) {
		return
	}
	if p.sw.loss > 0 {
		p.mu.Lock()
		lost := p.chance.Float64() < p.sw.loss
		p.mu.Unlock()
		if lost {
			return
		}
	}
	d := delivery{frame: frame}
	if p.sw.delay > 0 {
		d.due = time.Now().Add(p.sw.delay)
	}
	select {
	case p.queue <- d:
	default: // the buffer is full
	}
}
