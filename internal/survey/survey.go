// Package survey finds who is on the LAN: it asks, hears, reads what devices tell without a
// password, and watches who comes and goes. It writes to nothing.
package survey

import (
	"cmp"
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
	"janustat/core/ground"
	"janustat/core/lan"
	"janustat/internal/authority"
	"janustat/internal/pace"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/speak/wsd"
	"janustat/internal/tongue/standard"
)

// Timing of a survey.
const (
	DefaultListen = 3 * time.Second  // at least this long
	surveyLimit   = 60 * time.Second // and never longer than this beyond it
	sweepRounds   = 3                // each lost frame is made up for by the next round
	sweepsOfAll   = 2                // of these; the others are of the site alone, unless the wire loses many
	sweepEvery    = 500 * time.Millisecond
	sweepQuiet    = 300 * time.Millisecond // an answer by ARP takes no longer
	wideRounds    = 2                      // over ranges named by the person, which take their time
	tellEvery     = 3 * time.Second
	askAtOnce     = 64 // devices read at the same time
	askTries      = 3
	readLimit     = 40 * time.Second       // for all that is asked of one device
	resolveTries  = 6                      // each waits out APP_MAX_DELAY
	probeSpacing  = 60 * time.Millisecond  // small devices drop bursts
	quietAfter    = 900 * time.Millisecond // an answer may take APP_MAX_DELAY (0.5 s) and a retransmission
)

// probeAt are the moments of discovery probes after a visitor is ready:
// repeated as SOAP-over-UDP 1.1 demands of unreliable delivery.
var probeAt = []time.Duration{0, 300 * time.Millisecond, 700 * time.Millisecond, 1200 * time.Millisecond}

// In a subnet of many hosts there are further ones, so far apart: a few at least, and as
// long as each brings somebody to speak.
const (
	probeLate = 1500 * time.Millisecond
	minLate   = 3
	maxLate   = 12
)

// visitAgain is how long after all its addresses were claimed a subnet is tried once more.
const visitAgain = 5 * time.Second

// maxHeard bounds what a survey remembers, however much a hostile host sends.
const maxHeard = 1 << 16

// Survey looks for devices on a wire.
type Survey struct {
	Net     *reach.Net
	Subnets *Subnets
	Listen  time.Duration
	Rate    int
	Wide    []netip.Prefix              // ranges to sweep whole, named by the person
	Further []netip.Prefix              // ranges to go on with one by one, as long as Lacks
	Lacks   func(*Findings) bool        // reports whether something is missing still; may be nil
	Within  time.Duration               // for which that may go on from the beginning; 0 is as long as it takes
	Limit   time.Duration               // that it may take beyond listening and what ranges take; 0 is a minute
	Avoid   func(netip.Addr) bool       // addresses never borrowed for visitors
	Known   map[device.MAC]bool         // devices that the register has: these are met before others
	Met     map[device.MAC]standard.Met // where their service was met, beside the usual ports
	Enough  func(*Findings) bool        // ends the survey early when true; may be nil
	Root    *authority.Root             // of the site's authority; nil where it has none
	Log     *slog.Logger
	Tell    func(text string) // progress for a person
}

// Findings are what a survey heard.
type Findings struct {
	Sightings []device.Sighting
	Offers    []lan.Offer
	Unvisited map[netip.Prefix]error // subnets that no visitor could be had in
	VLANs     map[uint16]int         // frames heard with an IEEE 802.1Q tag, by its number
	Enough    bool                   // ended because what was expected was there
	Stopped   bool                   // ended because it was stopped: there may be more
	Floods    []Flood                // hosts that say more than any honest one
	Unread    []Unread               // devices that answered discovery and not their service
	Unasked   []lan.Unasked          // subnets in which addresses were not asked for
	Unshown   bool                   // hosts were heard, and none answered any question to everyone: nothing shows that these arrived
	Broadcast float64                // questions to everyone, a second, that the wire bears; 0 where it has shown no limit
	CutOff    bool                   // ended because it took too long: what is unasked, and unread, is missing
}

// hearing is one MAC at one address.
type hearing struct {
	mac  device.MAC
	addr netip.Addr
}

