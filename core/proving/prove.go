// Package proving reads devices back and compares them with what they are to be, check by check.
// It writes nothing to them.
package proving

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/checks"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/evidence"
)

// Prover reads devices back and compares them with the register.
type Prover struct {
	Site     commission.Site
	Attempts commission.Attempts
	Place    *commission.Places // held while a device is spoken with
	// Old gives the keys that must not open a device any more and that it has not
	// refused yet; it may be nil.
	Old func(device.MAC) []commission.Credential
	// Words puts what to do next into words; nil is in plain ones.
	Words func(advice.Step) string
}

// Prove checks one device against its plan. Nothing is written to it. Its own
// password is offered first, old ones after that, as far as the budget leaves one
// try for its own at the next time. What went on while the laptop's own link was gone
// says nothing about the device: it is proved again when the link is back.
func (p Prover) Prove(ctx context.Context, d device.Device, plan commission.Plan) Proof {
	for outages := 0; ; outages++ {
		begun := p.Site.Now()
		out := p.proveOnce(ctx, d, plan)
		if again, err := p.Site.Tethered(ctx, begun); !again || err != nil || len(out.offered) > 0 || outages == maxOutages {
			return out
		}
	}
}

// maxOutages is how often a device is proved again for the link's sake.
const maxOutages = 5

func (p Prover) proveOnce(ctx context.Context, d device.Device, plan commission.Plan) Proof {
	out := Proof{Device: d, words: p.Words}
	probeCtx, cancel := context.WithCancel(ctx)
	defer cancel()
	// The probe finds anyone else on the address while the device is read.
	alone := p.Site.Alone(probeCtx, plan)
	read := p.read
	if plan.Manner != commission.ByService {
		read = p.meet
	}
	limit, err := commission.FindLimit, error(nil)
	if p.Place != nil {
		if err := p.Place.Take(ctx); err != nil {
			out.fail(checks.Answers, "at "+plan.Target.Address.String(), err.Error())
			return out
		}
	}
	for range proveTries {
		out.Checks = nil
		// A device may restart by itself in the middle: then it is read once more.
		if err = read(ctx, plan, limit, &out); !errors.Is(err, commission.ErrReplyLost) || ctx.Err() != nil {
			break
		}
		limit = proveReturn
	}
	if p.Place != nil {
		p.Place.Give()
	}
	if err = commission.NoteLocked(ctx, p.Attempts, plan, err); err != nil {
		out.Checks = slices.DeleteFunc(out.Checks, func(c Check) bool { return c.Name == checks.Answers })
		out.fail(checks.Answers, "at "+plan.Target.Address.String(), err.Error())
	}
	switch err := alone.Wait(ctx); {
	case errors.Is(err, commission.ErrInUse):
		out.fail(checks.Alone, "only "+plan.MAC.String(), strings.TrimPrefix(err.Error(), commission.ErrInUse.Error()+": "))
	case err != nil:
		out.fail(checks.Alone, "only "+plan.MAC.String(), "not known: "+err.Error())
	default:
		out.pass(checks.Alone)
	}
	slices.SortStableFunc(out.Checks, func(a, b Check) int { return checks.Order(a.Name) - checks.Order(b.Name) })
	return out
}

// How often a device whose answers stay out is read, and how long it may be away
// in between.
const (
	proveTries  = 3
	proveReturn = time.Minute
)

