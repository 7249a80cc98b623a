package commission

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"janustat/core/advice"
	"janustat/core/setting"
	"janustat/core/settings/https"
	"janustat/core/text"
)

// write carries out the settings of one pass that are due, in the order of the table.
// After a device was moved, or fell silent, the next pass looks at what is left.
func (r *run) write(ctx context.Context, due []Step) error {
	for i, name := range due {
		s := stepOf(name)
		r.left = due[i+1:]
		w := r.plan.write(name, r.found)
		if s.opens { // it was recognised where it is: what it shows from now on is this, or what the setting makes of it
			r.renews = false
		}
		var err error
		if s.own {
			err = s.do(r, ctx, w)
		} else {
			err = r.do(ctx, w, func() error { return s.do(r, ctx, w) })
		}
		unread := r.found.Unread[name]
		if unread && err == nil {
			r.once[name] = true
		}
		switch {
		case errors.Is(err, errMoved):
			return nil
		case errors.Is(err, ErrReplyLost):
			// Unknown: look in both places. One that was not told to go is waited for where it is.
			step := StepFind
			if name != StepAddress {
				return r.find(ctx, step, ReturnLimit)
			}
			err := r.find(ctx, StepReturn, ReturnLimit)
			// One that says nothing of it twice, and is where it was, may have taken it for its
			// next restart.
			if err == nil && r.at != r.plan.Target.Address {
				r.move = r.move.silent()
			}
			return err
		case denied(err) && (s.soft || unread) && ctx.Err() == nil:
			r.refused[name] = r.refusal(s, w, err)
		case denied(err) && s.later && ctx.Err() == nil:
			r.refused[name], r.deferred = refusal{r.phase, ""}, err // told at the end: it is no reason to leave it without its address
		case err != nil:
			return err
		case s.soft:
			if r.taken[name]++; r.taken[name] == keptAfter {
				r.refused[name] = refusal{forGood, fmt.Sprintf("accepts its %s (%s) but does not keep it. Check it on its web page", s.words(), w.Intent)}
			}
		}
		if s.opens && err == nil {
			r.anew()
			return nil
		}
	}
	return nil
}

// anew ends the conversation after a setting by which the device is spoken with: what follows goes by it.
func (r *run) anew() {
	if a, ok := r.session.(Secured); ok && a.Secured() != nil {
		r.plan.TLS = a.Secured()
	}
	if a, ok := r.session.(Moved); ok && a.Moved() != "" {
		r.plan.Service = a.Moved()
	}
	r.close()
	r.phase++
}

// openFirst sets what a device without a password is spoken with by, as far as it takes that from
// everyone: so its first password goes the way that is meant for it. done tells that it has.
func (r *run) openFirst(ctx context.Context, f Found) (done bool, err error) {
	for _, s := range table {
		if !s.first || s.due == nil || !s.due(r.plan, f) || r.opened[s.name] || r.plan.refusedBefore(s.name, f) {
			continue
		}
		r.opened[s.name] = true
		w := r.plan.write(s.name, f)
		err := r.do(ctx, w, func() error { return s.do(r, ctx, w) })
		switch {
		case err == nil:
			r.anew()
			return true, nil
		case !denied(err) || ctx.Err() != nil:
			return false, err
		}
		if no := r.refusal(s, w, err); no.phase == forGood { // what wants a password is asked again with one
			r.refused[s.name] = no
		}
	}
	return false, nil
}

// refusal is a setting that a device refuses, or does not keep, and can do without.
type refusal struct {
	phase int // in which it was refused; in the next it may be taken
	note  string
}

// forGood is the phase of a refusal that no other phase changes.
const forGood = -1

// keptAfter is how often a device takes a setting without keeping it until it is left alone.
const keptAfter = 2

// stands reports whether a setting was refused as things are: with another address, or
// after a restart, a device may take what it did not take before.
func (r *run) stands(s Step) bool {
	f, refused := r.refused[s]
	return refused && (f.phase == r.phase || f.phase == forGood)
}

func (s step) refusal(intent string) string {
	return fmt.Sprintf("refuses its %s (%s): set it at its own page", s.words(), intent)
}

// refusal is what is to be remembered of a refused setting.
func (r *run) refusal(s step, w Write, err error) refusal {
	var broken *setting.BrokenError
	if errors.As(err, &broken) {
		return refusal{forGood, broken.Told}
	}
	return refusal{r.phase, s.refusal(w.Intent)}
}