type surveyRun struct {
	Survey
	ctx   context.Context
	ask   chan struct{} // places for reading devices
	begun time.Time
	pace  pace.Pace
	// reader reads a device; a replay reads it from what was captured.
	reader func(v *reach.Visitor, key hearing, m *wsd.Match) (device.Sighting, error)
	event  func(happening) // tells a watcher; may be nil

	sweeping sync.Mutex // held by the one that sweeps

	mu        sync.Mutex
	pending   int           // parts of the survey still under way
	finished  chan struct{} // closed when the last one ends; then none begins any more
	found     Findings
	heard     map[hearing]bool           // by ARP, neighbour discovery or a protocol above
	bySubnet  map[netip.Prefix][]hearing // the same, in the order heard
	byAddress map[netip.Addr][]device.MAC
	byMAC     map[device.MAC][]int // sightings, by their place
	holders   map[netip.Addr]int   // MACs that claimed an address
	accounts  map[device.MAC]*account
	overflow  account                // of those beyond what is remembered
	unlisted  int                    // subnets that were swept since something was met in them
	strange   int                    // subnets visited that were not known before
	mouth     chan struct{}          // held by the visitor that asks everyone
	slow      chan struct{}          // places for reading devices, the slow ones too
	matched   map[hearing]*wsd.Match // discovery answered
	reading   map[hearing]bool       // device service being read, or read
	givenUp   map[hearing]bool       // of these, in a watch: not answered
	read      map[device.MAC]bool    // read by any address
	asked     map[hearing]int        // by itself, how often
	only      bool                   // devices that are named are read, and nobody else is asked
	rounds    map[netip.Prefix]bool  // of discovery are under way in a subnet
	subnets   map[netip.Prefix]bool  // being visited
	visitors  map[netip.Prefix]*reach.Visitor
	services  map[string]bool         // types of service asked for by mDNS
	ports     map[portHeard]bool      // that have answered
	open      map[portHeard]bool      // those that take connections
	usual     map[hearing]bool        // asked for the service at the usual places
	looked    bool                    // somebody asks for an address that nobody has
	meeting   map[device.MAC]*meeting // with who announces itself, by MAC
	meetings  chan struct{}           // places for that
	claims    map[hearing]bool        // addresses that were announced, and are asked for
	said      map[hearing]bool        // the same, all of them
	marks     map[string]bool         // of questions to everyone
	doubtful  int                     // announced unasked, and not met yet
	unmet     int                     // announcements beyond those that are met
	querier   map[string]bool         // by protocol: somebody else asks for group members
	dhcpID    [4]byte
	patient   int                 // devices that are asked more often than others
	bans      map[device.MAC]bool // hosts of another's
}

func newRun(ctx context.Context, s Survey) *surveyRun {
	r := &surveyRun{
		Survey: s, ctx: ctx, ask: make(chan struct{}, askAtOnce), finished: make(chan struct{}), begun: time.Now(),
		heard: map[hearing]bool{}, matched: map[hearing]*wsd.Match{}, reading: map[hearing]bool{}, givenUp: map[hearing]bool{}, read: map[device.MAC]bool{}, asked: map[hearing]int{}, rounds: map[netip.Prefix]bool{},
		subnets: map[netip.Prefix]bool{}, visitors: map[netip.Prefix]*reach.Visitor{},
		services: map[string]bool{}, ports: map[portHeard]bool{}, open: map[portHeard]bool{}, usual: map[hearing]bool{}, querier: map[string]bool{}, meeting: map[device.MAC]*meeting{}, meetings: make(chan struct{}, meetAtOnce), marks: map[string]bool{}, claims: map[hearing]bool{}, said: map[hearing]bool{}, bySubnet: map[netip.Prefix][]hearing{}, byAddress: map[netip.Addr][]device.MAC{},
		byMAC: map[device.MAC][]int{}, holders: map[netip.Addr]int{}, accounts: map[device.MAC]*account{}, slow: make(chan struct{}, maxReadings), mouth: make(chan struct{}, 1),
	}
	if s.Net != nil {
		r.pace = s.Net.Pace
	}
	r.found.Unvisited, r.found.VLANs = map[netip.Prefix]error{}, map[uint16]int{}
	r.reader = func(v *reach.Visitor, key hearing, m *wsd.Match) (device.Sighting, error) {
		ctx, cancel := context.WithTimeoutCause(r.ctx, readLimit, errors.New("it took too long over its answers"))
		defer cancel()
		return standard.Read(ctx, r.Net, v, r.host(key), m, r.Root)
	}
	_, _ = rand.Read(r.dhcpID[:]) // never fails (crypto/rand)
	return r
}

// errEnough ends a survey that has found what was expected.
var errEnough = errors.New("everything expected was found")