// read opens the device and compares what it says. An error means that it does
// not answer; every other difference is a check that failed.
func (p Prover) read(ctx context.Context, plan commission.Plan, limit time.Duration, out *Proof) error {
	there := plan
	there.From = plan.Target.Address
	if err := p.Site.Arrive(ctx, there); err != nil {
		return err
	}
	find, cancel := context.WithTimeoutCause(ctx, limit, errors.New("no answer"))
	defer cancel()
	if _, err := p.Site.Find(find, plan, []netip.Addr{plan.Target.Address}); err != nil {
		return err
	}
	s, err := p.Site.Open(ctx, plan, plan.Target.Address)
	var told *commission.Trouble
	if errors.As(err, &told) { // somebody answers, and it is not the device
		out.pass(checks.Answers)
		p.stranger(plan, err, out)
		return nil
	}
	if err != nil {
		return err
	}
	defer s.Close()
	out.pass(checks.Answers)
	access, known, err := p.recognise(ctx, s, plan, out)
	if err != nil || !known {
		return err
	}
	refused, err := s.RefusesAnonymous(ctx)
	if err != nil {
		return err
	}
	out.compare(checks.Closed, refused, "closed to anyone without a password", "open")
	ok, err := p.open(ctx, s, plan, access, out)
	if errors.As(err, &told) {
		p.stranger(plan, err, out)
		return nil
	}
	if err != nil || !ok {
		return err
	}
	if out.Found, err = commission.ReadAll(ctx, s, plan); err != nil {
		return err
	}
	out.Read = true
	if a, ok := s.(commission.Pinned); ok && a.Pin() != "" {
		out.Pins = map[device.Tongue]string{plan.Tongues[0]: a.Pin()}
	}
	if err := p.userKeys(ctx, s, plan, out); err != nil {
		return err
	}
	if err := p.joined(ctx, s, plan, out); err != nil {
		return err
	}
	out.News = append(out.News, changedOf(plan, out.Found)...)
	out.judge(plan)
	return p.oldKeys(ctx, s, plan, out)
}

// recognise makes sure that it is the recorded device before any password is offered to it.
func (p Prover) recognise(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) (access device.Access, known bool, err error) {
	_, err = commission.Recognise(ctx, s, plan, false)
	if err == nil {
		if access, err = s.Access(ctx); err != nil || access != device.Fresh || !plan.Known {
			return access, err == nil, err
		}
		out.Alarm = "it says that it has no password, and was opened by one before"
	} else if errors.Is(err, commission.ErrReplyLost) {
		return access, false, err
	}
	if plan.TLS != nil && s.Certificate() != plan.TLS.Fingerprint {
		out.Alarm = cmp.Or(out.Alarm, alarmOf(err))
		out.fail(checks.Cert, "as surveyed, "+short(plan.TLS.Fingerprint), "another, "+short(s.Certificate()))
		out.notOffered(plan)
		return access, false, nil
	}
	p.stranger(plan, err, out)
	return access, false, nil
}

// alarmOf gives the alarm in an error, "" without one.
func alarmOf(err error) string {
	var alarm *commission.AlarmError
	if errors.As(err, &alarm) {
		return alarm.Why
	}
	return ""
}

// stranger tells that it is not the recorded device that answers.
func (p Prover) stranger(plan commission.Plan, err error, out *Proof) {
	why := out.Alarm
	if err != nil {
		out.Alarm = alarmOf(err)
		why = cmp.Or(out.Alarm, err.Error())
	}
	out.fail(checks.Identity, plan.Serial+" "+plan.MAC.String(), why)
	out.notOffered(plan)
}

// userKeys offers the passwords of the further users that the device has been given.
func (p Prover) userKeys(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) error {
	out.usersLeft = 0
	keeper, ok := s.(commission.UserKeeper)
	if !ok {
		return nil // it has no users beside its administrator
	}
	for _, u := range plan.Users {
		if slices.Contains(out.usersRefused, u.Name) {
			continue // by an earlier reading of this proving
		}
		if !u.Made || u.Password.IsZero() || !slices.ContainsFunc(out.Found.Accounts, func(a commission.Account) bool { return a.Named(u.Name) }) {
			continue
		}
		left, err := p.Attempts.Remaining(ctx, plan)
		if err != nil {
			return err
		}
		if left < 2 { // as with old keys
			out.usersLeft++
			continue
		}
		ok, wait, err := commission.Offer(ctx, p.Attempts, plan, commission.Credential{User: u.Name, Password: u.Password}, keeper.Opens)
		if err != nil || wait > 0 {
			return err
		}
		if !ok {
			out.usersRefused = append(out.usersRefused, u.Name)
		}
	}
	return nil
}

