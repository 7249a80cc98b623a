package commission

import (
	"context"
	"errors"
	"fmt"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/secret"
)

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
	if denied(err) {
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
		if !denied(err) || r.plan.Another == nil || ctx.Err() != nil {
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
func (r *run) asFound(ctx context.Context) (Found, error) {
	found, err := ReadAll(ctx, r.session, r.plan)
	switch {
	case errors.Is(err, ErrReplyLost):
		return Found{}, err
	case err != nil:
		return Found{}, nil // it wants its password first
	}
	if err := r.identify(found); err != nil {
		return Found{}, err
	}
	if err := r.Journal.Found(ctx, r.plan, found); err != nil {
		return Found{}, fmt.Errorf("register as found: %w", err)
	}
	return found, nil
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
	case denied(err) && ctx.Err() == nil:
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
	var found *Found // of a device without a password
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
		if found == nil {
			f, err := r.asFound(ctx)
			if err != nil {
				return err
			}
			found = &f
		}
		switch done, err := r.openFirst(ctx, *found); {
		case err != nil:
			return err
		case done:
			if err := r.open(ctx); err != nil {
				return err
			}
			if err := r.recognise(ctx); err != nil {
				return err
			}
			tried--
			continue
		}
		r.keyed = true
		if err := r.key(ctx); err != nil && !errors.Is(err, ErrReplyLost) {
			return err
		}
	}
	return trouble(nil, advice.Say("power it off and on, then run %s again", advice.Commission), "does not answer when given its first password")
}
