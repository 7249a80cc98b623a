package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/advice"
	"janustat/core/ground"
	"janustat/core/text"
)

// Limits on waiting and repeating. Devices restart in half a minute as a rule;
// recorders with large disks take several.
const (
	FindLimit   = 8 * time.Second // a device that is there answers within this
	ReturnLimit = 4 * time.Minute // a restart
	// ServiceLimit is how long a device that has restarted may answer without its service.
	ServiceLimit = 3 * time.Minute
	ResetLimit   = 40 * time.Second // to turn up where it was, after a reset whose answer was lost
	// TalkLimit is how long a device may be spoken with in all, in one run: one that stalls over
	// every answer takes no more of the evening, nor of the places of others.
	TalkLimit = 8 * time.Minute
)

// Worker commissions devices, one per call of Run.
type Worker struct {
	Site     Site
	Journal  Journal
	Attempts Attempts
	Place    *Places
	// Board is where devices of one run tell each other how far they are; nil without others.
	Board *Board
	// Pilots are who goes first of each model; nil without others.
	Pilots *Pilots
	// Learnt takes down what was learnt of a device's keys, before anything more is written
	// to it; it may be nil.
	Learnt func(Result) error
	// Talk is how long a device may be spoken with in all; 0 is TalkLimit.
	Talk time.Duration
	// HandLimit is how long to wait for what a person types into a device.
	HandLimit time.Duration
	// Watch is told of each step as it begins; it may be nil.
	Watch func(p Plan, s Step, text string)
}

// Run carries one device through its steps and never panics or returns early
// with a conversation open. It is safe to call it again after any interruption.
func (w Worker) Run(ctx context.Context, p Plan) Result { return w.carry(ctx, p, (*run).all) }

func (w Worker) carry(ctx context.Context, p Plan, work func(*run, context.Context) error) Result {
	r := &run{
		Worker: w, plan: p, at: p.From, refused: map[Step]refusal{}, taken: map[Step]int{}, once: map[Step]bool{}, opened: map[Step]bool{}, maybeMade: map[string]bool{}, given: map[string]bool{}, repowered: map[string]bool{}, mended: map[string]bool{}, renews: p.Renewing && !p.Certified,
		result: Result{Plan: p, Spent: map[Step]time.Duration{}},
	}
	r.plan.Users = slices.Clone(p.Users)
	begun := w.Site.Now()
	var err error
	if p.Stop != nil {
		err = p.Stop
	} else {
		inside, cancel := context.WithCancelCause(ctx) // ends a probe that nobody waits for any more
		r.patience = patience{left: w.talkLimit(), end: func() { cancel(errTalk) }}
		err = work(r, inside)
		r.close()
		if ctx.Err() == nil && errors.Is(context.Cause(inside), errTalk) {
			err = trouble(err, advice.Say("run %s again: it goes on from here. If it repeats, power the device off and on first", advice.Commission),
				fmt.Sprintf("took more than %s over its answers", w.talkLimit()))
		}
		cancel(nil)
		err = NoteLocked(ctx, w.Attempts, p, err)
	}
	w.Board.finish(p.ID, err)
	w.Pilots.end(p, r.result.Opened && r.shows(), (r.result.Sent || p.Unconfirmed) && !r.result.Opened, 0)
	r.result.Took = w.Site.Now().Sub(begun)
	var t *Trouble
	var alarm *AlarmError
	if errors.As(err, &alarm) {
		r.result.Alarm = alarm.Why
	}
	var locked *LockedError
	if errors.As(err, &locked) {
		r.result.Locked = locked.Wait.Said()
	}
	switch {
	case err == nil:
		r.result.Status = Done
	case ctx.Err() != nil && len(r.result.Writes) == 0:
		r.result.Status = NotTried
		r.result.Reason, r.result.Next = "interrupted before anything was written", advice.Say("run %s again", advice.Commission)
	case ctx.Err() != nil:
		r.result.Status = NeedsYou
		r.result.Reason, r.result.Next = "interrupted", advice.Say("run %s again: it goes on from here", advice.Commission)
	case errors.As(err, &t):
		r.result.Status, r.result.Reason, r.result.Next = NeedsYou, err.Error(), t.Next
	default:
		r.result.Status, r.result.Reason, r.result.Next = NeedsYou, err.Error(), advice.Say("run %s again; if it repeats, look at the device's own page", advice.Commission)
	}
	r.result.Reason = text.Harmless(r.result.Reason, 4*text.Long, nil)
	return r.result
}