// Run surveys until it has listened long enough and asked whoever answered, or
// has found enough.
func (s Survey) Run(ctx context.Context) (*Findings, error) {
	limit := s.Listen + cmp.Or(s.Limit, surveyLimit) + s.WideTime() + s.FurtherTime() + s.slowTime()
	ctx, cancel := context.WithTimeoutCause(ctx, limit, errors.New("the survey took too long"))
	defer cancel()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	r := newRun(ctx, s)
	defer r.Net.Hear(r.hear)()
	r.spawn(func() {
		r.begin()
		r.wait(s.Listen)
	})
	if s.Enough != nil {
		go r.watchCount(stop)
	}
	select {
	case <-r.finished:
	case <-r.Net.Done():
		return nil, fmt.Errorf("the wire went away: %w: plug the cable in and run the survey again", r.Net.Err())
	case <-ctx.Done():
		<-r.finished // everything below ends with ctx
		r.found.Enough = errors.Is(context.Cause(ctx), errEnough)
		r.found.CutOff = !r.found.Enough && errors.Is(ctx.Err(), context.DeadlineExceeded)
		r.found.Stopped = !r.found.Enough && !r.found.CutOff
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.tellApart()
	r.found.Floods = r.floods()
	if rate, limited := r.Net.Broadcasts(); limited {
		r.found.Broadcast = rate
	}
	r.found.Unread = r.unread()
	r.tellUnread()
	return &r.found, nil
}

// begin starts everything that is not an answer to something heard.
func (r *surveyRun) begin() {
	r.spawn(r.askMembers)
	r.spawn(r.seekTongues)
	r.spawn(r.sweep)
	r.spawn(r.discoverDHCP)
	// Hosts there answer multicast only to a neighbour, and may not speak by themselves.
	r.visit(reach.LinkLocal6.Addr().Next())
	r.visit(ground.Broadcast(reach.LinkLocal4))
	for _, p := range r.Subnets.Wide() {
		r.visit(ground.Broadcast(p))
	}
}

// countEvery is how often a survey looks whether it has found enough.
const countEvery = 300 * time.Millisecond

func (r *surveyRun) watchCount(stop context.CancelCauseFunc) {
	again := time.NewTicker(r.pace.Of(countEvery))
	defer again.Stop()
	for {
		select {
		case <-again.C:
		case <-r.finished:
			return
		}
		if r.Enough(r.sofar()) {
			stop(errEnough)
			return
		}
	}
}

// sofar gives what was found until now.
func (r *surveyRun) sofar() *Findings {
	r.mu.Lock()
	defer r.mu.Unlock()
	return &Findings{Sightings: slices.Clone(r.found.Sightings)}
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

// wait waits for a time of a protocol, at the pace of the net.
func (r *surveyRun) wait(d time.Duration) bool { return r.pause(r.pace.Of(d)) }

// pause waits for as long as it says.
func (r *surveyRun) pause(d time.Duration) bool {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-r.ctx.Done():
		return false
	}
}

// visit takes a visitor in the subnet of an address and sends discovery from it.
func (r *surveyRun) visit(near netip.Addr) { r.visitFor(near, device.MAC{}) }

// visitFor does so for what a MAC claims, as far as one MAC is worth it.
func (r *surveyRun) visitFor(near netip.Addr, mac device.MAC) {
	if r.Net == nil || r.only { // a replay goes nowhere
		return
	}
	subnet := r.Subnets.Of(near)
	r.mu.Lock()
	begun := r.subnets[subnet]
	if !begun && !mac.IsZero() && !r.mayVisit(subnet, mac) {
		r.mu.Unlock()
		return
	}
	r.subnets[subnet] = true
	r.mu.Unlock()
	if begun {
		return
	}
	r.spawn(func() {
		v, err := r.Net.Visit(r.ctx, subnet, near, r.Avoid)
		// A flood that claimed the addresses may be over, or known for one by now.
		if errors.Is(err, reach.ErrNoVisitor) && r.wait(visitAgain) {
			v, err = r.Net.Visit(r.ctx, subnet, near, r.Avoid)
		}
		r.mu.Lock()
		if err != nil {
			r.found.Unvisited[subnet] = err
		} else {
			r.visitors[subnet], r.rounds[subnet] = v, true
		}
		r.mu.Unlock()
		if err != nil {
			if r.ctx.Err() == nil {
				r.Log.Warn("no visitor", "subnet", subnet, "err", err)
			}
			r.askWithout(subnet)
			return
		}
		r.Log.Debug("visiting", "subnet", subnet, "as", v.Address())
		r.readMatches(subnet)
		r.spawn(func() { r.sweepStrange(subnet, v) })
		r.spawn(func() { r.askPorts(subnet, v, synAt) })
		r.probe(subnet, v)
	})
}

// askWithout asks once more, from no address, who has those heard in a subnet that no
// visitor could be had in: whoever claims them too is to be told.
func (r *surveyRun) askWithout(subnet netip.Prefix) {
	targets := func(yield func(netip.Addr) bool) {
		for _, h := range r.hostsIn(subnet) {
			if h.addr.Is4() && !yield(h.addr) {
				return
			}
		}
	}
	if n, err := arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, targets, r.Rate); err != nil {
		r.sweepEnded(n, err)
		return
	}
	r.wait(sweepQuiet)
}
