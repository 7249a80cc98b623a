package field

import (
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"time"

	"janustat/core/text"
	"janustat/internal/job"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
)

func (r *surveyRun) sweep() {
	if _, limited := r.Net.Broadcasts(); limited || !r.sweepFast() {
		if r.ctx.Err() != nil || !r.sweepSlow() {
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

// sweepFast asks for every address at the full rate. It ends, and gives false, as soon as the wire
// shows that it does not bear that; and where nobody is known at its end whose silence would say
// something, since then nothing shows that any question arrived.
func (r *surveyRun) sweepFast() bool {
	for round := range sweepRounds {
		begun, targets := time.Now(), r.Subnets.Sweep()
		if round >= sweepsOfAll {
			targets = r.Subnets.SweepSite()
		}
		n, err := r.sweepAll(targets)
		if err != nil {
			if r.sweepEnded(n, err); round == 0 {
				r.unasked(slices.Collect(targets)[n:])
			}
			return false
		}
		r.Log.Debug("swept", "round", round+1, "addresses", n, "took", time.Since(begun))
		if r.Net.Unheard(r.ctx, r.begun) {
			return false
		}
		if round < sweepRounds-1 && !r.wait(sweepEvery-min(sweepEvery, r.pace.Since(begun))) {
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

// moreRounds is how many further sweeps of the site there are at most, to find out what the wire bears.
const moreRounds = 4

// A slow sweep asks parts of so many addresses, and those again in which the canary did not hear every
// question; so often at most.
const (
	slowPart  = 48
	slowTries = 4
)

// sweepSlow asks at the pace that the wire bears, the site's subnets first, and part by part until
// it is known that the questions have arrived. The others are asked for as long as the survey
// lasts anyhow; what is not asked then is named.
func (r *surveyRun) sweepSlow() bool {
	rate := r.Net.SlowDown()
	defer r.Net.SpeedUp()
	var near, rest []netip.Addr
	for a := range r.Subnets.SweepSite() {
		near = append(near, a)
	}
	for a := range r.Subnets.Sweep() {
		if !contains(r.Subnets.Near(), a) {
			rest = append(rest, a)
		}
	}
	if takes := time.Duration(len(near)) * time.Second / time.Duration(rate); takes > tellEvery {
		r.Tell(fmt.Sprintf("asking who is in %s, %d addresses, %d a second: about %s; Ctrl-C ends with what was found", prefixes(r.Subnets.Near()), len(near), int(rate), takes.Round(time.Second)))
	}
	left, ok := r.sweepParts(near, func() bool { return true })
	further, done := r.sweepParts(rest, func() bool { return ok && (len(near) == 0 || time.Since(r.begun) < r.Listen) })
	r.unasked(append(left, further...))
	return ok && done
}

// unasked notes, by subnet, addresses that were not asked for.
func (r *surveyRun) unasked(left []netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, p := range r.Subnets.swept {
		if n := count(left, p); n > 0 {
			r.found.Unasked = append(r.found.Unasked, job.Unasked{Subnet: p, Addresses: n})
		}
	}
}

// slowTime is how long the site's subnets take at the slow pace, where that is more than a survey
// has anyhow.
func (s Survey) slowTime() time.Duration {
	n := 0
	for range s.Subnets.SweepSite() {
		n++
	}
	return max(0, 2*time.Duration(n)*time.Second/reach.SlowBroadcasts-surveyLimit)
}

// sweepParts asks for addresses part by part, while it may. It gives those that were not asked, as
// far as is known.
func (r *surveyRun) sweepParts(targets []netip.Addr, may func() bool) (left []netip.Addr, ok bool) {
	for at := 0; at < len(targets); at += slowPart {
		part := targets[at:min(at+slowPart, len(targets))]
		if !may() {
			return append(left, targets[at:]...), true
		}
		for tries := 1; ; tries++ {
			begun := time.Now()
			if n, err := arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, slices.Values(part), 0); err != nil {
				r.sweepEnded(at+n, err)
				return append(left, targets[at:]...), false
			}
			if !r.Net.Unheard(r.ctx, begun) {
				break
			}
			if tries == slowTries {
				left = append(left, part...)
				break
			}
		}
	}
	return left, r.ctx.Err() == nil
}

func count(of []netip.Addr, in netip.Prefix) (n int) {
	for _, a := range of {
		if in.Contains(a) {
			n++
		}
	}
	return n
}

func prefixes(list []netip.Prefix) string {
	var out []string
	for _, p := range list {
		out = append(out, p.String())
	}
	return text.List(out)
}

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
	if r.ctx.Err() == nil {
		r.Log.Warn("sweep ended early", "sent", sent, "err", err)
	}
}

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
