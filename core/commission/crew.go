package commission

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"janustat/core/advice"
)

// Places bounds the conversations held at once. A device that is restarting,
// or whose address is being probed, holds none. They are given in the order asked for.
type Places struct {
	mu      sync.Mutex
	size    int
	taken   int
	waiting []chan struct{} // each closed when its place is there
}

// NewPlaces makes n places, at least one.
func NewPlaces(n int) *Places { return &Places{size: max(n, 1)} }

// Take waits for a place.
func (p *Places) Take(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	p.mu.Lock()
	if p.taken < p.size {
		p.taken++
		p.mu.Unlock()
		return nil
	}
	mine := make(chan struct{})
	p.waiting = append(p.waiting, mine)
	p.mu.Unlock()
	select {
	case <-mine:
		return nil
	case <-ctx.Done():
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	at := slices.Index(p.waiting, mine)
	if at < 0 { // it has come in the same moment, and is the next one's
		p.taken--
		p.admit()
		return ctx.Err()
	}
	p.waiting = slices.Delete(p.waiting, at, at+1)
	return ctx.Err()
}

// Give returns a place taken.
func (p *Places) Give() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.taken--
	p.admit()
}

// Resize makes it n places, at least one. Who has one beyond that keeps it until it is given back.
func (p *Places) Resize(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.size = max(n, 1)
	p.admit()
}

// Load gives how many places there are, and how many wait for one.
func (p *Places) Load() (size, waiting int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.size, len(p.waiting)
}

// admit gives free places to those who wait. The lock is held.
func (p *Places) admit() {
	for p.taken < p.size && len(p.waiting) > 0 {
		close(p.waiting[0])
		p.waiting = p.waiting[1:]
		p.taken++
	}
}

// RunAll commissions every plan and returns the results in the order of the
// plans. spawn runs a function beside the others, as a goroutine does; done,
// which may be nil, is told of each result as it comes.
func RunAll(ctx context.Context, w Worker, plans []Plan, spawn func(func()), done func(Result)) []Result {
	w.Board, w.Pilots = NewBoard(plans), NewPilots(plans)
	return Each(plans, spawn, done, func(p Plan) Result { return w.Run(ctx, p) })
}

// MaxLock is how long a run waits at most for devices that have locked themselves.
const MaxLock = 10 * time.Minute

// MayUnlock reports whether a device that did not open may be one that its recorder has locked, by
// going on with an old password.
func (r *Result) MayUnlock() bool {
	return r.Plan.Watched != "" && r.Status == NeedsYou && !r.Opened && r.Alarm == ""
}

// Unlocks reports whether such a device is worth another try in this run, once it has unlocked
// itself: by then its recorder has the right password. What does not say for how long yet, or
// says more than MaxLock, is left to the next run. Nothing hangs on that word but the wait.
func (r *Result) Unlocks() bool { return r.MayUnlock() && r.Locked > 0 && r.Locked <= MaxLock }

// BlameHammers names, of the results of a run, the recorders that tried an old password on
// devices which then refused their own: most lock themselves for that, and few say so.
func BlameHammers(all []Result) {
	for i := range all {
		r := &all[i]
		if !r.MayUnlock() || r.Locked > 0 {
			continue
		}
		for _, by := range all {
			if slices.Contains(by.Hammered, r.Plan.ID) {
				r.Reason = fmt.Sprintf("refuses its own password, and %s went on with another one there: most devices lock themselves for that. %[1]s has the right one now", by.Plan.Tag)
				r.Next = advice.Say("leave it alone for half an hour, then run %s again", advice.Commission)
			}
		}
	}
}

// ChangeAll changes the password of every device, as RunAll commissions them.
func ChangeAll(ctx context.Context, w Worker, plans []Plan, spawn func(func()), done func(Result)) []Result {
	return Each(plans, spawn, done, func(p Plan) Result { return w.Change(ctx, p) })
}

// ChangeUsersAll changes further users of every device, as RunAll commissions them.
func ChangeUsersAll(ctx context.Context, w Worker, plans []Plan, spawn func(func()), done func(Result)) []Result {
	return Each(plans, spawn, done, func(p Plan) Result { return w.ChangeUsers(ctx, p) })
}

// Each does work on every plan, side by side, and keeps the order. done is called from one
// goroutine, as each ends.
func Each(plans []Plan, spawn func(func()), done func(Result), work func(Plan) Result) []Result {
	type item struct {
		at int
		r  Result
	}
	results := make(chan item)
	for i, p := range plans {
		spawn(func() { results <- item{i, work(p)} })
	}
	out := make([]Result, len(plans))
	for range plans {
		it := <-results
		out[it.at] = it.r
		if done != nil {
			done(it.r)
		}
	}
	return out
}
