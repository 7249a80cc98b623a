package commission

import (
	"context"
	"slices"
	"time"
)

// FareLimit is how long links may take until they do what they are for: a recorder tries a
// camera every few seconds, and a station registers as often.
const FareLimit = 48 * time.Second

// nudgesAfter are how long a link may take until it is set once more, in case that one of the
// two does not know of it; then with its pictures by another way; and then as it was, since a way
// that is never taken is worse than one that takes its time.
var nudgesAfter = [...]struct {
	after     time.Duration
	otherwise bool
}{{15 * time.Second, false}, {26 * time.Second, true}, {37 * time.Second, false}}

// fare waits until the links do what they are for, which takes the other side's part as
// well. One that does not in time is set once more.
func (r *run) fare(ctx context.Context, links []Link, ties []Tie) ([]Tie, error) {
	r.rest() // others may speak while this one waits
	for _, l := range links {
		if l.Step == StepPair && l.Peer.ID != 0 {
			if _, err := r.await(ctx, l.Peer, Joined); err != nil {
				return nil, err
			}
		}
	}
	begun, nudged := r.Site.Now(), 0
	for {
		err := r.steadily(ctx, func() (err error) {
			if err := r.back(ctx); err != nil {
				return err
			}
			if err := r.hold(ctx); err != nil {
				return err
			}
			t := r.talk()
			defer t.Close()
			if ties, err = t.Ties(ctx, links); err != nil {
				return err
			}
			r.learnShown(ties)
			if _, err := r.mend(ctx, t, ties); err != nil {
				return err
			}
			if late := r.Site.Now().Sub(begun); nudged < len(nudgesAfter) && late > nudgesAfter[nudged].after {
				nudged++
				return r.nudge(ctx, t, ties, nudged)
			}
			return nil
		})
		pending := slices.ContainsFunc(ties, func(t Tie) bool { return !t.State.Good() && t.State != ToType })
		if err != nil || !pending || r.Site.Now().Sub(begun) > FareLimit {
			return ties, err
		}
		r.rest()
		r.tell(StepFare, "waiting until it is connected")
		stop := r.clock(StepFare)
		err = r.Site.Pause(ctx)
		stop()
		if err != nil {
			return nil, err
		}
	}
}

// learnShown takes what a recorder shows of a channel that was set in this run, and that does
// what it is for, for how it shows it; one that plays something else says so.
func (r *run) learnShown(ties []Tie) {
	for i := range ties {
		t := &ties[i]
		if shown := t.Shows; shown != nil && t.OnlyCalled && t.State.Good() && r.mended[t.Link.Name()] {
			t.Set, t.Link.Shown = true, shown
		}
	}
}

// nudge sets links once more that do not do what they are for, for the first time or a later one.
func (r *run) nudge(ctx context.Context, t *Talk, ties []Tie, nth int) error {
	for i := range ties {
		switch t := &ties[i]; {
		case t.Link.Step == StepPair && !t.State.Good() && t.State != ToType && nth == 1:
		case t.Link.Step == StepChannel && t.State == Waiting:
			// The camera opens by the keyring's password, and the recorder does not say why it
			// is not connected: it may have another, or the pictures do not come that way.
			t.Link.Datagrams = nudgesAfter[nth-1].otherwise
		default:
			continue // what was told stands: it is the other side that fails
		}
		if err := r.setLink(ctx, t, ties[i]); err != nil && (!denied(err) || ctx.Err() != nil) {
			return err
		}
	}
	return nil
}
