package survey

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/lan"
	"janustat/core/text"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
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
	if ok && len(near) > 0 && r.Net.Heard() && r.wait(sweepQuiet) && !r.Net.HasCanary() {
		r.Net.Doubt()
		r.mu.Lock()
		r.found.Unshown = true
		r.mu.Unlock()
		r.unasked(append(near, rest...))
		return false
	}
	if ok && r.Net.WasShut() {
		r.askAnew()
	}
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
			r.found.Unasked = append(r.found.Unasked, lan.Unasked{Subnet: p, Addresses: n})
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

// A slow sweep asks parts of so many addresses, and those again in which the canary did not hear every
// question; so often at most.
const (
	slowPart  = 48
	slowTries = 4
)