type run struct {
	Worker
	plan    Plan
	at      netip.Addr // where the device is now
	session Session
	held    bool // has a place
	patience
	claim   Claim
	playsBy time.Time  // until when its picture may stay away, after what was set
	spoken  bool       // there was a session before
	entered bool       // the session carries the password
	tried   bool       // so was whether it has an administrator
	keyed   bool       // its first password was set in this run
	sure    Credential // known in this run to open it
	refused map[Step]refusal
	taken   map[Step]int  // how often it has taken a setting
	once    map[Step]bool // settings that it does not tell, and that were written all the same
	opened  map[Step]bool // by which it is spoken with, and that it was told before its first password
	left    []Step        // due in this pass, after the one that is being written
	phase   int           // grows when it was moved or restarted
	move    move          // towards its address
	passes  passes        // of reading it and writing what differs
	stayed  bool          // it has been where it was all the time since it was last told to go

	deferred error           // trouble that the rest did not wait for
	given    map[string]bool // further users given a password in this run that has not opened it yet
	found    Found
	result   Result
	detail   string       // of the write under way, for the journal
	unknown  bool         // of the last pass: whether a write was carried out
	noRoom   []string     // what the recorder has no room for
	others   []Tie        // the same, for the record
	strange  []string     // channels that others use, and that were left to them
	also     []netip.Addr // where it may be as well
	mayKey   bool         // this command may give a fresh device its first password
	renews   bool         // it may have made itself another certificate, since this run or the last sent what some do that at
	// repowered are the settings for which a person has powered it off and on already.
	repowered map[string]bool
	maybeMade map[string]bool // further users that it has not confirmed
	mended    map[string]bool // links that were set in this run
	inside    time.Duration   // of steps done inside the one that is being timed
	window    string          // the write that was refused for want of a settings window
}

// meet opens the device where it was last met, and reads it.
func (r *run) meet(ctx context.Context) (Found, error) {
	r.plan.Target.Address = r.plan.From
	if err := r.arrive(ctx); err != nil {
		return Found{}, err
	}
	if err := r.find(ctx, StepFind, FindLimit); err != nil {
		return Found{}, err
	}
	return r.read(ctx)
}

// steadily takes work up again where the device fell silent in the middle of it.
func (r *run) steadily(ctx context.Context, work func() error) error {
	for breaks := 0; ; breaks++ {
		err := work()
		if err == nil || !errors.Is(err, ErrReplyLost) || breaks == maxBreaks || ctx.Err() != nil {
			return err
		}
		if err := r.find(ctx, StepFind, ReturnLimit); err != nil {
			return err
		}
	}
}

func (r *run) all(ctx context.Context) error {
	r.mayKey = true
	subnet := netip.PrefixFrom(r.plan.Target.Address, r.plan.Target.Prefix)
	if err := ground.Check(subnet, r.plan.Target.Address, r.plan.Target.Gateway); err != nil {
		return trouble(err, advice.Say("correct the job sheet and run %s again", advice.Allot), "refused before anything was sent")
	}
	if r.plan.From != r.plan.Target.Address && r.plan.Manner != ByReservation {
		r.claim = r.Site.Claim(ctx, r.plan)
	}
	if err := r.arrive(ctx); err != nil {
		return err
	}
	switch r.plan.Manner {
	case ByHand:
		return r.byHand(ctx)
	case ByReservation:
		return r.byReservation(ctx)
	}
	if err := r.find(ctx, StepFind, FindLimit); err != nil {
		return err
	}
	for r.passes = (passes{}); !r.passes.over(); {
		phase := r.phase
		done, err := r.pass(ctx)
		switch {
		case errors.Is(err, ErrWindow) && ctx.Err() == nil:
			if r.repowered[r.window] {
				return trouble(err, advice.Say("look at the device's own page: it may want more than power for that"), "takes no settings even right after power-on ("+r.window+")")
			}
			r.repowered[r.window] = true
			if err := r.awaitPower(ctx); err != nil {
				return err
			}
			continue // what was refused for want of a window counts as no pass
		case errors.Is(err, ErrReplyLost) && r.passes.broken() && ctx.Err() == nil:
			// It fell silent in the middle, or restarts by itself: take it up where it is.
			r.passes = r.passes.next(passed{broke: true})
			if err := r.find(ctx, StepFind, ReturnLimit); err != nil {
				return err
			}
			continue
		case done || err != nil:
			return err
		}
		r.passes = r.passes.next(passed{moved: r.phase != phase, lost: r.unknown})
	}
	return trouble(nil, advice.Say("look at the device's own page: it takes settings and does not keep them"), "the device does not keep its settings")
}

// pass reads the device and writes what differs. It is done when nothing did.
func (r *run) pass(ctx context.Context) (done bool, err error) {
	r.unknown = false
	found, err := r.read(ctx)
	if err != nil {
		return false, err
	}
	r.found = found
	r.untold(found)
	if r.passes.first() {
		if err := r.Journal.Found(ctx, r.plan, found); err != nil {
			return false, fmt.Errorf("register as found: %w", err)
		}
	}
	if err := r.checkLease(found); err != nil {
		return false, err
	}
	due := Decide(r.plan, found)
	if !r.plan.Target.DHCP && r.at != r.plan.Target.Address {
		// It may have taken its address before, and is still where it was.
		if done, err := r.stay(ctx); done || err != nil {
			return false, err
		}
	}
	due = slices.DeleteFunc(due, func(s Step) bool {
		return r.stands(s) || r.plan.refusedBefore(s, found) || found.Unread[s] && (r.once[s] || r.plan.answeredBefore(s, found))
	})
	r.passes = r.passes.found(len(due))
	if len(due) == 0 {
		if err := r.verify(ctx, found); err != nil {
			return true, err
		}
		if r.deferred != nil {
			return true, r.deferred
		}
		return true, r.join(ctx)
	}
	return false, r.write(ctx, due)
}
