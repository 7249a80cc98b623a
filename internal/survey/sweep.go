package survey

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net/netip"
	"slices"
	"time"

	"janustat/internal/reach"
	"janustat/internal/speak/arp"
)

func (r *surveyRun) sweep() {
	defer r.endInSilence()
	if _, limited := r.Net.Broadcasts(); limited || !r.sweepFast() {
		if r.ctx.Err() != nil {
			r.cutShort()
			return
		}
		if !r.sweepSlow() {
			return
		}
	}
	for round := range wideRounds {
		if len(r.Wide) > 0 && !r.sweepWide(round) {
			return
		}
	}
	if r.wait(sweepQuiet) {
		r.sweepFurther()
	}
}

// cutShort names what is not known to be asked where a sweep at the full rate ran out of time before
// it showed whether the wire bears that: what was sent need not have arrived.
func (r *surveyRun) cutShort() {
	r.mu.Lock()
	named := len(r.found.Unasked) > 0
	r.mu.Unlock()
	if !named && errors.Is(r.ctx.Err(), context.DeadlineExceeded) && !r.Net.Borne() {
		r.unasked(slices.Collect(r.Subnets.Sweep()))
	}
}

// endInSilence takes down that the survey has ended while nothing was heard any more, or nobody was
// there who answered: nothing shows that any question arrived.
func (r *surveyRun) endInSilence() {
	if !r.Net.Silent() && (!r.Net.Heard() || r.Net.HasCanary()) {
		return
	}
	r.Net.SlowDown()
	r.Net.Doubt()
	r.mu.Lock()
	r.found.Unshown = true
	named := len(r.found.Unasked) > 0
	r.mu.Unlock()
	if !named {
		r.unasked(slices.Collect(r.Subnets.Sweep()))
	}
}

// sweepFast asks for every address at the full rate. It ends, and gives false, as soon as the wire
// shows that it does not bear that; and where nobody is known at its end whose silence would say
// something, since then nothing shows that any question arrived.
func (r *surveyRun) sweepFast() bool {
	var begun time.Time
	for round := 0; round < sweepRounds || round < lossyRounds && r.Net.Loss() >= lossy; round++ {
		if round > 0 && !r.wait(sweepEvery-min(sweepEvery, r.pace.Since(begun))) {
			return false
		}
		begun = time.Now()
		targets := r.Subnets.Sweep()
		if round >= sweepRounds || round >= sweepsOfAll && r.Net.Loss() < lossy {
			targets = r.inhabited()
		}
		n, err := r.sweepAll(targets)
		if err != nil {
			if r.sweepEnded(n, err); round == 0 && r.ctx.Err() != nil {
				left := slices.Collect(targets)
				if r.Net.Borne() { // else what was sent need not have arrived either
					left = left[n:]
				}
				r.unasked(left)
			}
			return false
		}
		r.Log.Debug("swept", "round", round+1, "addresses", n, "took", time.Since(begun))
		if r.Net.Unheard(r.ctx, r.begun) {
			return false
		}
	}
	// Until it is known that such a pace is borne: who has answered lately is a canary since then.
	for range moreRounds {
		if r.Net.Borne() {
			return true
		}
		if !r.Net.HasCanary() && r.wait(sweepQuiet) && !r.Net.HasCanary() {
			return false
		}
		if n, err := r.sweepAll(r.Subnets.SweepSite()); err != nil {
			r.sweepEnded(n, err)
			return false
		}
		if r.Net.Unheard(r.ctx, r.begun) {
			return false
		}
	}
	return true
}

// inhabited gives the addresses of the site's subnets, and of those in which somebody was found: who
// was missed twice is most likely there.
func (r *surveyRun) inhabited() iter.Seq[netip.Addr] {
	subnets := slices.Clone(r.Subnets.Near())
	r.mu.Lock()
	subnets = slices.AppendSeq(subnets, maps.Keys(r.visitors))
	r.mu.Unlock()
	return func(yield func(netip.Addr) bool) {
		for a := range r.Subnets.Sweep() {
			if contains(subnets, a) && !yield(a) {
				return
			}
		}
	}
}

// lossy is the share of questions and answers lost from which on two sweeps leave out too many hosts.
const lossy = 0.07

// lossyRounds is how many sweeps there are on such a wire: of a hundred silent hosts, three leave out one in
// eleven surveys, five one in a thousand.
const lossyRounds = 5

// moreRounds is how many further sweeps of the site there are at most, to find out what the wire bears.
const moreRounds = 4

// OtherRanges are the private ranges (RFC 1918) that devices of other hands are most often found
// in, beyond those that are swept from the start: whoever set them up has begun at the front.
var OtherRanges = []netip.Prefix{
	netip.MustParsePrefix("192.168.0.0/16"), netip.MustParsePrefix("10.0.0.0/16"), netip.MustParsePrefix("172.16.0.0/16"),
	netip.MustParsePrefix("10.1.0.0/16"), netip.MustParsePrefix("10.10.0.0/16"),
}

// FurtherTime is how long it takes to go through the further ranges at the rate.
func (s Survey) FurtherTime() time.Duration {
	if s.Rate <= 0 || s.Lacks == nil {
		return 0
	}
	n := 0
	for range s.Subnets.SweepWide(s.Further) {
		n++
	}
	return time.Duration(n)*time.Second/time.Duration(s.Rate) + time.Duration(len(s.Further))*furtherRest
}

// furtherRest is how long the rest of a survey may take until what is missing shows.
const furtherRest = 10 * time.Second

