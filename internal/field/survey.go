package field

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
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
	quietAfter    = 1500 * time.Millisecond // an answer may take APP_MAX_DELAY (0.5 s) and two retransmissions
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
