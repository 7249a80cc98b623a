package commission

import (
	"context"
	"errors"
	"slices"
)

// part has a station forget those that this job told it of and that its job sheet pairs
// with it no more. Others that it knows were there before the job, and stay.
func (r *run) part(ctx context.Context) error {
	if len(r.plan.Partings)+len(r.plan.Formers) == 0 {
		return nil
	}
	if r.session == nil {
		if _, err := r.read(ctx); err != nil {
			return err
		}
	}
	t := r.talk()
	defer t.Close()
	knows, err := Ability[Acquainted](ctx, t, "pairs")
	var unable *UnableError
	if errors.As(err, &unable) {
		return nil // what was typed in is taken out by hand
	}
	if err != nil {
		return err
	}
	others, err := knows.Others(ctx, of(r.plan.Links, StepPair))
	if err != nil {
		return err
	}
	for _, p := range slices.Concat(r.plan.Partings, r.plan.Formers) {
		if p.Serial == "" || !slices.Contains(others, p.Serial) {
			continue
		}
		a, err := Ability[Parter](ctx, t, "unpair")
		if errors.As(err, &unable) || err == nil && !a.Parts() {
			r.note("still knows " + p.label() + ", which the job sheet does not pair with it, and cannot be made to forget it: remove it on its web page")
			continue
		}
		if err != nil {
			return err
		}
		if err := r.do(ctx, Write{Step: StepPart, Intent: p.label()}, func() error { return a.Unpair(ctx, p.Serial) }); err != nil {
			return err
		}
	}
	return nil
}
