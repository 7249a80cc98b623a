package reach

import (
	"cmp"
	"fmt"
	"math/bits"
	"net/netip"
	"time"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// The canary: a host that is known to answer is asked by broadcast in the middle of others, and
// by unicast where it stays silent. Who answers the one and not the other has not heard it.
const (
	canaryEvery   = 32 // broadcasts
	canaryOften   = 12 // at the slow pace: fewer than are lost in a row where it is not borne
	canaryClosely = 2  // where there is doubt
	closelyTime   = 2 * time.Second
	oddMisses     = 3
	fewCanaries   = 2
	muchLate      = 10 * time.Millisecond // a timer of this laptop, that had other work
	canaryAnswer  = 30 * time.Millisecond // and twice what the host took for the question to it alone: hosts, and this laptop, are busy
	canaryAlive   = 350 * time.Millisecond
	twins         = 3
	deadCanaries  = 2 // one after another, and nothing heard of anybody, are more than hosts that left
	canaryMisses  = 5 // one after another show a limit; one alone is a frame that was lost
	provenFalls   = 2 // from the slow pace or below, that are no chance
	lostOfEight   = 2 // held back, that are chance yet; one more at the slow pace and below
	canaryRises   = 6 // answers one after another show that the pace is borne
	riseTime      = 1200 * time.Millisecond
	rise          = 4 // so that a pace which is not borne loses many in a row, and shows
	fall          = 2
	maxCanaries   = 16
	windowOfLimit = 1100 * time.Millisecond // switches count by the second
	muteAfter     = 800 * time.Millisecond  // of silence on a wire that was not silent
	muteCrowd     = 100                     // broadcasts in a second and the one before, or no switch would shut a port for them
	muteSure      = 2 * time.Second         // of silence, all frames held back, that no busy laptop makes
	muteLimit     = time.Minute             // for which a port that was shut is waited for
	knockEvery    = 500 * time.Millisecond
)

// canary is a host that has answered.
type canary struct {
	mac    device.MAC
	addr   netip.Addr
	others int       // that answer for its address too, up to manyAnswer
	asked  uint      // how often
	misses int       // in a row
	missed time.Time // when the first of these was
}

// cost is how much rarer one is asked for whom others answer as well.
func (k *canary) cost() int { return 1 + min(maxCost-1, k.others/2) }

// Of those that answer for one address so many are counted; and one with many costs so much more.
const (
	manyAnswer = 64
	maxCost    = 4
)

// canary gives the one that is asked: of those whose address fewest answer for, each in its turn, so
// that a host which takes no questions to everyone is not what all others are judged by. The lock is held.
func (c *crowd) canary() *canary {
	if len(c.canaries) == 0 {
		return nil
	}
	best := &c.canaries[0]
	for i := range c.canaries {
		if x := &c.canaries[i]; cmp.Or(cmp.Compare(x.others, best.others), cmp.Compare(x.asked, best.asked)) < 0 {
			best = x
		}
	}
	return best
}

// question is one to the canary that is under way.
type question struct {
	canary
	heard chan struct{} // holds one for each answer, as far as anybody waits
}

// spread counts a broadcast that has left, and asks the canary among them from time to time.
func (n *Net) spread() {
	c := n.crowd
	now := time.Now()
	c.mu.Lock()
	c.since++
	if gone := now.Sub(c.second); gone >= 2*time.Second {
		c.second, c.counts = now, [2]int{}
	} else if gone >= time.Second {
		c.second, c.counts = now, [2]int{0, c.counts[0]}
	}
	c.counts[0]++
	every := canaryEvery
	switch {
	case now.Before(c.closely):
		every = canaryClosely
	case c.limited:
		every = canaryOften
	}
	who := c.canary()
	if who == nil || c.since < every*who.cost() || c.question != nil {
		c.mu.Unlock()
		return
	}
	c.since = 0
	who.asked++
	q := &question{canary: *who, heard: make(chan struct{}, 2)}
	c.question, c.doubts = q, c.doubts+1
	c.mu.Unlock()
	_ = n.wire.Write(arp.Probe(n.facts.MAC, q.addr).Frame()) // lost, it is judged like any other
	n.sent.Add(1)
	go n.judge(q)
}

// judge finds out whether a question to the canary has arrived.
func (n *Net) judge(q *question) {
	late := false
	wait := func(d time.Duration) bool {
		t := time.NewTimer(d)
		defer t.Stop()
		due := time.Now().Add(d)
		select {
		case <-q.heard:
			return true
		case <-t.C:
		case <-n.done:
			return false
		}
		if time.Since(due) > muchLate {
			late = true
		}
		select {
		case <-q.heard: // it came while this laptop did something else
			return true
		default:
			return false
		}
	}
	if wait(canaryAnswer) { // a limit, which no pace changes
		n.judged(q, true, true)
		return
	}
	for range twins {
		asked := time.Now()
		_ = n.Send(q.twin(n.facts.MAC)) // the wire's end is told by others
		if !wait(canaryAlive) {
			continue
		}
		// Answers come in order: one to each, or one to those alone that were put to it by itself.
		took := func() time.Duration { return canaryAnswer/3 + 2*min(time.Since(asked), canaryAlive) }
		arrived := wait(took())
		if !arrived { // whoever is busy is slow once; it is asked once more
			asked = time.Now()
			_ = n.Send(q.twin(n.facts.MAC))
			arrived = wait(canaryAlive) && wait(took())
		}
		if !arrived && late {
			n.unjudged()
			return
		}
		n.judged(q, arrived, true)
		return
	}
	n.judged(q, false, false)
}

// unjudged ends a question of which no limit is concluded: this laptop itself was late. It counts among those
// that may be lost, so that a busy laptop asks more often, and not less.
func (n *Net) unjudged() {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	n.crowd.settle()
	n.crowd.judged++
	n.crowd.lost++
}

// settle ends the question that is under way. The lock is held.
func (c *crowd) settle() {
	c.question, c.doubts = nil, c.doubts-1
	close(c.settled)
	c.settled = make(chan struct{})
}

// twin asks the canary by itself.
func (q *question) twin(own device.MAC) []byte {
	p := arp.Probe(own, q.addr)
	p.To = q.mac
	return p.Frame()
}

// judged draws the conclusion of one question.
func (n *Net) judged(q *question, arrived, alive bool) {
	c := n.crowd
	c.mu.Lock()
	defer c.mu.Unlock()
	c.settle()
	now := time.Now()
	if alive && !arrived && c.odd(q.canary, now) {
		return
	}
	if alive {
		c.deaths = 0
		c.judged++
	}
	if alive || c.limited && n.silence() > canaryAlive { // a host that left says nothing while others are heard
		c.note(now, arrived)
	}
	switch {
	case !alive:
		c.drop(q.canary)
		if c.limited {
			c.lossAt = now // whether what was asked before has arrived cannot be known any more
		}
		if c.deaths += 1 + q.others; c.deaths >= deadCanaries && c.counts[0]+c.counts[1] >= muteCrowd && n.silence() > muteAfter && c.mute == nil && n.LinkFault() == nil {
			c.mute, c.suspect, c.doubts = make(chan struct{}), true, c.doubts+1
			go n.knock(q, c.mute)
			go n.listenOn(c.mute)
		}
	case arrived:
		c.misses, c.heardAt = 0, now
		c.hits++
		if x := c.known(q.canary); x != nil {
			x.misses = 0
		}
		c.lately <<= 1
		if c.limited && c.hits >= canaryRises && now.Sub(c.raisedAt) > riseTime {
			c.hits, c.raisedAt = 0, now
			if c.rate < SlowBroadcasts {
				if c.falls < provenFalls { // it may have been chance that lost them
					c.rate = min(c.rate*fall, SlowBroadcasts)
				}
				return
			}
			if up := min(c.rate*rise, c.full); c.ceiling == 0 || up < c.ceiling {
				c.rate = up
			}
		}
	default:
		c.hits = 0
		c.misses++
		c.lost++
		if c.limited {
			c.lossAt, c.lately = now, c.lately<<1|1
			bears := lostOfEight
			if c.rate <= SlowBroadcasts {
				bears++ // few switches let so little pass
			}
			if bits.OnesCount8(c.lately) > bears {
				if c.rate <= SlowBroadcasts {
					c.falls++
				}
				c.misses, c.lately, c.shown = 0, 0, true
				c.ceiling, c.rate = c.rate, max(min(c.rate/fall, SlowBroadcasts), leastBroadcasts)
				c.next = now.Add(windowOfLimit)
			}
			return
		}
		if c.misses >= canaryMisses {
			c.limit(now)
			c.shown = true
			c.tell(fmt.Sprintf("the switch lets only so many questions to everyone pass (storm control): from here on %d a second are asked, and what was asked before again", int(c.rate)))
		}
	}
}

// odd reports whether a canary that has not heard is one that takes no questions to everyone, while
// others do. That one is not asked again, as long as there are others. The lock is held.
func (c *crowd) odd(q canary, now time.Time) bool {
	x := c.known(q)
	if x == nil {
		return false
	}
	if x.misses++; x.misses == 1 {
		x.missed = now
	}
	if x.misses < oddMisses || !c.heardAt.After(x.missed) || len(c.canaries) <= fewCanaries {
		return false
	}
	c.drop(q)
	c.deafOnes[q.mac] = true
	return true
}

// known finds a canary; nil is one that was dropped. The lock is held.
func (c *crowd) known(q canary) *canary {
	for i := range c.canaries {
		if x := &c.canaries[i]; x.mac == q.mac && x.addr == q.addr {
			return x
		}
	}
	return nil
}

// drop forgets a canary that answers nothing any more. The lock is held.
func (c *crowd) drop(gone canary) {
	for i, x := range c.canaries {
		if x.mac == gone.mac && x.addr == gone.addr {
			c.canaries = append(c.canaries[:i], c.canaries[i+1:]...)
			return
		}
	}
}

// answer takes an ARP reply to us: who answers is a canary, and one that is asked has heard.
func (n *Net) answer(p *arp.Packet) {
	c := n.crowd
	c.mu.Lock()
	defer c.mu.Unlock()
	if q := c.question; q != nil && q.addr == p.Sender {
		select {
		case q.heard <- struct{}{}:
		default:
		}
	}
	if p.SenderMAC != p.From {
		return
	}
	for i := range c.canaries {
		x := &c.canaries[i]
		if x.addr != p.Sender {
			continue
		}
		if holders := c.holders[x.addr]; x.mac != p.SenderMAC && len(holders) < manyAnswer {
			if holders == nil {
				holders = map[device.MAC]bool{}
				c.holders[x.addr] = holders
			}
			holders[p.SenderMAC] = true
			x.others = len(holders)
		}
		return
	}
	if len(c.canaries) >= maxCanaries || c.deafOnes[p.SenderMAC] {
		return
	}
	if c.limited && !c.shown && len(c.canaries) == 0 {
		c.shown = true
		c.tell("somebody answers who was silent at the full pace: the switch lets only so many questions to everyone pass (storm control)")
	}
	c.canaries = append(c.canaries, canary{mac: p.SenderMAC, addr: p.Sender})
}
