package commission

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/evidence"
)

func (r *run) enter(ctx context.Context) error {
	if r.entered {
		return nil
	}
	defer r.clock(StepRead)()
	if err := r.recognise(ctx); err != nil {
		return err
	}
	if err := r.ensureKeyed(ctx); err != nil {
		return err
	}
	if r.plan.Unconfirmed && r.plan.OwnLast && !r.keyed {
		if done, err := r.cutShort(ctx); done || err != nil {
			return err
		}
	}
	keys := r.keys()
	if len(keys) == 0 {
		return trouble(nil, r.lostPassword(),
			"has a password that is not on the keyring")
	}
	for i, k := range keys {
		confirmed := k.Same(r.sure) && r.keyed
		opened, err := r.try(ctx, k, len(keys)-i)
		if err == nil && !opened && confirmed {
			opened, err = r.settles(ctx, k)
		}
		if err != nil {
			return err
		}
		if opened {
			return r.admitted(ctx, k)
		}
	}
	if !r.keyed && !r.plan.Unconfirmed {
		return trouble(nil, r.lostPassword(),
			"has a password, and none on the keyring opens it")
	}
	if done, err := r.cutShort(ctx); done || err != nil {
		return err
	}
	return trouble(nil, r.lostPassword(),
		"has taken its first password and is not opened by it, nor by the beginning of it: it may keep another form, or not have it yet")
}

// learnt has what is known of its keys by now taken down, before anything more is written.
func (r *run) learnt() error {
	if r.Learnt == nil {
		return nil
	}
	if err := r.Learnt(r.result); err != nil {
		return trouble(err, advice.Say("free some disk space, then run %s again", advice.Commission), "its password could not be kept, so nothing more was sent")
	}
	return nil
}

// refuses takes down that a key does not open the device, or that somebody says so.
func (r *run) refuses(k Credential) {
	unconfirmed := k.Origin == FromKeyring && r.plan.Unconfirmed
	if unconfirmed { // it may hold yet, and comes last from now on
		k.Origin = FromSent
	}
	if refused, proven := evidence.Prove(r.session.Witness(), k); proven && !unconfirmed {
		r.result.Refused = append(r.result.Refused, refused)
	} else {
		r.result.Doubted = append(r.result.Doubted, k)
	}
}

// lostPassword says what can be done about a device that no key opens.
func (r *run) lostPassword() advice.Advice {
	return advice.Say("if you know its password: %s (one of earlier work: %s). If not: factory-reset it as its manual says, then %s",
		advice.KeySet.On(r.plan.Tag), advice.KeyAdd, advice.Restore.On(r.plan.Tag))
}

// keys are those to try, in order.
func (r *run) keys() []Credential {
	var out []Credential
	if p := r.plan.Password; !p.IsZero() {
		own := Credential{User: r.plan.User, Password: p}
		switch {
		case p == r.plan.Replace:
			own.Origin = FromChange
		case r.plan.Factory:
			own.Origin = FromFactory
		}
		out = append(out, own)
	}
	if r.keyed { // its password was just set: nothing else can fit
		return out
	}
	return append(out, r.plan.Others...)
}

// try offers one key, within the budget.
func (r *run) try(ctx context.Context, k Credential, left int) (ok bool, err error) {
	var wait time.Duration
	switch {
	case k.Same(r.sure):
		if ok, err = r.trySure(ctx, k); err == nil && !ok {
			r.sure = Credential{}
		}
	case r.plan.Confirmed(k):
		ok, wait, err = OfferKnown(ctx, r.Attempts, r.plan, k, r.session.Enter)
	default:
		ok, wait, err = Offer(ctx, r.Attempts, r.plan, k, r.session.Enter)
	}
	if wait > 0 {
		return false, spent(r.plan, wait, left)
	}
	if err != nil {
		return false, r.unanswered(err, "did not answer to its password")
	}
	if !ok {
		r.refuses(k)
		return false, nil
	}
	return true, r.opens(k)
}