// words name a setting in a sentence.
func (s step) words() string {
	if s.title != "" {
		return s.title
	}
	if s.name == StepDNS || s.name == StepNTP {
		return strings.ToUpper(string(s.name))
	}
	return string(s.name)
}

func (r *run) verify(ctx context.Context, f Found) error {
	r.tell(StepVerify, "reading back")
	defer r.clock(StepVerify)()
	if !r.plan.Target.DHCP && r.at != r.plan.Target.Address {
		return trouble(nil, advice.Say("power it off and on, then run %s again", advice.Commission), fmt.Sprintf("says that it has its address, and answers at %s", r.at))
	}
	if len(f.MACs) > 0 && !slices.Contains(f.MACs, r.plan.MAC) {
		return trouble(nil, advice.Say("run %s and look at both devices", advice.Survey), fmt.Sprintf("another device answers at %s", r.at))
	}
	// What was moved in this run, or in one that was cut short, is done once it is read back
	// there alone: somebody else may have been given the address while it was away.
	var alone Claim
	if !r.plan.Target.DHCP && (r.phase > 0 || r.plan.Renewing || !r.plan.Known) {
		alone = r.Site.Alone(ctx, r.plan)
	}
	refused, err := r.session.RefusesAnonymous(ctx)
	if err != nil {
		return trouble(err, advice.Say("run %s", advice.Prove), "could not be asked without its password")
	}
	if !refused {
		return trouble(nil, advice.Say("switch anonymous access off on the device's own page, then run %s", advice.Prove), "can still be read without a password")
	}
	if err := r.usersOpen(ctx); err != nil {
		return err
	}
	if err := r.stream(ctx, &f); err != nil {
		return err
	}
	if alone != nil {
		if err := r.notAlone(ctx, alone); err != nil {
			return err
		}
	}
	r.result.Left = f
	r.remark(f)
	if err := r.Journal.Left(ctx, r.plan, f); err != nil {
		return err
	}
	r.settled(f)
	return nil
}

// remark notes what the installer may want to know of a device that is right.
func (r *run) remark(f Found) {
	for _, s := range Decide(r.plan, f) {
		if no, refused := r.refused[s]; refused && no.note != "" {
			r.note(no.note)
		} else if r.plan.refusedBefore(s, f) {
			r.note(stepOf(s).refusal(Words(s, r.plan.Refused[s])))
		}
	}
	if _, wanted := r.plan.Wants[https.Name]; !wanted && f.Values[https.Name] == https.Off {
		r.note("its HTTPS is off. To have it switched on: write `https: on` into the job sheet, run this again, then change its password")
	}
}

func (r *run) note(text string) { r.result.Notes = append(r.result.Notes, text) }

// users creates the further users that are missing, and sets right those that are there.
func (r *run) users(ctx context.Context) error {
	for i := range r.plan.Users {
		u := &r.plan.Users[i]
		if !u.missing(r.found) {
			continue
		}
		there := slices.ContainsFunc(r.found.Accounts, func(a Account) bool { return a.Named(u.Name) })
		a, err := able[UserKeeper](r.session, "users")
		if err != nil {
			return trouble(err, advice.Say("take it out of the users' lists in the job sheet"), "has no further users")
		}
		if r.maybeMade[u.Name] && slices.ContainsFunc(r.found.Accounts, u.Is) {
			made, err := r.wasMade(ctx, a, u)
			if err != nil {
				return err
			}
			if made {
				continue
			}
		}
		write := a.CreateUser
		if there {
			write = a.ChangeUser
		}
		k := Credential{User: u.Name, Password: u.Password}
		err = r.give(ctx, userWrite(*u), &k, func(k Credential) error {
			u.Password = k.Password
			return write(ctx, *u)
		})
		if errors.Is(err, ErrReplyLost) {
			r.maybeMade[u.Name] = true
		}
		if err != nil {
			return err
		}
		u.Made, r.given[u.Name] = true, true
	}
	return nil
}

