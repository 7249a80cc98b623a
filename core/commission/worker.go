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
)

// Limits on waiting and repeating. Devices restart in half a minute as a rule;
// recorders with large disks take several.
const (
	FindLimit   = 8 * time.Second // a device that is there answers within this
	ReturnLimit = 4 * time.Minute // a restart
	maxPasses   = 4               // readings until nothing differs
)

// Worker commissions devices, one per call of Run.
type Worker struct {
	Site     Site
	Journal  Journal
	Attempts Attempts
	Place    *Places
	// Watch is told of each step as it begins; it may be nil.
	Watch func(p Plan, s Step, text string)
}

// Run carries one device through its steps and never panics or returns early
// with a conversation open. It is safe to call it again after any interruption.
func (w Worker) Run(ctx context.Context, p Plan) Result {
	r := &run{Worker: w, plan: p, at: p.From, result: Result{Plan: p, Spent: map[Step]time.Duration{}}}
	inside, cancel := context.WithCancel(ctx) // ends a probe that nobody waits for any more
	err := r.all(inside)
	cancel()
	r.close()
	var t *Trouble
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
	return r.result
}

type run struct {
	Worker
	plan    Plan
	at      netip.Addr // where the device is now
	session Session
	held    bool // has a place
	claim   Claim
	entered bool // the session carries the password
	result  Result
}

func (r *run) all(ctx context.Context) error {
	subnet := netip.PrefixFrom(r.plan.Target.Address, r.plan.Target.Prefix)
	if err := ground.Check(subnet, r.plan.Target.Address, r.plan.Target.Gateway); err != nil {
		return trouble(err, "correct the job sheet and run `janustat allot` again", "refused before anything was sent")
	}
	if r.plan.From != r.plan.Target.Address {
		r.claim = r.Site.Claim(ctx, r.plan)
	}
	if err := r.arrive(ctx); err != nil {
		return err
	}
	if err := r.find(ctx, StepFind, FindLimit); err != nil {
		return err
	}
	for pass := range maxPasses {
		found, err := r.read(ctx)
		if err != nil {
			return err
		}
		if pass == 0 {
			if err := r.Journal.Found(ctx, r.plan, found); err != nil {
				return fmt.Errorf("register as found: %w", err)
			}
		}
		steps := Decide(r.plan, found)
		if len(steps) == 0 {
			return r.verify(ctx, found)
		}
		if err := r.write(ctx, steps); err != nil {
			return err
		}
	}
	return trouble(nil, "look at the device's own page: it takes settings and does not keep them", "the device does not keep its settings")
}

// arrive makes ready to speak in the device's old and new subnets.
func (r *run) arrive(ctx context.Context) error {
	r.tell(StepVisit, "taking a visitor address in its subnet")
	defer r.clock(StepVisit)()
	if err := r.Site.Arrive(ctx, r.plan); err != nil {
		return trouble(err, "run `janustat survey`, then `janustat commission` again", "its subnet cannot be visited")
	}
	return nil
}

// find meets the device at its new or its old address.
func (r *run) find(ctx context.Context, step Step, limit time.Duration) error {
	r.close()
	text := "looking for it"
	if step == StepReturn {
		text = "waiting for it to come back"
	}
	r.tell(step, text)
	defer r.clock(step)()
	places := slices.Compact([]netip.Addr{r.plan.Target.Address, r.plan.From})
	if r.at.IsValid() && !slices.Contains(places, r.at) {
		places = append(places, r.at)
	}
	ctx, cancel := context.WithTimeoutCause(ctx, limit, errors.New("no answer"))
	defer cancel()
	var at netip.Addr
	var err error
	if step == StepReturn {
		at, err = r.Site.Return(ctx, r.plan, r.at, places)
	} else {
		at, err = r.Site.Find(ctx, r.plan, places)
	}
	if err != nil {
		return trouble(err, "check its cable and power, run `janustat survey`, then `janustat commission` again",
			fmt.Sprintf("does not answer at %s", join(places)))
	}
	r.at, r.result.At = at, at
	return nil
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
	s, err := r.Site.Open(ctx, r.plan, r.at)
	if err != nil {
		return trouble(err, "run `janustat commission` again; if it repeats, power the device off and on", fmt.Sprintf("cannot be reached at %s", r.at))
	}
	r.session, r.entered = s, false
	return nil
}

