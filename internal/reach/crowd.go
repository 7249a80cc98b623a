package reach

import (
	"context"
	"fmt"
	"math/bits"
	"net/netip"
	"sync"
	"time"

	"janustat/core/device"
	"janustat/internal/speak/arp"
)

// SlowBroadcasts is how many questions a second everyone is asked where the wire has shown a limit:
// fewer than switches commonly let pass (100).
const SlowBroadcasts = 60

// Rates of frames for everyone, a second.
const (
	fullBroadcasts  = 2000 // 1 Mbit/s, of which a link hardly takes notice
	leastBroadcasts = 8
	maxMulticasts   = 400 // likewise (500)
	multicastBurst  = 40
	broadcastBurst  = 100 // at the full rate, so that a sender which paces itself is not held up by timers
)

// The canary: a host that is known to answer is asked by broadcast in the middle of others, and
// by unicast where it stays silent. Who answers the one and not the other has not heard it.
const (
	canaryEvery   = 32 // broadcasts
	canaryOften   = 12 // at the slow pace: fewer than are lost in a row where it is not borne
	canaryAnswer  = 30 * time.Millisecond
	canaryAlive   = 350 * time.Millisecond
	twins         = 3
	deadCanaries  = 2 // one after another, and nothing heard of anybody, are more than hosts that left
	canaryMisses  = 5 // one after another show a limit; one alone is a frame that was lost
	canaryRises   = 6 // answers one after another show that the pace is borne
	riseTime      = 1200 * time.Millisecond
	rise          = 4 // so that a pace which is not borne loses many in a row, and shows
	fall          = 2
	maxCanaries   = 16
	windowOfLimit = 1100 * time.Millisecond // switches count by the second
	muteAfter     = 800 * time.Millisecond  // of silence on a wire that was not silent
	muteCrowd     = 100                     // broadcasts in a second and the one before, or no switch would shut a port for them
	muteLimit     = time.Minute             // for which a port that was shut is waited for
)

// crowd is what this wire bears of frames for everyone, as far as it has shown it. All that leave go
// through it, whoever sends them.
type crowd struct {
	mu       sync.Mutex
	rate     float64   // of broadcasts, a second
	full     float64   // where the wire has shown no limit
	next     time.Time // when the next broadcast may leave
	many     time.Time // likewise of multicasts: the bucket is full that long after
	limited  bool      // the pace is held back
	shown    bool      // since the wire has shown a limit
	ceiling  float64   // a rate that it has shown not to bear; 0 is none
	lossAt   time.Time // when it was last seen that questions do not arrive
	raisedAt time.Time
	since    int       // broadcasts since the last question to the canary
	second   time.Time // that is counted now
	counts   [2]int    // broadcasts in it, and in the one before
	misses   int       // questions in a row that did not arrive
	hits     int       // likewise that did
	lately   uint8     // the last eight at the slow pace, a bit each that did not arrive
	judged   int       // questions to a canary that was there
	deaths   int       // hosts in a row that answered nothing any more
	doubts   int       // questions not judged yet
	settled  chan struct{}
	question *question
	canaries []canary
	holders  map[netip.Addr]map[device.MAC]bool // who else answers for the address of a canary
	mute     chan struct{}                      // closed when something is heard again; nil if the wire is not silent
	notice   func(string)
	ended    <-chan struct{} // closed when nobody is to be asked any more; nil is never
}

// canary is a host that has answered.
type canary struct {
	mac    device.MAC
	addr   netip.Addr
	others int // that answer for its address too, up to manyAnswer
}

// cost is how much rarer one is asked for whom others answer as well.
func (k *canary) cost() int { return 1 + min(maxCost-1, k.others/2) }

// Of those that answer for one address so many are counted; and one with many costs so much more.
const (
	manyAnswer = 64
	maxCost    = 4
)

// canary gives the one that is asked: whose address fewest answer for. The lock is held.
func (c *crowd) canary() *canary {
	if len(c.canaries) == 0 {
		return nil
	}
	best := &c.canaries[0]
	for i := range c.canaries {
		if c.canaries[i].others < best.others {
			best = &c.canaries[i]
		}
	}
	return best
}

// question is one to the canary that is under way.
type question struct {
	canary
	heard chan struct{} // holds one for each answer, as far as anybody waits
}

