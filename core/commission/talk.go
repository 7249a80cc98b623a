package commission

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"janustat/core/device"
)

// Talk is the conversations with one device: one in the tongue that it was opened in, and
// one in each other that is needed for what it can do in no other.
type Talk struct {
	Site     Site
	Attempts Attempts
	Plan     Plan
	At       netip.Addr
	Main     Session
	Key      Credential // that has opened it just now

	more map[device.Tongue]Session
}

// Ability gives what a device can do in one of its tongues, or an *UnableError.
func Ability[A any](ctx context.Context, t *Talk, what string) (A, error) {
	if a, ok := t.Main.(A); ok {
		return a, nil
	}
	var none A
	for _, tongue := range t.Plan.Tongues {
		s, err := t.in(ctx, tongue)
		if err != nil {
			return none, err
		}
		if a, ok := s.(A); ok {
			return a, nil
		}
	}
	return none, &UnableError{What: what}
}

// in opens the device in another tongue, by the key that has just opened it.
func (t *Talk) in(ctx context.Context, tongue device.Tongue) (Session, error) {
	if slices.Index(t.Plan.Tongues, tongue) <= 0 {
		return t.Main, nil // which speaks the first
	}
	if s := t.more[tongue]; s != nil {
		return s, nil
	}
	p := t.Plan
	p.Tongues = []device.Tongue{tongue}
	p.TLS, p.MuteTLS = nil, "" // which is of its standard service
	s, err := t.Site.Open(ctx, p, t.At)
	if err != nil {
		return nil, err
	}
	if err := t.enter(ctx, s, p); err != nil {
		s.Close()
		return nil, err
	}
	if t.more == nil {
		t.more = map[device.Tongue]Session{}
	}
	t.more[tongue] = s
	return s, nil
}

func (t *Talk) enter(ctx context.Context, s Session, p Plan) error {
	if _, err := Recognise(ctx, s, p, true); err != nil {
		return err
	}
	ok, err := OfferSure(ctx, t.Attempts, p, t.Key, s.Enter)
	if err == nil && !ok {
		err = errors.New("its password does not open it there")
	}
	if err != nil {
		return fmt.Errorf("%s: %w", p.Tongues[0], err)
	}
	return nil
}

// Ties reads how the links of a device fare, in their order. What it has no ability for is
// to be typed in.
func (t *Talk) Ties(ctx context.Context, links []Link) (out []Tie, err error) {
	for _, j := range joints {
		want := of(links, j.step)
		if len(want) == 0 {
			continue
		}
		ties, err := j.read(ctx, t, want)
		var unable *UnableError
		if errors.As(err, &unable) {
			for _, l := range want {
				out = append(out, Tie{Link: l, Set: true, State: ToType})
			}
			continue
		}
		if err != nil {
			return out, err
		}
		out = append(out, ties...)
	}
	return out, nil
}

// Set sets a link.
func (t *Talk) Set(ctx context.Context, l Link) error {
	at := slices.IndexFunc(joints, func(j joint) bool { return j.step == l.Step })
	return joints[at].set(ctx, t, l)
}

// Close ends the conversations beside the first.
func (t *Talk) Close() {
	for _, s := range t.more {
		s.Close()
	}
	t.more = nil
}
