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
	"janustat/core/secret"
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
		return nil
	}
	if err := r.rekey(ctx, k, "the factory password of "+k.User); err != nil {
		return err
	}
	r.result.Factory = false
	return nil
}

// rekey gives the device plan.Replace, which is on the keyring, in the place of
// the password that opened it, and makes sure that it opens it.
func (r *run) rekey(ctx context.Context, old Credential, what string) error {
	user := old.User
	if r.plan.Replace.IsZero() {
		return trouble(nil, advice.Say("run %s again", advice.Commission), "there is no password to replace "+what+" by")
	}
	to := Credential{User: user, Password: r.plan.Replace}
	err := r.give(ctx, Write{Step: StepRekey, Intent: what}, &to, func(k Credential) error {
		a, err := able[Keyer](r.session, "password")
		if err != nil {
			return err
		}
		return a.SetPassword(ctx, user, k.Password)
	})
	next := to.Password
	r.plan.Replace = next
	if errors.Is(err, ErrReplyLost) {
		// Which of the two holds shows when both are tried.
		r.sure, r.plan.Password = Credential{}, secret.Password{}
		r.plan.Others = []Credential{{User: user, Password: next, Origin: FromChange}, old}
		return trouble(err, advice.Say("run the command again: it finds out which of the two works"), "did not answer when its password was replaced")
	}
	if err != nil {
		return err
	}
	r.plan.User, r.plan.Password, r.sure = user, next, Credential{User: user, Password: next}
	ok, err := OfferSure(ctx, r.Attempts, r.plan, r.sure, r.session.Enter)
	if err == nil && !ok {
		ok, err = r.settles(ctx, r.sure)
	}
	if err != nil || !ok {
		return trouble(err, advice.Say("run the command again: it finds out which of the two works"), "took another password and is not opened by it, or not yet")
	}
	r.result.Opened, r.result.Key = true, Credential{User: user, Password: next, Origin: FromChange}
	return r.learnt()
}

// key creates the administrator on a fresh device.
func (r *run) key(ctx context.Context) error {
	a, err := able[Keyer](r.session, "password")
	if err != nil {
		return trouble(err, advice.Say("give it one at its own page (%s)", advice.Web.On(r.plan.Tag)), "takes no first password")
	}
	rules, err := a.Rules(ctx)
	if err != nil {
		return trouble(err, advice.Say("run %s again", advice.Commission), "does not report its password rules")
	}
	if rules != nil {
		if err := rules.Judge(r.plan.Password, r.plan.User); err != nil {
			return trouble(err, advice.Say("give a password that fits: %s, or let one be generated: %s", advice.KeySet, advice.KeyGenerate),
				"refuses the site password by its published rules")
		}
	}
	if err := r.awaitPilot(ctx); err != nil {
		return err
	}
	own := Credential{User: r.plan.User, Password: r.plan.Password}
	err = r.give(ctx, keyWrite(r.plan), &own, func(k Credential) error {
		r.result.Sent = true
		return a.CreateAdministrator(ctx, k.User, k.Password)
	})
	r.plan.User, r.plan.Password = own.User, own.Password
	if err != nil && r.denied {
		r.result.Sent = false // it has refused it, in so many words
	}
	if err == nil {
		r.sure = Credential{User: r.plan.User, Password: r.plan.Password}
	}
	return err
}

// give has a device take a password for a user, or another form of it where it
// refuses one; k is what it was last offered.
func (r *run) give(ctx context.Context, w Write, k *Credential, write func(Credential) error) error {
	return r.giveUnless(ctx, w, k, func(secret.Objection) bool { return false }, write)
}

// giveUnless does so, and offers no other form where what the device has against one ends it.
func (r *run) giveUnless(ctx context.Context, w Write, k *Credential, ends func(secret.Objection) bool, write func(Credential) error) error {
	if err := r.private(); err != nil {
		return err
	}
	w.InClear = !r.session.Encrypted()
	if err := r.fitted(w.Step, k); err != nil {
		return err
	}
	for {
		err := r.do(ctx, w, func() error { return write(*k) })
		// Unless the device itself has refused it, it may have taken it: then there must
		// be no other on the keyring in its place.
		if !r.denied || r.plan.Another == nil || ctx.Err() != nil {
			return err
		}
		// Rules that a device enforces without publishing them show only like this.
		var told *PasswordError
		var o secret.Objection
		if errors.As(err, &told) {
			o = told.Objection
		}
		if ends(o) {
			return err
		}
		next, aerr := r.plan.Another(w.Step, *k, o)
		if aerr != nil {
			return errors.Join(err, aerr)
		}
		if next.Password.IsZero() {
			return err
		}
		*k = next
	}
}