func newCrowd() *crowd {
	return &crowd{rate: fullBroadcasts, full: fullBroadcasts, holders: map[netip.Addr]map[device.MAC]bool{}, settled: make(chan struct{})}
}

// SetBroadcasts begins at a pace that an earlier run on this wire has learnt, in broadcasts a second; 0
// is without a limit that is known. Full is the pace where there is none; 0 is the usual one.
// Notice gets what a person should know of the wire's limits; it may be nil.
func (n *Net) SetBroadcasts(rate, full float64, notice func(string)) {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	n.crowd.notice = notice
	if full > 0 {
		n.crowd.rate, n.crowd.full = full, full
	}
	if rate > 0 && rate < n.crowd.full {
		n.crowd.rate, n.crowd.limited, n.crowd.shown = rate, true, true
	}
}

// Until has frames for everyone wait no longer than ctx lasts, and sends none after it: whoever is
// interrupted does not wait for a pace, or for a port to open.
func (n *Net) Until(ctx context.Context) {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	n.crowd.ended = ctx.Done()
}

// Broadcasts gives the pace of broadcasts, a second, and whether that is held back since the wire has
// shown a limit.
func (n *Net) Broadcasts() (rate float64, limited bool) {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return n.crowd.rate, n.crowd.shown && n.crowd.rate < n.crowd.full
}

// SlowDown goes down to the slow pace, as when nobody answers at the full one, and gives the pace.
func (n *Net) SlowDown() float64 {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	if !n.crowd.limited {
		n.crowd.limit(time.Now())
	}
	return n.crowd.rate
}

// SpeedUp goes back to the full pace where it was slow for nothing: the wire has shown no limit.
func (n *Net) SpeedUp() {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	if !n.crowd.shown {
		n.crowd.limited, n.crowd.rate = false, n.crowd.full
	}
}

// HasCanary reports whether anybody is known whose silence would say something.
func (n *Net) HasCanary() bool {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return len(n.crowd.canaries) > 0
}

// enoughJudged is how many questions among others have to arrive before a pace is known to be borne.
const enoughJudged = 8

// Borne reports whether the wire has shown that it bears the pace.
func (n *Net) Borne() bool {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return n.crowd.judged >= enoughJudged && n.crowd.misses == 0
}

// Unheard reports whether questions to everyone that were sent since a moment may not have arrived,
// once that is known of all of them.
func (n *Net) Unheard(ctx context.Context, since time.Time) bool {
	c := n.crowd
	for {
		c.mu.Lock()
		doubts, settled, lost := c.doubts, c.settled, c.lossAt.After(since)
		c.mu.Unlock()
		if doubts == 0 || lost {
			return lost
		}
		select {
		case <-settled:
		case <-n.done:
			return lost
		case <-ctx.Done():
			return lost
		}
	}
}

// admit waits until a frame for everyone may leave. Once the net is not to ask any more it never may.
func (n *Net) admit(to device.MAC) error {
	c := n.crowd
	c.mu.Lock()
	ended := c.ended
	wait := func(d time.Duration, open <-chan struct{}) error {
		t := time.NewTimer(d)
		defer t.Stop()
		select {
		case <-t.C:
		case <-open:
		case <-n.done:
		case <-ended:
			return context.Canceled
		}
		return nil
	}
	if mute := c.mute; mute != nil {
		c.mu.Unlock()
		if err := wait(muteLimit, mute); err != nil {
			return err
		}
		c.opened() // or it has been waited for long enough
		c.mu.Lock()
	}
	now := time.Now()
	var at time.Time
	if to == device.Broadcast {
		if c.next.Before(now) {
			c.next = now
		}
		at = c.next
		if !c.limited {
			at = at.Add(-broadcastBurst * time.Second / time.Duration(c.full))
		}
		c.next = c.next.Add(time.Duration(float64(time.Second) / c.rate))
	} else {
		if c.many.Before(now) {
			c.many = now
		}
		at = c.many.Add(-multicastBurst * time.Second / maxMulticasts)
		c.many = c.many.Add(time.Second / maxMulticasts)
	}
	c.mu.Unlock()
	if d := time.Until(at); d > time.Millisecond { // finer than that no timer is
		return wait(d, nil)
	}
	return nil
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
	if c.limited {
		every = canaryOften
	}
	who := c.canary()
	if who == nil || c.since < every*who.cost() || c.question != nil {
		c.mu.Unlock()
		return
	}
	c.since = 0
	q := &question{canary: *who, heard: make(chan struct{}, 2)}
	c.question, c.doubts = q, c.doubts+1
	c.mu.Unlock()
	_ = n.wire.Write(arp.Probe(n.facts.MAC, q.addr).Frame()) // lost, it is judged like any other
	n.sent.Add(1)
	go n.judge(q)
}

