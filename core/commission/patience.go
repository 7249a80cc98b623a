package commission

import (
	"cmp"
	"errors"
	"time"
)

// errTalk is why a conversation ends that has taken too long.
var errTalk = errors.New("it took too long over its answers")

// talkLimit is how long a device may be spoken with.
func (w Worker) talkLimit() time.Duration { return cmp.Or(w.Talk, TalkLimit) }

// patience is how much longer a device may be spoken with. It runs only while a place is
// held: not while the device restarts, or waits for others or for a person.
type patience struct {
	left  time.Duration
	end   func()
	timer *time.Timer
	begun time.Time
}

func (p *patience) begin(now time.Time) {
	p.begun = now
	p.timer = time.AfterFunc(max(p.left, 0), p.end)
}

func (p *patience) pause(now time.Time) {
	if p.timer == nil {
		return
	}
	p.timer.Stop()
	p.left -= now.Sub(p.begun)
	p.timer = nil
}