// wasMade finds out whether a device has taken the user that it has not confirmed: by that
// user's password, before anything is written over it.
func (r *run) wasMade(ctx context.Context, a UserKeeper, u *User) (bool, error) {
	delete(r.maybeMade, u.Name)
	ok, wait, err := Offer(ctx, r.Attempts, r.plan, Credential{User: u.Name, Password: u.Password}, a.Opens)
	if err != nil {
		return false, r.unanswered(err, "did not answer to the password of "+u.Name)
	}
	if !ok || wait > 0 {
		return false, nil
	}
	id, err := r.Journal.Begin(ctx, r.plan, userWrite(*u))
	if err == nil {
		err = r.Journal.End(context.WithoutCancel(ctx), id, string(OutcomeDone), "it had taken it without saying so")
	}
	if err != nil {
		return false, fmt.Errorf("register the outcome: %w", err)
	}
	u.Made = true
	return true, nil
}

// usersOpen makes sure that the passwords just given to further users open the
// device. What it has confirmed is no try, unless it turns out to be wrong.
func (r *run) usersOpen(ctx context.Context) error {
	for _, u := range r.plan.Users {
		if !r.given[u.Name] {
			continue
		}
		a, err := able[UserKeeper](r.session, "users")
		if err != nil {
			return err
		}
		ok, err := OfferSure(ctx, r.Attempts, r.plan, Credential{User: u.Name, Password: u.Password}, a.Opens)
		if err != nil {
			return r.unanswered(err, "did not answer to the password of "+u.Name)
		}
		if !ok {
			// It is not made: the next run gives it another.
			id, err := r.Journal.Begin(ctx, r.plan, userWrite(u))
			if err == nil {
				err = r.Journal.End(context.WithoutCancel(ctx), id, string(OutcomeRefused), NotOpened)
			}
			if err != nil {
				return fmt.Errorf("register the outcome: %w", err)
			}
			return trouble(nil, advice.Say("give it another: %s", advice.KeyChange.On(r.plan.Tag).OfUser(u.Name)),
				fmt.Sprintf("took a password for %s and is not opened by it", u.Name))
		}
		delete(r.given, u.Name)
		r.result.Admitted = append(r.result.Admitted, u.Name)
	}
	return nil
}

// private makes sure that a password may be set over this conversation.
func (r *run) private() error {
	if r.session.Encrypted() || !r.plan.RequireTLS {
		return nil
	}
	return trouble(nil, advice.Say("switch HTTPS on at its own page (%s) and run %s, or except it under password.without_tls in the job sheet", advice.Web.On(r.plan.Tag), advice.Survey),
		"has no HTTPS, and require_tls in the job sheet forbids sending a password without it")
}

// do journals and carries out one write.
func (r *run) do(ctx context.Context, w Write, write func() error) error {
	s, intent := w.Step, w.Intent
	if err := ctx.Err(); err != nil {
		return err // nothing is begun once the run is stopped
	}
	r.tell(s, intent)
	defer r.clock(s)()
	id, err := r.Journal.Begin(ctx, r.plan, w)
	if err != nil {
		return trouble(err, advice.Say("free some disk space, then run %s again", advice.Commission), "the register cannot be written, so nothing was sent")
	}
	r.result.Writes = append(r.result.Writes, s)
	r.detail = ""
	err = write()
	outcome, detail := OutcomeDone, r.detail
	switch {
	case errors.Is(err, ErrReplyLost):
		outcome, detail, r.unknown = OutcomeUnknown, err.Error(), true
	case err != nil:
		outcome, detail = OutcomeRefused, err.Error()
	}
	switch {
	case outcome == OutcomeRefused:
	case s == StepAddress, s == StepName, s == StepRestart:
		r.renews = true // some make another certificate then
	}
	// The outcome is recorded even when the run is being stopped.
	if jerr := r.Journal.End(context.WithoutCancel(ctx), id, string(outcome), text.Harmless(detail, 2*text.Long, nil)); jerr != nil {
		return errors.Join(err, fmt.Errorf("register the outcome: %w", jerr))
	}
	if errors.Is(err, ErrWindow) {
		r.window = fmt.Sprintf("%s %s", s, intent)
		return err
	}
	if outcome == OutcomeRefused && !errors.Is(err, ErrShut) {
		return trouble(&deniedError{err}, advice.Say("look at the device's own page, then run %s again", advice.Commission), fmt.Sprintf("refuses its %s (%s)", s, intent))
	}
	return err
}
