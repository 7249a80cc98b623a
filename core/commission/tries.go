package commission

import (
	"context"
	"errors"
	"fmt"
	"time"

	"janustat/core/evidence"
	"janustat/core/secret"
)

// Try names one offer of a password to a device.
type Try string

// Attempts keeps the budget of password tries (safety rule 7): of a MAC, whatever the
// job and however often it was copied.
type Attempts interface {
	// Spend records a try before it is made, or says when the next is allowed.
	Spend(ctx context.Context, p Plan, k Credential) (t Try, wait time.Duration, err error)
	// Ended says how a try ended. One that fitted is given back; no other is.
	Ended(ctx context.Context, t Try, fitted bool) error
	// Unmade takes back a try that was recorded and not made.
	Unmade(ctx context.Context, t Try) error
	// Locked says that the device itself has proved to refuse every try for so long; 0 is
	// not known. No longer is kept than the budget's own window.
	Locked(ctx context.Context, p Plan, wait evidence.Proven[time.Duration]) error
	// Remaining counts the tries that the device can still be offered now.
	Remaining(ctx context.Context, p Plan) (int, error)
}

// Offer offers a device one key by way of enter, within its budget. wait is how long
// the next try has to wait where the budget is spent; then nothing is offered. A try
// without an answer counts.
func Offer(ctx context.Context, a Attempts, p Plan, k Credential, enter func(ctx context.Context, user string, p secret.Password) (bool, error)) (fits bool, wait time.Duration, err error) {
	t, wait, err := a.Spend(ctx, p, k)
	if err != nil {
		return false, 0, fmt.Errorf("register the password try: %w", err)
	}
	if wait > 0 {
		return false, wait, nil
	}
	if fits, err = enter(ctx, k.User, k.Password); err != nil {
		var told *Trouble
		if errors.As(err, &told) { // nothing was sent to whoever answers there
			if uerr := a.Unmade(context.WithoutCancel(ctx), t); uerr != nil {
				return false, 0, errors.Join(err, fmt.Errorf("register the password try: %w", uerr))
			}
		}
		return false, 0, err
	}
	// What is known now is recorded even when the run is being stopped.
	if err := a.Ended(context.WithoutCancel(ctx), t, fits); err != nil {
		return fits, 0, fmt.Errorf("register the password try: %w", err)
	}
	return fits, 0, nil
}

// OfferSure offers a key that the device has just confirmed. That is no try, unless it
// turns out to be wrong.
func OfferSure(ctx context.Context, a Attempts, p Plan, k Credential, enter func(ctx context.Context, user string, p secret.Password) (bool, error)) (fits bool, err error) {
	if fits, err = enter(ctx, k.User, k.Password); err != nil || fits {
		return fits, err
	}
	stay := context.WithoutCancel(ctx)
	t, wait, err := a.Spend(stay, p, k)
	if err == nil && wait == 0 {
		err = a.Ended(stay, t, false)
	}
	if err != nil {
		return false, fmt.Errorf("register the password try: %w", err)
	}
	return false, nil
}

// OfferKnown offers a key that has opened the device before. Where no answer comes it costs
// nothing, since it was no guess; refused, it counts, and it is not offered where the budget
// is spent.
func OfferKnown(ctx context.Context, a Attempts, p Plan, k Credential, enter func(ctx context.Context, user string, p secret.Password) (bool, error)) (fits bool, wait time.Duration, err error) {
	left, err := a.Remaining(ctx, p)
	if err != nil {
		return false, 0, fmt.Errorf("register the password try: %w", err)
	}
	if left == 0 {
		_, wait, err = a.Spend(ctx, p, k) // tells how long, and records nothing
		return false, max(wait, time.Second), err
	}
	fits, err = OfferSure(ctx, a, p, k, enter)
	return fits, 0, err
}

// noteShut records the two tries that ErrShut tells of.
func noteShut(ctx context.Context, a Attempts, p Plan) error {
	for range 2 {
		t, wait, err := a.Spend(ctx, p, Credential{User: p.User, Password: p.Password})
		if err == nil && wait == 0 {
			err = a.Ended(ctx, t, false)
		}
		if err != nil {
			return fmt.Errorf("register the password try: %w", err)
		}
	}
	return nil
}

// NoteLocked records that a device has locked itself, where an error says so and the device
// has proved that it is its word. What is only heard is not kept: the try that it answered
// counts, as every one without an answer.
//
// The password that a device refused in the middle of a conversation counts too.
func NoteLocked(ctx context.Context, a Attempts, p Plan, err error) error {
	if errors.Is(err, ErrShut) {
		return errors.Join(err, noteShut(context.WithoutCancel(ctx), a, p))
	}
	var locked *LockedError
	if !errors.As(err, &locked) {
		return err
	}
	wait, proven := locked.Proven()
	if !proven {
		return err
	}
	if jerr := a.Locked(context.WithoutCancel(ctx), p, wait); jerr != nil {
		return errors.Join(err, fmt.Errorf("register the lock-out: %w", jerr))
	}
	return err
}
