package commission

import (
	"context"
	"errors"
	"fmt"
	"time"

	"janustat/core/device"
)

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
