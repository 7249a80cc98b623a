package commission

import (
	"context"
	"errors"
	"fmt"
	"time"

	"janustat/core/device"
	"janustat/core/secret"
)

func (r *run) enter(ctx context.Context) error {
	if r.entered {
		return nil
	}
	if err := r.ensureKeyed(ctx); err != nil {
		return err
	}
	keys := r.keys()
	if len(keys) == 0 {
		return trouble(nil, fmt.Sprintf("put its password on the keyring (`janustat key set %s`), or reset the device by its maker's steps", r.plan.Tag),
			"is sealed, and the keyring has no password for it")
	}
	for i, k := range keys {
		opened, err := r.try(ctx, k, len(keys)-i)
		if err != nil {
			return err
		}
		if opened {
			return r.admitted(ctx, k)
		}
	}
	return trouble(nil, fmt.Sprintf("put its password on the keyring (`janustat key set %s`), or reset the device by its maker's steps", r.plan.Tag),
		"is sealed: no key on the keyring opens it")
}

// keys are those to try, in order.
func (r *run) keys() []Credential {
	var out []Credential
	if !r.plan.Password.IsZero() {
		out = append(out, Credential{User: r.plan.User, Password: r.plan.Password})
	}
	if r.keyed { // its password was just set: nothing else can fit
		return out
	}
	return append(out, r.plan.Others...)
}

// try offers one key, within the budget.
func (r *run) try(ctx context.Context, k Credential, left int) (bool, error) {
	wait, err := r.Attempts.Spend(ctx, r.plan)
	if err != nil {
		return false, fmt.Errorf("register the password try: %w", err)
	}
	if wait > 0 {
		return false, trouble(nil, fmt.Sprintf("wait %s, or put the right password on the keyring: `janustat key set %s`", wait.Round(time.Minute), r.plan.Tag),
			fmt.Sprintf("the budget of password tries is spent; keys not tried yet: %d", left))
	}
	ok, err := r.session.Enter(ctx, k.User, k.Password)
	if err != nil {
		return false, trouble(err, "run `janustat commission` again", "did not answer to its password")
	}
	if !ok {
		r.result.Refused = append(r.result.Refused, k)
		return false, nil
	}
	// Opened again after a move, it is still the key that it was.
	if was := r.result.Key; was.User != k.User || was.Password != k.Password {
		r.result.Key = k
	}
	r.result.Opened = true
	return true, r.Attempts.Opened(ctx, r.plan)
}

// admitted goes on with the key that fitted. A factory password is replaced at once.
func (r *run) admitted(ctx context.Context, k Credential) error {
	r.entered = true
	r.plan.User, r.plan.Password = k.User, k.Password
	if k.Origin != FromFactory {
		return nil
	}
	r.result.Factory = true
	if err := r.rekey(ctx, k.User, r.plan.Replace, "the factory password of "+k.User); err != nil {
		return err
	}
	r.result.Factory = false
	return nil
}

// rekey gives the device another password, which is on the keyring, and makes
// sure that it opens it.
func (r *run) rekey(ctx context.Context, user string, next secret.Password, what string) error {
	if next.IsZero() {
		return trouble(nil, "run `janustat commission` again", "there is no password to replace "+what+" by")
	}
	err := r.do(ctx, StepRekey, what, func() error { return r.session.SetPassword(ctx, user, next) })
	if errors.Is(err, ErrReplyLost) {
		return trouble(err, "run the command again: it finds out which of the two holds", "did not answer when its password was replaced")
	}
	if err != nil {
		return err
	}
	ok, err := r.session.Enter(ctx, user, next)
	if err != nil || !ok {
		return trouble(err, "run the command again: it finds out which of the two holds", "took another password and is not opened by it")
	}
	r.plan.User, r.plan.Password = user, next
	r.result.Opened, r.result.Key = true, Credential{User: user, Password: next, Origin: FromChange}
	return nil
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
	for refused := 1; ; refused++ {
		err := r.do(ctx, StepKey, "administrator "+r.plan.User, func() error {
			return r.session.CreateAdministrator(ctx, r.plan.User, r.plan.Password)
		})
		if err == nil || errors.Is(err, ErrReplyLost) || errors.Is(err, ErrWindow) || r.plan.Another == nil || ctx.Err() != nil {
			return err
		}
		// Rules that a device enforces without publishing them show only like this.
		next, aerr := r.plan.Another(refused)
		if aerr != nil {
			return errors.Join(err, aerr)
		}
		if next.IsZero() {
			return err
		}
		r.plan.Password = next
	}
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
		r.keyed = true
		if r.plan.Password.IsZero() {
			return trouble(nil, "run `janustat survey`, then `janustat commission` again", "was sealed and is fresh now")
		}
		if err := r.key(ctx); err != nil && !errors.Is(err, ErrReplyLost) {
			return err
		}
	}
	return trouble(nil, "power it off and on, then run `janustat commission` again", "does not answer when given its first password")
}