// sweepFurther goes on through further ranges, once each, as long as something is missing when
// everybody who was heard has been asked.
func (r *surveyRun) sweepFurther() {
	for i, p := range r.Further {
		for begun := time.Now(); r.others() && time.Since(begun) < furtherRest; {
			if !r.pause(countEvery) {
				return
			}
		}
		// Where the cable was out, what is missing may be near: it is looked for there again.
		if r.Lacks == nil || !r.Lacks(r.sofar()) || r.Net.LinkDownSince(r.begun) {
			return
		}
		n := 0
		for range r.Subnets.SweepWide([]netip.Prefix{p}) {
			n++
		}
		takes := (time.Duration(n) * time.Second / time.Duration(max(1, r.Rate))).Round(time.Second)
		if r.Within > 0 && time.Since(r.begun)+takes > r.Within {
			return
		}
		r.Tell(fmt.Sprintf("something is missing: looking through %s as well, %d of %d, about %s; Ctrl-C ends with what was found", p, i+1, len(r.Further), takes))
		sent := 0
		up := func(yield func(netip.Addr) bool) {
			for a := range r.Subnets.SweepWide([]netip.Prefix{p}) {
				if sent++; sent%sweepPart == 0 && r.Net.LinkDownSince(r.begun) || !yield(a) {
					return
				}
			}
		}
		if n, err := r.sweepAll(up); err != nil {
			r.sweepEnded(n, err)
			return
		}
		if !r.wait(sweepQuiet) {
			return
		}
	}
}

// others reports whether other parts of the survey are under way.
func (r *surveyRun) others() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.pending > 1
}

// Subnets that are not swept from the start are once something was met in them: what is
// beside it may be silent. So many of them are, and the first twice.
const (
	maxStrange   = 12
	strangeTwice = 1
)

// lateSyn are the moments at which ports are asked of what only the sweep has found.
var lateSyn = []time.Duration{0}

// sweepPart is how many addresses are swept at a stretch: sweeps that go on beside each
// other keep to the rate together, and none waits for the whole of another.
const sweepPart = 256

func (r *surveyRun) sweepAll(targets iter.Seq[netip.Addr]) (sent int, err error) {
	part := make([]netip.Addr, 0, sweepPart)
	flush := func() bool {
		r.sweeping.Lock()
		defer r.sweeping.Unlock()
		var n int
		n, err = arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, slices.Values(part), r.Rate)
		sent, part = sent+n, part[:0]
		_, limited := r.Net.Broadcasts()
		return err == nil && !limited
	}
	for a := range targets {
		if part = append(part, a); len(part) == sweepPart && !flush() {
			return sent, err
		}
	}
	if len(part) > 0 {
		flush()
	}
	return sent, err
}

func (r *surveyRun) sweepStrange(subnet netip.Prefix, v *reach.Visitor) {
	if r.Subnets.Known(subnet) || !subnet.Addr().Is4() || subnet.Bits() < assumedBits {
		return
	}
	r.mu.Lock()
	r.unlisted++
	count := r.unlisted
	r.mu.Unlock()
	if count > maxStrange {
		return
	}
	targets := func(yield func(netip.Addr) bool) {
		for a := range hostsOf(subnet) {
			if r.Subnets.Askable(a) && !yield(a) {
				return
			}
		}
	}
	rounds := 1
	if count <= strangeTwice {
		rounds = 2
	}
	for range rounds {
		if n, err := r.sweepAll(targets); err != nil {
			r.sweepEnded(n, err)
			return
		}
	}
	if !r.wait(sweepQuiet) {
		return
	}
	r.askPorts(subnet, v, lateSyn)
	if r.wait(sweepQuiet) {
		r.askUsual(subnet, v)
	}
}

func (r *surveyRun) sweepEnded(sent int, err error) {
	if r.ctx.Err() != nil {
		return
	}
	r.Log.Warn("sweep ended early", "sent", sent, "err", err)
	select { // a wire that takes nothing is about to be gone, which ends the survey
	case <-r.Net.Done():
	case <-r.ctx.Done():
	case <-time.After(wireGoes):
	}
}

// wireGoes is how long a wire that takes nothing any more may be there yet.
const wireGoes = 2 * time.Second

// WideTime estimates how long the ranges named take at the rate.
func (s Survey) WideTime() time.Duration {
	if s.Rate <= 0 || len(s.Wide) == 0 {
		return 0
	}
	return wideRounds * time.Duration(s.WideCount()) * time.Second / time.Duration(s.Rate)
}

// WideCount counts the addresses that the ranges named add to the sweep.
func (s Survey) WideCount() (n int) {
	for range s.Subnets.SweepWide(s.Wide) {
		n++
	}
	return n
}

// sweepWide sweeps the ranges named once, telling how far it is.
func (r *surveyRun) sweepWide(round int) bool {
	all, begun, told := r.WideCount(), time.Now(), time.Now()
	var sent int
	targets := func(yield func(netip.Addr) bool) {
		for a := range r.Subnets.SweepWide(r.Wide) {
			if sent++; time.Since(told) > tellEvery {
				told = time.Now()
				left := time.Duration(float64(time.Since(begun)) / float64(sent) * float64(all-sent))
				r.Tell(fmt.Sprintf("wide sweep, round %d of %d: %d of %d addresses (%d %%), at %s, about %s to go",
					round+1, wideRounds, sent, all, 100*sent/all, a, left.Round(time.Second)))
			}
			if !yield(a) {
				return
			}
		}
	}
	n, err := arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, targets, r.Rate)
	if err != nil {
		r.sweepEnded(n, err)
		return false
	}
	took := time.Since(begun)
	r.Tell(fmt.Sprintf("wide sweep, round %d of %d: %d addresses in %.1f s, %.0f frames a second", round+1, wideRounds, n, took.Seconds(), float64(n)/took.Seconds()))
	return true
}