func (r *run) hold(ctx context.Context) error {
	if r.held {
		return nil
	}
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

func (r *run) enter(ctx context.Context) error {
	if r.entered {
		return nil
	}
	if err := r.ensureKeyed(ctx); err != nil {
		return err
	}
	if r.plan.Password.IsZero() {
		return trouble(nil, fmt.Sprintf("put its password on the keyring (`janustat key set %s`), or reset the device by its maker's steps", r.plan.Tag),
			"is sealed, and the keyring has no password for it")
	}
	wait, err := r.Attempts.Spend(ctx, r.plan)
	if err != nil {
		return fmt.Errorf("register the password try: %w", err)
	}
	if wait > 0 {
		return trouble(nil, fmt.Sprintf("wait %s, or put the right password on the keyring: `janustat key set %s`", wait.Round(time.Minute), r.plan.Tag),
			"the budget of password tries is spent")
	}
	ok, err := r.session.Enter(ctx, r.plan.User, r.plan.Password)
	if err != nil {
		return trouble(err, "run `janustat commission` again", "did not answer to its password")
	}
	if !ok {
		return trouble(nil, fmt.Sprintf("put its password on the keyring (`janustat key set %s`), or reset the device by its maker's steps", r.plan.Tag),
			"is sealed: the keyring's password does not open it")
	}
	r.entered, r.result.Opened = true, true
	return r.Attempts.Opened(ctx, r.plan)
}

// ensureKeyed gives a fresh device its first password. When the reply is lost,
// whether it has one is asked again.
func (r *run) ensureKeyed(ctx context.Context) error {
	const tries = 3
	for range tries {
		access, err := r.session.Access(ctx)
		if err != nil {
			return trouble(err, "run `janustat commission` again", "does not say whether it has a password")
		}
		if access != device.Fresh {
			return nil
		}
		if r.plan.Password.IsZero() {
			return trouble(nil, "run `janustat survey`, then `janustat commission` again", "was sealed and is fresh now")
		}
		if err := r.key(ctx); err != nil && !errors.Is(err, ErrReplyLost) {
			return err
		}
	}
	return trouble(nil, "power it off and on, then run `janustat commission` again", "does not answer when given its first password")
}

// key creates the administrator on a fresh device.
func (r *run) key(ctx context.Context) error {
	rules, err := r.session.Rules(ctx)
	if err != nil {
		return trouble(err, "run `janustat commission` again", "does not tell its password rules")
	}
	if rules != nil {
		if err := rules.Judge(r.plan.Password, r.plan.User); err != nil {
			return trouble(err, "give a password that fits: `janustat key set`, or let one be generated: `janustat key generate`",
				"refuses the site password by its published rules")
		}
	}
	return r.do(ctx, StepKey, "administrator "+r.plan.User, func() error {
		return r.session.CreateAdministrator(ctx, r.plan.User, r.plan.Password)
	})
}

// write carries out the steps of one pass. Address and gateway come last; a
// device that moves at once gets its gateway in the next pass.
func (r *run) write(ctx context.Context, steps []Step) error {
	moved := false
	for _, s := range steps {
		var err error
		switch s {
		case StepClock:
			err = r.do(ctx, s, "UTC now", func() error { return r.session.SetClock(ctx) })
		case StepName:
			err = r.do(ctx, s, r.plan.Target.Name, func() error { return r.session.SetName(ctx, r.plan.Target.Name) })
		case StepAddress:
			var restart bool
			if restart, err = r.address(ctx); err == nil {
				if restart {
					return r.restart(ctx, slices.Contains(steps, StepGateway))
				}
				moved = true
			}
		case StepGateway:
			if moved {
				continue
			}
			err = r.gateway(ctx)
		}
		if err != nil && !errors.Is(err, ErrReplyLost) {
			return err
		}
		if err != nil || moved {
			// Unknown or moved: either way, look in both places.
			if err := r.find(ctx, StepReturn, ReturnLimit); err != nil {
				return err
			}
			return nil
		}
	}
	return nil
}

func (r *run) gateway(ctx context.Context) error {
	g := r.plan.Target.Gateway
	return r.do(ctx, StepGateway, g.String(), func() error { return r.session.SetGateway(ctx, g) })
}

// address gives the device its address once the probe has found it free.
func (r *run) address(ctx context.Context) (restart bool, err error) {
	if err := r.awaitClaim(ctx); err != nil {
		return false, err
	}
	t := r.plan.Target
	err = r.do(ctx, StepAddress, fmt.Sprintf("%s/%d, DHCP off", t.Address, t.Prefix), func() error {
		restart, err = r.session.SetAddress(ctx, t)
		return err
	})
	return restart, err
}

func (r *run) awaitClaim(ctx context.Context) error {
	if r.claim == nil {
		r.claim = r.Site.Claim(ctx, r.plan)
	}
	r.tell(StepProbe, "is "+r.plan.Target.Address.String()+" free?")
	r.rest() // others may speak while this one waits
	stop := r.clock(StepProbe)
	err := r.claim.Wait(ctx)
	stop()
	r.claim = nil // a later pass probes anew
	if err != nil {
		return trouble(err, "find out what has the address, then run `janustat survey` and `janustat allot --again "+r.plan.Tag+"`",
			"its allotted address is not free")
	}
	return r.hold(ctx)
}

// restart restarts a device that has taken an address, setting the gateway
// first. A refused gateway is tried again after the restart, since devices may
// refuse one outside the subnet they are still on.
func (r *run) restart(ctx context.Context, withGateway bool) error {
	if withGateway {
		if err := r.gateway(ctx); err != nil && ctx.Err() != nil {
			return err
		}
	}
	err := r.do(ctx, StepRestart, "to use the new address", func() error { return r.session.Restart(ctx) })
	if err != nil && !errors.Is(err, ErrReplyLost) {
		return err
	}
	return r.find(ctx, StepReturn, ReturnLimit)
}

func (r *run) verify(ctx context.Context, f Found) error {
	r.tell(StepVerify, "reading back")
	defer r.clock(StepVerify)()
	if len(f.MACs) > 0 && !slices.Contains(f.MACs, r.plan.MAC) {
		return trouble(nil, "run `janustat survey` and look at both devices", fmt.Sprintf("another device answers at %s", r.at))
	}
	refused, err := r.session.RefusesAnonymous(ctx)
	if err != nil {
		return trouble(err, "run `janustat prove`", "could not be asked without its password")
	}
	if !refused {
		return trouble(nil, "switch anonymous access off on the device's own page, then run `janustat prove`", "still lets anyone in without a password")
	}
	r.result.Left = f
	return r.Journal.Left(ctx, r.plan, f)
}

// do journals and carries out one write.
func (r *run) do(ctx context.Context, s Step, intent string, write func() error) error {
	r.tell(s, intent)
	defer r.clock(s)()
	id, err := r.Journal.Begin(ctx, r.plan, s, intent)
	if err != nil {
		return trouble(err, "free some disk space, then run `janustat commission` again", "the register cannot be written, so nothing was sent")
	}
	r.result.Writes = append(r.result.Writes, s)
	err = write()
	outcome, detail := "done", ""
	switch {
	case errors.Is(err, ErrReplyLost):
		outcome, detail = "unknown", err.Error()
	case err != nil:
		outcome, detail = "refused", err.Error()
	}
	// The outcome is recorded even when the run is being stopped.
	if jerr := r.Journal.End(context.WithoutCancel(ctx), id, outcome, detail); jerr != nil {
		return errors.Join(err, fmt.Errorf("register the outcome: %w", jerr))
	}
	if err != nil && outcome == "refused" {
		return trouble(err, "look at the device's own page, then run `janustat commission` again", fmt.Sprintf("refuses its %s (%s)", s, intent))
	}
	return err
}

func (r *run) tell(s Step, text string) {
	if r.Watch != nil {
		r.Watch(r.plan, s, text)
	}
}

// clock adds the time until the returned function is called to a step.
func (r *run) clock(s Step) func() {
	begun := r.Site.Now()
	return func() { r.result.Spent[s] += r.Site.Now().Sub(begun) }
}
