package reach

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"janustat/core/device"
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
	since    int                 // broadcasts since the last question to the canary
	second   time.Time           // that is counted now
	counts   [2]int              // broadcasts in it, and in the one before
	misses   int                 // questions in a row that did not arrive
	hits     int                 // likewise that did
	recent   []verdict           // the last ones
	falls    int                 // from the slow pace or below
	wasShut  bool                // the port was shut, and has opened again
	lately   uint8               // the last eight at the slow pace, a bit each that did not arrive
	judged   int                 // questions to a canary that was there
	lost     int                 // of these, that did not arrive, or whose answer did not
	deaths   int                 // hosts in a row that answered nothing any more
	closely  time.Time           // until then the canary is asked at every other question
	heardAt  time.Time           // when a question to a canary last arrived
	deafOnes map[device.MAC]bool // who takes no questions to everyone
	doubts   int                 // questions not judged yet
	settled  chan struct{}
	question *question
	canaries []canary
	holders  map[netip.Addr]map[device.MAC]bool // who else answers for the address of a canary
	mute     chan struct{}                      // closed when something is heard again; nil if the wire is not silent
	suspect  bool                               // it is silent, and may be slow: nothing is concluded yet
	notice   func(string)
	ended    <-chan struct{} // closed when nobody is to be asked any more; nil is never
}

// verdict is what became of a question to a canary.
type verdict struct {
	at      time.Time // when that was known
	arrived bool
}

// maxVerdicts are kept: more than there are in the time of a probe.
const maxVerdicts = 256

// note keeps a verdict. The lock is held.
func (c *crowd) note(at time.Time, arrived bool) {
	if len(c.recent) == maxVerdicts {
		c.recent = append(c.recent[:0], c.recent[1:]...)
	}
	c.recent = append(c.recent, verdict{at, arrived})
}

func newCrowd() *crowd {
	return &crowd{rate: fullBroadcasts, full: fullBroadcasts, holders: map[netip.Addr]map[device.MAC]bool{}, deafOnes: map[device.MAC]bool{}, settled: make(chan struct{})}
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

// Doubt keeps the slow pace for what is sent from now on, and for later runs on this wire: hosts were
// heard, and nothing shows that any question to everyone arrived.
func (n *Net) Doubt() {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	n.crowd.shown = true
}

// Heard reports whether anything was heard on the wire, from whomever.
func (n *Net) Heard() bool { return n.heardAt.Load() != 0 }

// WasShut reports whether the switch had shut the port: what was asked of anybody until then says
// nothing.
func (n *Net) WasShut() bool {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return n.crowd.wasShut
}

// HasCanary reports whether anybody is known whose silence would say something.
func (n *Net) HasCanary() bool {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return len(n.crowd.canaries) > 0
}

// enoughJudged is how many questions among others have to arrive before a pace is known to be borne.
const enoughJudged = 8

// Loss gives the share of questions to everyone that were lost, or whose answers were, as far as
// that was found out: 0 to 1.
func (n *Net) Loss() float64 {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return float64(n.crowd.lost) / float64(max(1, n.crowd.judged))
}

// Borne reports whether the wire has shown that it bears the full pace.
func (n *Net) Borne() bool {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return !n.crowd.limited && n.crowd.judged >= enoughJudged && n.crowd.misses == 0
}

// Deaf reports whether most of the questions to everyone that were sent since a moment did not arrive,
// as far as those among them show that were put to a canary, once that is known of all of these.
// Whoever asks several times does not mind one that is lost.
func (n *Net) Deaf(ctx context.Context, since time.Time) bool {
	n.Unheard(ctx, time.Now()) // until all of them are judged
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	lost, all := 0, 0
	for _, v := range n.crowd.recent {
		if v.at.After(since) {
			all++
			if !v.arrived {
				lost++
			}
		}
	}
	if lost == 0 || 2*lost < all {
		return false
	}
	n.crowd.closely = time.Now().Add(closelyTime) // one alone may have been lost: what is asked next shows it
	return true
}

// Silent reports whether nothing is heard any more, for whatever reason: what was asked lately may not
// have arrived.
func (n *Net) Silent() bool {
	n.crowd.mu.Lock()
	defer n.crowd.mu.Unlock()
	return n.crowd.mute != nil
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

// knock asks a host by itself until something is heard again.
func (n *Net) knock(q *question, open chan struct{}) {
	again := time.NewTicker(knockEvery)
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

// listenOn concludes from a silence that lasts that the port is shut.
func (n *Net) listenOn(open chan struct{}) {
	t := time.NewTimer(muteSure)
	defer t.Stop()
	select {
	case <-open:
		return
	case <-n.done:
		return
	case <-t.C:
	}
	c := n.crowd
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.mute != open {
		return
	}
	c.certain()
	c.lossAt, c.ceiling = time.Now(), SlowBroadcasts // it is not tried again
	c.tell("nothing is heard any more since questions were sent to everyone, and the link is up: the switch has most likely shut this port for them, or blocks it. Waiting until something is heard; Ctrl-C ends")
}

// certain ends what was only suspected, one way or the other. The lock is held.
func (c *crowd) certain() {
	c.suspect, c.doubts = false, c.doubts-1
	close(c.settled)
	c.settled = make(chan struct{})
}

// silence is for how long nothing was heard on a wire that something was heard on.
func (n *Net) silence() time.Duration {
	last := n.heardAt.Load()
	if last == 0 {
		return 0
	}
	return time.Since(time.Unix(0, last))
}

// opened ends a silence.
func (c *crowd) opened() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.mute == nil {
		return
	}
	close(c.mute)
	c.mute = nil
	if c.suspect { // somebody was slow, or for a moment nothing passed: what was asked then is asked again
		c.certain()
		c.deaths, c.lossAt = 0, time.Now()
		return
	}
	c.wasShut = true
	c.limit(time.Now())
	c.shown = true
}
