package survey

import (
	"context"
	"errors"
	"fmt"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
	"janustat/internal/speak/arp"
	"janustat/internal/tongue"
)

// Anybody can announce a device that is not there, in a tongue that has announcements, a
// thousand in one second. So an announcement is a device once a question to it was
// answered, and what has not answered is counted and told.
const (
	meetAtOnce   = 64
	maxMeetings  = 4096                    // with MACs that are not known, in one survey
	maxUnmet     = 192                     // that did not answer; then only those are asked that have answered a question to everyone
	meetTries    = 3                       // of one that is known, or has answered a question to everyone
	meetLimit    = 3300 * time.Millisecond // for one answer: four questions
	phantomsFrom = 8                       // so many that announce themselves and do not answer are told
)

// meeting is how it stands with one that has announced itself.
type meeting struct {
	tries    int
	underWay bool
	met      bool
	doubtful bool // nothing but an announcement that nobody asked for speaks for it
}

// announced takes an announcement.
func (r *surveyRun) announced(t tongue.Tongue, s device.Sighting, h *reach.Heard) {
	meeter, ok := t.(tongue.Meeter)
	if !ok || r.Net == nil || s.Facts.Access.Dumb() { // a replay asks nobody
		r.list(s)
		return
	}
	if own := s.Facts.Settings; own != nil && r.Subnets.NotOurs(own.Address) {
		r.mu.Lock()
		r.ban(s.MAC, own.Address, nil)
		r.mu.Unlock()
		return
	}
	mark := meeter.Mark(h)
	r.mu.Lock()
	m := r.meeting[s.MAC]
	if m == nil {
		// A blind flood does not know what was asked.
		if crowd := r.doubtful >= maxUnmet && !r.marks[mark] || len(r.meeting) >= maxMeetings; crowd && !r.Known[s.MAC] {
			r.unmet++
			r.mu.Unlock()
			return
		}
		m = &meeting{doubtful: !r.marks[mark] && !r.Known[s.MAC]}
		if m.doubtful {
			r.doubtful++
		}
		r.meeting[s.MAC] = m
	}
	tries := 1
	if r.Known[s.MAC] || r.marks[mark] {
		tries = meetTries
	}
	met, begin := m.met, !m.met && !m.underWay && m.tries < tries
	if begin {
		m.tries++
		m.underWay = true
	}
	r.mu.Unlock()
	switch {
	case met: // it may be elsewhere by now; who it is was answered
		r.present(s)
	case begin:
		r.spawn(func() { r.meetOne(meeter, m, s) })
	}
}

// seekMarked asks everyone, and remembers by what the answers are known.
func (r *surveyRun) seekMarked(t tongue.Meeter) error {
	mark, err := t.SeekMarked(r.Net)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.marks[mark] = true
	return err
}

// meetOne asks one that has announced itself. Devices that are known do not wait behind
// those that are not.
func (r *surveyRun) meetOne(t tongue.Meeter, m *meeting, s device.Sighting) {
	if !r.Known[s.MAC] {
		select {
		case r.meetings <- struct{}{}:
			defer func() { <-r.meetings }()
		case <-r.ctx.Done():
			return
		}
	}
	ctx, cancel := context.WithTimeoutCause(r.ctx, r.pace.Of(meetLimit), errors.New("no answer"))
	defer cancel()
	met, err := t.Meet(ctx, r.Net, s.MAC)
	r.mu.Lock()
	m.underWay, m.met = false, err == nil
	if err == nil && m.doubtful {
		r.doubtful--
	}
	r.mu.Unlock()
	if err == nil {
		r.list(met)
	}
}

// list takes what a device says of itself.
func (r *surveyRun) list(s device.Sighting) {
	r.mu.Lock()
	r.add(s)
	r.mu.Unlock()
	r.present(s)
}

// present takes where a device says that it is.
func (r *surveyRun) present(s device.Sighting) {
	r.sighted(device.Sighting{At: s.At, By: s.By, MAC: s.MAC, Address: s.Address})
	if r.event != nil {
		r.event(happening{mac: s.MAC, at: s.At, address: s.Address})
	}
}

// phantoms tells of those that announced themselves and answered nothing; "" where they are
// few. The lock is held.
func (r *surveyRun) phantoms() string {
	n := r.unmet
	for _, m := range r.meeting {
		if !m.met {
			n++
		}
	}
	if n < phantomsFrom {
		return ""
	}
	return fmt.Sprintf("%d devices announced themselves and answered nothing: they are not listed", n)
}

// Bounds of what is asked after claims that nobody asked for.
const (
	maxClaims   = 1024 // addresses
	maxClaimsOf = 64   // of one MAC
	claimTries  = 3
	claimEvery  = 300 * time.Millisecond
)

// claimed takes an announcement of an address (RFC 5227, 2.3), which nobody asked for: a
// hundred can be sent in one moment, by anybody. Its subnet is visited, and the address is
// asked for; who answers is there.
func (r *surveyRun) claimed(s device.Sighting) {
	key := hearing{s.MAC, s.Address}
	r.mu.Lock()
	known, asked := r.heard[key], r.claims[key]
	a := r.of(s.MAC)
	if !known && !r.said[key] && len(r.said) < maxHeard { // it is told of, if there are many
		r.said[key] = true
		r.holders[s.Address]++
		a.addresses++
		a.claims++
	}
	ask := !known && !asked && len(r.claims) < maxClaims && a.claims <= maxClaimsOf
	if ask {
		r.claims[key] = true
	}
	r.mu.Unlock()
	if r.event != nil {
		r.event(happening{mac: s.MAC, at: s.At, address: s.Address})
	}
	if !ask {
		return
	}
	if r.Subnets.Askable(s.Address) {
		r.visitFor(s.Address, s.MAC)
	}
	probe := arp.Probe(r.Net.Facts().MAC, s.Address).Frame()
	r.spawn(func() {
		for range claimTries {
			if r.Net.Send(probe) != nil || !r.wait(claimEvery) {
				return
			}
			r.mu.Lock()
			met := r.heard[key]
			r.mu.Unlock()
			if met {
				return
			}
		}
	})
}
