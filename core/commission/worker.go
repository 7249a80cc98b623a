package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/device"
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
	maxPasses    = 4                // readings until nothing differs
	maxBreaks    = 8                // conversations that broke off and were taken up again
)

// Worker commissions devices, one per call of Run.
type Worker struct {
	Site     Site
	Journal  Journal
	Attempts Attempts
	Place    *Places
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
		Worker: w, plan: p, at: p.From, refused: map[Step]refusal{}, taken: map[Step]int{}, given: map[string]bool{}, repowered: map[string]bool{}, renews: p.Renewing,
		result: Result{Plan: p, Spent: map[Step]time.Duration{}},
	}
	r.plan.Users = slices.Clone(p.Users)
	begun := w.Site.Now()
	var err error
	if p.Stop != nil {
		err = p.Stop
	} else {
		inside, cancel := context.WithCancel(ctx) // ends a probe that nobody waits for any more
		err = work(r, inside)
		cancel()
		r.close()
		err = NoteLocked(ctx, w.Attempts, p, err)
	}
	r.result.Took = w.Site.Now().Sub(begun)
	var t *Trouble
	var alarm *AlarmError
	if errors.As(err, &alarm) {
		r.result.Alarm = alarm.Why
	}
	switch {
	case err == nil:
		r.result.Status = Done
	case ctx.Err() != nil && len(r.result.Writes) == 0:
		r.result.Status = NotTried
		r.result.Reason, r.result.Next = "interrupted before anything was written", "run `janustat commission` again"
	case ctx.Err() != nil:
		r.result.Status = NeedsYou
		r.result.Reason, r.result.Next = "interrupted", "run `janustat commission` again: it goes on from here"
	case errors.As(err, &t):
		r.result.Status, r.result.Reason, r.result.Next = NeedsYou, err.Error(), t.Next
	default:
		r.result.Status, r.result.Reason, r.result.Next = NeedsYou, err.Error(), "run `janustat commission` again; if it repeats, look at the device's own page"
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
	claim   Claim
	spoken  bool       // there was a session before
	entered bool       // the session carries the password
	tried   bool       // so was whether it has an administrator
	keyed   bool       // its first password was set in this run
	sure    Credential // known in this run to open it
	refused map[Step]refusal
	taken   map[Step]int // how often it has taken a setting
	left    []Step       // due in this pass, after the one that is being written
	phase   int          // grows when it was moved or restarted
	// What became of its address: it has taken it, it was restarted after that, it stayed
	// where it was when told to go, and was waited for then.
	addressed, restarted, stayed, waited bool

	deferred error           // trouble that the rest did not wait for
	given    map[string]bool // further users given a password in this run that has not opened it yet
	found    Found
	result   Result
	detail   string // of the write under way, for the journal
	unknown  bool   // of the last pass: whether a write was carried out
	denied   bool   // the last write was refused by the device itself, and that is recorded
	mayKey   bool   // this command may give a fresh device its first password
	renews   bool   // it may have made itself another certificate, since this run or the last sent what some do that at
	// repowered are the settings for which a person has powered it off and on already.
	repowered map[string]bool
	inside    time.Duration // of steps done inside the one that is being timed
	window    string        // the write that was refused for want of a settings window
}

// Change gives one device another password: plan.Replace, which is on the
// keyring, in the place of plan.Password. Nothing else is written. The result's
// Key tells which of the two the device has now, where that is known.
func (w Worker) Change(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, (*run).change)
}

// ChangeUsers gives the further users of one device that are not Made their level
// and password. Nothing else is written.
func (w Worker) ChangeUsers(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		return r.steadily(ctx, func() (err error) {
			if r.found, err = r.meet(ctx); err != nil {
				return err
			}
			if err := r.users(ctx); err != nil {
				return err
			}
			return r.usersOpen(ctx)
		})
	})
}