// fitted makes a password that is about to be given no longer than the device keeps of one.
func (r *run) fitted(s Step, k *Credential) error {
	n := r.plan.KeepsOnly
	if n == 0 || len([]rune(k.Password.Reveal())) <= n || r.plan.Another == nil {
		return nil
	}
	next, err := r.plan.Another(s, *k, secret.Objection{What: secret.TooLong, Most: n})
	if err == nil && !next.Password.IsZero() {
		*k = next
	}
	return err
}

// asFound records what a device without a password tells of its settings, before the
// first write. One that tells nothing yet is read once it has its password.
func (r *run) asFound(ctx context.Context) error {
	found, err := r.session.Read(ctx)
	switch {
	case errors.Is(err, ErrReplyLost):
		return err
	case err != nil:
		return nil // it wants its password first
	}
	if err := r.identify(found); err != nil {
		return err
	}
	if err := r.Journal.Found(ctx, r.plan, found); err != nil {
		return fmt.Errorf("register as found: %w", err)
	}
	return nil
}

// first tries whether a device that does not list its users to everyone has an
// administrator yet, by creating the first one.
func (r *run) first(ctx context.Context) error {
	if r.plan.First.IsZero() || r.plan.Known || r.keyed || r.tried || !r.mayKey || r.private() != nil {
		return nil
	}
	r.tried = true
	w := firstWrite(r.plan)
	k := Credential{User: r.plan.User, Password: r.plan.First}
	// One that has an administrator refuses access. One that has something against the
	// password has none, and is offered another.
	err := r.giveUnless(ctx, w, &k, func(o secret.Objection) bool { return o.What == secret.Unsaid }, func(k Credential) error {
		a, err := able[Keyer](r.session, "password")
		if err != nil {
			return err
		}
		return a.CreateAdministrator(ctx, k.User, k.Password)
	})
	r.plan.User, r.plan.First = k.User, k.Password
	switch {
	case errors.Is(err, ErrReplyLost): // which it is shows when it is offered
		r.plan.Others = append([]Credential{{User: r.plan.User, Password: r.plan.First, Origin: FromChange}}, r.plan.Others...)
		return err
	case err != nil && r.denied && ctx.Err() == nil:
		r.denied = false
		return nil // it has one
	case err != nil:
		return err
	}
	r.keyed = true
	r.plan.Password = r.plan.First
	r.sure = Credential{User: r.plan.User, Password: r.plan.First}
	return nil
}

// ensureKeyed gives a fresh device its first password. When the reply is lost,
// whether it has one is asked again.
func (r *run) ensureKeyed(ctx context.Context) error {
	const tries = 3
	for tried, waited := 0, 0; tried < tries; tried++ {
		access, err := r.session.Access(ctx)
		if err != nil {
			return r.unanswered(err, "does not say whether it has a password")
		}
		if access == device.Fresh && r.keyed && !r.sure.Password.IsZero() {
			// It has confirmed one, and does not know of it yet.
			if waited++; waited > settlePauses {
				return trouble(nil, advice.Say("run %s again: the password that it confirmed is on the keyring", advice.Commission), "has confirmed its first password, and says that it has none")
			}
			if err := r.Site.Pause(ctx); err != nil {
				return err
			}
			tried--
			continue
		}
		switch {
		case access != device.Fresh:
			return r.first(ctx)
		case r.plan.Known && !r.keyed:
			return alarmed(r.plan, "it says that it has no password, and was opened by one before")
		case !r.mayKey:
			return trouble(nil, advice.Say("run %s, then %s, which gives it one", advice.Survey, advice.Commission), "has no password")
		case r.plan.Password.IsZero():
			return trouble(nil, advice.Say("run %s, then %s again", advice.Survey, advice.Commission), "was sealed and is fresh now")
		}
		r.keyed = true
		if err := r.asFound(ctx); err != nil {
			return err
		}
		if err := r.key(ctx); err != nil && !errors.Is(err, ErrReplyLost) {
			return err
		}
	}
	return trouble(nil, advice.Say("power it off and on, then run %s again", advice.Commission), "does not answer when given its first password")
}