// judge finds out whether a question to the canary has arrived.
func (n *Net) judge(q *question) {
	wait := func(d time.Duration) bool {
		t := time.NewTimer(d)
		defer t.Stop()
		select {
		case <-q.heard:
			return true
		case <-t.C:
		case <-n.done:
		}
		return false
	}
	if wait(n.Pace.Of(canaryAnswer)) {
		n.judged(q, true, true)
		return
	}
	alive := false
	for range twins {
		_ = n.Send(q.twin(n.facts.MAC)) // the wire's end is told by others
		if alive = wait(canaryAlive); alive {
			break
		}
	}
	if !alive {
		n.judged(q, false, false)
		return
	}
	// Answers come in order: one to each, or one to the second alone.
	n.judged(q, wait(n.Pace.Of(canaryAnswer)), true)
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
	c.question, c.doubts = nil, c.doubts-1
	close(c.settled)
	c.settled = make(chan struct{})
	now := time.Now()
	if alive {
		c.deaths = 0
		c.judged++
	}
	switch {
	case !alive:
		c.drop(q.canary)
		if c.limited {
			c.lossAt = now // whether what was asked before has arrived cannot be known any more
		}
		if c.deaths += 1 + q.others; c.deaths >= deadCanaries && c.counts[0]+c.counts[1] >= muteCrowd && n.silence() > muteAfter && c.mute == nil && n.LinkFault() == nil {
			c.mute = make(chan struct{})
			c.lossAt, c.ceiling = now, SlowBroadcasts // it is not tried again
			c.tell("nothing is heard any more since questions were sent to everyone, and the link is up: the switch has most likely shut this port for them, or blocks it. Waiting until something is heard; Ctrl-C ends")
			go n.knock(q, c.mute)
		}
	case arrived:
		c.misses = 0
		c.hits++
		c.lately <<= 1
		if c.limited && c.hits >= canaryRises && now.Sub(c.raisedAt) > riseTime {
			c.hits, c.raisedAt = 0, now
			if up := min(c.rate*rise, c.full); c.ceiling == 0 || up < c.ceiling {
				c.rate = up
			}
		}
	default:
		c.hits = 0
		c.misses++
		if c.limited {
			c.lossAt, c.lately = now, c.lately<<1|1
			if bits.OnesCount8(c.lately) > 1 {
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

// limit goes down to the slow pace, once the switch counts anew. The lock is held.
func (c *crowd) limit(now time.Time) {
	c.limited, c.lossAt, c.raisedAt = true, now, now
	c.rate, c.misses, c.hits = SlowBroadcasts, 0, 0
	c.next = now.Add(windowOfLimit)
}

func (c *crowd) tell(text string) {
	if c.notice != nil {
		go c.notice(text)
	}
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

// knock asks a host by itself until something is heard again.
func (n *Net) knock(q *question, open chan struct{}) {
	again := time.NewTicker(time.Second)
	defer again.Stop()
	for {
		select {
		case <-open:
			return
		case <-n.done:
			return
		case <-again.C:
			_ = n.wire.Write(q.twin(n.facts.MAC)) // the wire's end is told by others
		}
	}
}

// silence is for how long nothing was heard on a wire that something was heard on.
func (n *Net) silence() time.Duration {
	last := n.heardAt.Load()
	if last == 0 {
		return 0
	}
	return time.Since(time.Unix(0, last))
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
	if len(c.canaries) >= maxCanaries {
		return
	}
	if c.limited && !c.shown && len(c.canaries) == 0 {
		c.shown = true
		c.tell("somebody answers who was silent at the full pace: the switch lets only so many questions to everyone pass (storm control)")
	}
	c.canaries = append(c.canaries, canary{mac: p.SenderMAC, addr: p.Sender})
}

// opened ends a silence.
func (c *crowd) opened() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.mute != nil {
		close(c.mute)
		c.mute = nil
		c.limit(time.Now())
		c.shown = true
	}
}
