package field

import (
	"fmt"
	"net/netip"
	"time"

	"janustat/internal/speak/arp"
)

func (r *surveyRun) sweep() {
	for round := range sweepRounds {
		begun, targets := time.Now(), r.Subnets.Sweep()
		if round >= sweepsOfAll {
			targets = r.Subnets.SweepSite()
		}
		r.sweeping.Lock() // together they keep to the rate
		n, err := arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, targets, r.Rate)
		r.sweeping.Unlock()
		if err != nil {
			r.sweepEnded(n, err)
			return
		}
		r.Log.Debug("swept", "round", round+1, "addresses", n, "took", time.Since(begun))
		if round < sweepRounds-1 && !r.wait(sweepEvery-min(sweepEvery, time.Since(begun))) {
			return
		}
	}
	for round := range wideRounds {
		if len(r.Wide) > 0 && !r.sweepWide(round) {
			return
		}
	}
	r.wait(sweepQuiet)
}

// Subnets that are not swept from the start are once something was met in them: what is
// beside it may be silent. So many of them, and so often: what reports itself is heard anyhow.
const (
	maxStrange    = 12
	strangeRounds = 1
)

func (r *surveyRun) sweepStrange(subnet netip.Prefix) {
	if r.Subnets.Known(subnet) || !subnet.Addr().Is4() || subnet.Bits() < assumedBits {
		return
	}
	r.mu.Lock()
	r.unlisted++
	many := r.unlisted > maxStrange
	r.mu.Unlock()
	if many {
		return
	}
	targets := func(yield func(netip.Addr) bool) {
		for a := range hostsOf(subnet) {
			if r.Subnets.Askable(a) && !yield(a) {
				return
			}
		}
	}
	for range strangeRounds {
		r.sweeping.Lock()
		n, err := arp.Sweep(r.ctx, r.Net.Send, r.Net.Facts().MAC, targets, r.Rate)
		r.sweeping.Unlock()
		if err != nil {
			r.sweepEnded(n, err)
			return
		}
		if !r.wait(sweepQuiet) {
			return
		}
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