// sureTries is how often a key is offered that the device has confirmed, and that it answers by
// an error which is none of access.
const sureTries = 3

// trySure offers what is known to open a device, which is no try: a reply that gets lost, or a
// page of an error in its place, costs nothing then.
func (r *run) trySure(ctx context.Context, k Credential) (ok bool, err error) {
	for n := 1; ; n++ {
		ok, err = OfferSure(ctx, r.Attempts, r.plan, k, r.session.Enter)
		var locked *LockedError
		var told *Trouble
		if err == nil || n == sureTries || ctx.Err() != nil || errors.Is(err, ErrReplyLost) || errors.As(err, &locked) || errors.As(err, &told) {
			return ok, err
		}
		if err := r.Site.Pause(ctx); err != nil {
			return false, err
		}
	}
}

// opens takes down that a key has opened the device.
func (r *run) opens(k Credential) error {
	// Opened again after a move, it is still the key that it was.
	if was := r.result.Key; was.User != k.User || was.Password != k.Password {
		r.result.Key = k
	}
	r.result.Opened, r.sure = true, Credential{User: k.User, Password: k.Password}
	r.pinned()
	if err := r.learnt(); err != nil {
		return err
	}
	if r.shows() {
		r.Pilots.end(r.plan, true, false, 0)
	}
	return nil
}

// shows reports whether the device shows what its model does to passwords: it was given its
// first one, in this run or an earlier one. A key that others gave it shows nothing.
func (r *run) shows() bool { return r.keyed || r.plan.Unconfirmed }

// Confirmed reports whether a key has opened the device in an earlier run, and no other was
// sent to it since: what comes of an offer that is cut short says nothing about it.
func (p Plan) Confirmed(k Credential) bool {
	changing := !p.Replace.IsZero() || slices.ContainsFunc(p.Others, func(o Credential) bool { return o.Origin == FromChange })
	return p.Known && !changing && k.Origin == FromKeyring && k.User == p.User && k.Password == p.Password
}

// pinned takes down the key that the device has proved to have, in a tongue with such.
func (r *run) pinned() {
	a, ok := r.session.(Pinned)
	if !ok || a.Pin() == "" {
		return
	}
	tongue := r.plan.Tongues[0]
	pins := map[device.Tongue]string{tongue: a.Pin()}
	r.result.Pins, r.plan.Pins = pins, pins
}

func spent(p Plan, wait time.Duration, left int) error {
	return trouble(nil, advice.Say("wait %s, or put the right password on the keyring: %s", wait.Round(time.Minute), advice.KeySet.On(p.Tag)),
		fmt.Sprintf("no password tries left this hour; passwords not tried yet: %d", left))
}

// unanswered tells why a device did not say whether a password fits. One that has
// locked itself is left alone until it opens again.
func (r *run) unanswered(err error, reason string) error {
	var told *Trouble
	if errors.As(err, &told) {
		return err // it is not the device that answers
	}
	var locked *LockedError
	if !errors.As(err, &locked) {
		return trouble(err, advice.Say("run %s again", advice.Commission), reason)
	}
	why := "answers no password now"
	if r.plan.Watched != "" {
		why += " (a recorder that tries an old password on it has the same effect: this run sets the right one there)"
	}
	return trouble(err, advice.Say("wait until then; every try now can lengthen the lock-out. Then check its password (%s) and run %s again", advice.KeyList, advice.Commission), why)
}

// admitted goes on with the key that fitted. A factory password is replaced at once.
func (r *run) admitted(ctx context.Context, k Credential) error {
	r.entered = true
	r.plan.User, r.plan.Password = k.User, k.Password
	if r.result.Factory = k.Origin == FromFactory; !r.result.Factory {
		return r.cover(ctx, k)
	}
	if err := r.rekey(ctx, k, "the factory password of "+k.User); err != nil {
		return err
	}
	r.result.Factory = false
	return nil
}