// oldKeys offers keys that must not open the device any more. What it refused
// before is taken at its word.
func (p Prover) oldKeys(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) error {
	if p.Old == nil || plan.Password.IsZero() {
		return nil
	}
	keys := slices.DeleteFunc(p.Old(plan.MAC), func(k commission.Credential) bool { return slices.Contains(out.offered, k) })
	if len(keys) == 0 {
		out.pass(checks.OldKeys)
		return nil
	}
	access, err := s.Access(ctx)
	if err != nil || access == device.Fresh {
		return err
	}
	for i, k := range keys {
		left, err := p.Attempts.Remaining(ctx, plan)
		if err != nil {
			return err
		}
		if left < 2 { // the last one is for its own password at the next time; a later proving goes on
			out.Checks = append(out.Checks, Check{Name: checks.OldKeys, OK: true, Left: len(keys) - i})
			return nil
		}
		ok, wait, err := commission.Offer(ctx, p.Attempts, plan, k, s.Enter)
		if err != nil || wait > 0 {
			return err
		}
		if ok {
			out.fail(checks.OldKeys, "refused", fmt.Sprintf("an %s password of %s still opens it", map[bool]string{true: "old factory", false: "earlier"}[k.Origin == commission.FromFactory], k.User))
			return nil
		}
		out.offered = append(out.offered, k)
		if refused, proven := evidence.Prove(s.Witness(), k); proven {
			out.Refused = append(out.Refused, refused)
		}
	}
	out.pass(checks.OldKeys)
	// Opened once more by its own password, which has just fitted, it forgets the wrong
	// ones. When that fails for another reason than a lock-out, nothing is lost.
	_, err = commission.OfferSure(ctx, p.Attempts, plan, commission.Credential{User: plan.User, Password: plan.Password}, s.Enter)
	var locked *commission.LockedError
	if errors.As(err, &locked) {
		return err
	}
	return nil
}

// meet finds a device that speaks nothing more than ARP at its address. What was
// typed into it beside the address cannot be read back.
func (p Prover) meet(ctx context.Context, plan commission.Plan, limit time.Duration, out *Proof) error {
	find, cancel := context.WithTimeoutCause(ctx, limit+arriveLimit, errors.New("no answer"))
	defer cancel()
	if _, err := p.Site.Find(find, plan, []netip.Addr{plan.Target.Address}); err != nil {
		return err
	}
	out.pass(checks.Answers)
	out.Found.Settings = plan.Target
	return nil
}

// open offers the password, once and within the budget.
func (p Prover) open(ctx context.Context, s commission.Session, plan commission.Plan, access device.Access, out *Proof) (bool, error) {
	if access == device.Fresh {
		out.fail(checks.Password, "accepted", "it has none yet: run "+out.put(advice.Commission))
		return false, nil
	}
	if plan.Password.IsZero() {
		out.fail(checks.Password, "accepted", "the keyring has none for it")
		return false, nil
	}
	own, offer := commission.Credential{User: plan.User, Password: plan.Password}, commission.Offer
	if plan.Confirmed(own) { // it has opened the device before: what is cut short is no guess
		offer = commission.OfferKnown
	}
	ok, wait, err := offer(ctx, p.Attempts, plan, own, s.Enter)
	if err != nil {
		return false, err
	}
	if wait > 0 {
		out.fail(checks.Password, "accepted", fmt.Sprintf("not tried: no tries left for %s", wait.Round(time.Minute)))
		return false, nil
	}
	if out.Factory = ok && plan.Factory; out.Factory {
		out.fail(checks.Password, "one of its own", "a factory password, known to all, opens it still: run "+out.put(advice.Commission))
		return ok, nil
	}
	out.compare(checks.Password, ok, "accepted", "refused")
	return ok, nil
}