// Restart restarts one device and waits until it is back.
func (w Worker) Restart(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		if _, err := r.meet(ctx); err != nil {
			return err
		}
		if err := r.restart(ctx, false, "as asked for"); !errors.Is(err, errMoved) {
			return err
		}
		return nil
	})
}

// Reset puts one device back into its factory state. It is not waited for: it
// comes back at another address, fresh.
func (w Worker) Reset(ctx context.Context, p Plan) Result {
	return w.carry(ctx, p, func(r *run, ctx context.Context) error {
		if _, err := r.meet(ctx); err != nil {
			return err
		}
		err := r.do(ctx, Write{Step: StepReset, Intent: "to the factory state"}, func() error { return r.session.Reset(ctx) })
		switch {
		case err == nil:
			r.result.Reset = OutcomeDone
			return nil
		case errors.Is(err, ErrReplyLost):
			r.result.Reset = OutcomeUnknown
			return r.afterReset(ctx)
		}
		return err
	})
}

// afterReset looks what became of a device whose answer to a reset was lost.
func (r *run) afterReset(ctx context.Context) error {
	lost := trouble(nil, fmt.Sprintf("run `janustat survey`: if it is there as it was, reset it again; if it is fresh, `janustat restore %s` brings it back", r.plan.Tag),
		"did not answer when it was reset: whether it was is not known")
	if err := r.find(ctx, StepReturn, ResetLimit); err != nil {
		return lost // gone from its address, as a reset device is, and as one without power is
	}
	if err := r.open(ctx); err != nil {
		return lost
	}
	switch access, err := r.session.Access(ctx); {
	case err != nil:
		return lost
	case access == device.Fresh:
		r.result.Reset = OutcomeDone
		return nil
	}
	r.result.Reset = OutcomeRefused
	return trouble(nil, "run `janustat reset` again", "did not answer when it was reset, and is as it was")
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

func (r *run) change(ctx context.Context) error {
	return r.steadily(ctx, func() error {
		if _, err := r.meet(ctx); err != nil {
			return err
		}
		if r.result.Key.Origin == FromChange {
			return nil // this run or an earlier one had got that far
		}
		return r.rekey(ctx, r.result.Key, "the password of "+r.plan.User)
	})
}

func (r *run) all(ctx context.Context) error {
	r.mayKey = true
	subnet := netip.PrefixFrom(r.plan.Target.Address, r.plan.Target.Prefix)
	if err := ground.Check(subnet, r.plan.Target.Address, r.plan.Target.Gateway); err != nil {
		return trouble(err, "correct the job sheet and run `janustat allot` again", "refused before anything was sent")
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
	for pass, breaks := 0, 0; pass < maxPasses; {
		done, err := r.pass(ctx, pass == 0)
		switch {
		case errors.Is(err, ErrWindow) && ctx.Err() == nil:
			if r.repowered[r.window] {
				return trouble(err, "look at the device's own page: it may want more than power for that", "takes no settings even right after power-on ("+r.window+")")
			}
			r.repowered[r.window] = true
			if err := r.awaitPower(ctx); err != nil {
				return err
			}
			continue // what was refused for want of a window counts as no pass
		case errors.Is(err, ErrReplyLost) && breaks < maxBreaks && ctx.Err() == nil:
			// It fell silent in the middle, or restarts by itself: take it up where it is.
			breaks++
			if err := r.find(ctx, StepFind, ReturnLimit); err != nil {
				return err
			}
			continue
		case done || err != nil:
			return err
		}
		// A write that got lost says nothing of whether the device keeps what it takes.
		if r.unknown && breaks < maxBreaks {
			breaks++
			continue
		}
		pass++
	}
	return trouble(nil, "look at the device's own page: it takes settings and does not keep them", "the device does not keep its settings")
}

// pass reads the device and writes what differs. It is done when nothing did.
func (r *run) pass(ctx context.Context, first bool) (done bool, err error) {
	r.unknown = false
	found, err := r.read(ctx)
	if err != nil {
		return false, err
	}
	r.found = found
	if first {
		if err := r.Journal.Found(ctx, r.plan, found); err != nil {
			return false, fmt.Errorf("register as found: %w", err)
		}
	}
	if err := r.checkLease(found); err != nil {
		return false, err
	}
	due := Decide(r.plan, found)
	if r.addressed && !r.plan.Target.DHCP && r.at != r.plan.Target.Address {
		// It has taken its address before, and is still where it was.
		if done, err := r.stay(ctx); done || err != nil {
			return false, err
		}
	}
	due = slices.DeleteFunc(due, r.stands)
	if len(due) == 0 {
		if err := r.verify(ctx, found); err != nil {
			return true, err
		}
		return true, r.deferred
	}
	return false, r.write(ctx, due)
}

// awaitPower waits until a person has powered the device off and on.
func (r *run) awaitPower(ctx context.Context) error {
	r.close()
	r.tell(StepPower, "power it off and on: it takes settings only for a while after that")
	defer r.clock(StepPower)()
	places := r.places()
	ctx, cancel := context.WithTimeoutCause(ctx, r.HandLimit, errors.New("it was not powered off and on"))
	defer cancel()
	at, err := r.Site.Repowered(ctx, r.plan, r.at, places)
	if err != nil {
		return trouble(err, "power it off and on, and run `janustat commission` again at once", "takes settings only for a while after power-on, and that is over")
	}
	r.at, r.result.At = at, at
	return nil
}

// places are where the device may be: its new address, and where it was met.
func (r *run) places() []netip.Addr {
	places := []netip.Addr{r.plan.Target.Address}
	for _, a := range []netip.Addr{r.plan.From, r.at} {
		if a.IsValid() && !slices.Contains(places, a) {
			places = append(places, a)
		}
	}
	return places
}

// arrive makes ready to speak in the device's old and new subnets.
func (r *run) arrive(ctx context.Context) error {
	r.tell(StepVisit, "taking a visitor address in its subnet")
	defer r.clock(StepVisit)()
	if err := r.tethered(ctx, func() error { return r.Site.Arrive(ctx, r.plan) }); err != nil {
		return trouble(err, "run `janustat survey`, then `janustat commission` again", "its subnet cannot be visited")
	}
	return nil
}

// find meets the device at its new or its old address.
func (r *run) find(ctx context.Context, step Step, limit time.Duration) error {
	r.close()
	if err := ctx.Err(); err != nil {
		return err
	}
	what := "looking for it"
	if step == StepReturn {
		what = "waiting for it to come back"
	}
	r.tell(step, what)
	defer r.clock(step)()
	places := r.places()
	var at netip.Addr
	err := r.tethered(ctx, func() (err error) {
		ctx, cancel := context.WithTimeoutCause(ctx, limit, errors.New("no answer"))
		defer cancel()
		if step == StepReturn {
			at, r.stayed, err = r.Site.Return(ctx, r.plan, r.at, places)
		} else {
			at, err = r.Site.Find(ctx, r.plan, places)
		}
		return err
	})
	if err != nil {
		next := "check its cable and power, run `janustat survey`, then `janustat commission` again"
		if !r.plan.From.IsValid() {
			next = "it had no address when last seen: `janustat lease` gives it the allotted one, then run `janustat commission` again"
		}
		return trouble(err, next, fmt.Sprintf("does not answer at %s", join(places)))
	}
	r.at, r.result.At = at, at
	return nil
}

// tethered does what may fail because the laptop's own link is gone: that is no fault of
// the device, and it is done again once the link is back.
func (r *run) tethered(ctx context.Context, what func() error) error {
	for tries := 0; ; tries++ {
		begun := r.Site.Now()
		err := what()
		if err == nil || ctx.Err() != nil || tries == maxBreaks {
			return err
		}
		again, werr := r.Site.Tethered(ctx, begun)
		if werr != nil || !again {
			return err
		}
	}
}

func join(places []netip.Addr) string {
	text := ""
	for i, a := range places {
		if i > 0 {
			text += " or "
		}
		text += a.String()
	}
	return text
}

// open makes sure of a place and a conversation.
func (r *run) open(ctx context.Context) error {
	if r.session != nil {
		return nil
	}
	if err := r.hold(ctx); err != nil {
		return err
	}
	defer r.clock(StepOpen)()
	var s Session
	begun := r.Site.Now()
	err := r.tethered(ctx, func() (err error) {
		for {
			if s, err = r.Site.Open(ctx, r.plan, r.at); err != nil && r.elsewhere(ctx) {
				s, err = r.Site.Open(ctx, r.plan, r.at)
			}
			// One that was spoken with before has a service: it may come up minutes after
			// the device answers by ARP.
			if err == nil || !r.spoken || ctx.Err() != nil || r.Site.Now().Sub(begun) > ServiceLimit {
				return err
			}
		}
	})
	if err != nil {
		next := "run `janustat commission` again; if it repeats, power the device off and on"
		if r.plan.TLS != nil {
			next = "run `janustat survey`, which looks whether it still offers HTTPS, then `janustat commission` again"
		}
		return trouble(err, next, fmt.Sprintf("cannot be reached at %s", r.at))
	}
	r.session, r.entered, r.spoken = s, false, true
	return nil
}

// elsewhere looks whether a device that does not answer where it was met has moved
// since: one may restart by itself, and take up its new address with that.
func (r *run) elsewhere(ctx context.Context) bool {
	ctx, cancel := context.WithTimeoutCause(ctx, FindLimit, errors.New("no answer"))
	defer cancel()
	at, err := r.Site.Find(ctx, r.plan, r.places())
	if err != nil || at == r.at {
		return false
	}
	r.at, r.result.At = at, at
	return true
}

func (r *run) hold(ctx context.Context) error {
	if r.held {
		return nil
	}
	defer r.clock(StepTurn)()
	if err := r.Place.Take(ctx); err != nil {
		return err
	}
	r.held = true
	return nil
}

// close ends the conversation and gives the place back.
func (r *run) close() {
	if r.session != nil {
		r.session.Close()
		r.session = nil
	}
	r.rest()
}

// rest gives the place back while nothing is being said.
func (r *run) rest() {
	if r.held {
		r.Place.Give()
		r.held = false
	}
}

// read opens the device with its password, setting it first where it is fresh,
// and reads everything.
func (r *run) read(ctx context.Context) (Found, error) {
	if err := r.open(ctx); err != nil {
		return Found{}, err
	}
	if err := r.enter(ctx); err != nil {
		return Found{}, err
	}
	defer r.clock(StepRead)()
	found, err := r.session.Read(ctx)
	if err != nil {
		return Found{}, trouble(err, "run `janustat commission` again", "its settings cannot be read")
	}
	if err := r.identify(found); err != nil {
		return Found{}, err
	}
	if r.plan.Serial == "" && r.plan.NameBySerial != nil {
		if name := r.plan.NameBySerial(found.Serial); name != "" {
			r.plan.Target.Name = name
		}
	}
	return found, nil
}

// identify makes sure that it is the planned device that answers.
func (r *run) identify(f Found) error {
	if r.plan.Serial != "" && f.Serial != "" && f.Serial != r.plan.Serial {
		return trouble(nil, "run `janustat survey` and look at both devices",
			fmt.Sprintf("another device answers at %s: serial %s, not %s", r.at, f.Serial, r.plan.Serial))
	}
	return nil
}

func (r *run) tell(s Step, text string) {
	if r.Watch != nil {
		r.Watch(r.plan, s, text)
	}
}

// clock adds the time until the returned function is called to a step. Where a step
// is done inside another, its time is not the other's.
func (r *run) clock(s Step) func() {
	begun, inside := r.Site.Now(), r.inside
	r.inside = 0
	return func() {
		took := r.Site.Now().Sub(begun)
		r.result.Spent[s] += took - r.inside
		r.inside = inside + took
	}
}
