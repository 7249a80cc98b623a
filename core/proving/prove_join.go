package proving

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"janustat/core/checks"
	"janustat/core/commission"
	"janustat/core/settings"
)

// joined looks how what the device knows of others fares, and whether its own picture can
// be watched.
func (p Prover) joined(ctx context.Context, s commission.Session, plan commission.Plan, out *Proof) (err error) {
	t := &commission.Talk{
		Site: p.Site, Attempts: p.Attempts, Plan: plan, At: plan.Target.Address, Main: s,
		Key: commission.Credential{User: plan.User, Password: plan.Password},
	}
	defer t.Close()
	if at := slices.IndexFunc(plan.Users, func(u commission.User) bool { return u.Name == plan.Watched }); at >= 0 {
		if err := p.watched(ctx, t, plan.Users[at], out); err != nil {
			return err
		}
	}
	for i := range plan.Links {
		if l := &plan.Links[i]; l.Step == commission.StepChannel {
			l.Peer.Stream = l.Peer.Stream.For(out.Found.Recording.Encodings)
		}
	}
	if out.Found.Ties, err = t.Ties(ctx, plan.Links); err != nil {
		return err
	}
	out.News = newsOf(plan, out.Found)
	return p.strangers(ctx, t, plan, out)
}

// newsOf tells of channels of a recorder that are in use, and are none of the job's.
func newsOf(plan commission.Plan, f commission.Found) (out []string) {
	for _, c := range f.Recording.Channels {
		planned := slices.ContainsFunc(plan.Links, func(l commission.Link) bool { return l.Step == commission.StepChannel && l.Number == c.Number })
		if c.Used && !planned {
			out = append(out, fmt.Sprintf("channel %d plays %s, which is not in the job", c.Number, c.Plays))
		}
	}
	return out
}

// changedOf tells what of the settings that are watched somebody has changed since the device was left,
// where the job sheet does not say how they are to be.
func changedOf(plan commission.Plan, f commission.Found) (out []string) {
	for _, s := range settings.All {
		was, is := plan.Was[s.Name], f.Values[s.Name]
		if _, wanted := plan.Wants[s.Name]; wanted || !s.Watched || was == "" || is == "" || was == is {
			continue
		}
		out = append(out, fmt.Sprintf("%s: %s, and %s when it was set up", s.Title, is, was))
	}
	return out
}

// strangers looks whether a station that the job sheet pairs knows others beside: one that
// was taken off a door rings there still.
func (p Prover) strangers(ctx context.Context, t *commission.Talk, plan commission.Plan, out *Proof) error {
	pairs := slices.DeleteFunc(slices.Clone(plan.Links), func(l commission.Link) bool { return l.Step != commission.StepPair })
	if len(pairs) == 0 {
		return nil
	}
	a, err := commission.Ability[commission.Acquainted](ctx, t, "pairs")
	var unable *commission.UnableError
	if errors.As(err, &unable) {
		return nil
	}
	if err != nil {
		return err
	}
	out.others, err = a.Others(ctx, pairs)
	return err
}

// watched proves that the picture is there for those who are to watch it. A password that
// has not been confirmed is not offered for that.
func (p Prover) watched(ctx context.Context, t *commission.Talk, u commission.User, out *Proof) error {
	if !u.Made || slices.Contains(out.usersRefused, u.Name) {
		out.fail(checks.Stream, "watched by "+u.Name, "its user is not there")
		return nil
	}
	stream, err := commission.Watch(ctx, t, u)
	switch {
	case errors.Is(err, commission.ErrReplyLost):
		return err
	case err != nil:
		out.fail(checks.Stream, "watched by "+u.Name, err.Error())
	default:
		out.Found.Stream = &stream
		out.pass(checks.Stream)
	}
	return nil
}

// Typed counts what was to be typed into the device by hand, and cannot be read from it.
func (p *Proof) Typed() (n int) {
	for i := range p.Found.Ties {
		if p.Found.Ties[i].State == commission.ToType {
			n++
		}
	}
	return n
}

var linkChecks = []string{checks.Channel, checks.Pair, checks.Report}

// links gives the checks of what a device knows of others, one for each sort: a column has
// room for one.
func (p *Proof) links(proofs []commission.Proof) {
	for _, name := range linkChecks {
		n, bad := 0, false
		for _, c := range proofs {
			if c.Name != name {
				continue
			}
			if n++; !c.OK {
				bad = true
				p.fail(name, c.Want, c.Got)
			}
		}
		if name == checks.Pair && len(p.others) > 0 {
			bad = true
			p.fail(name, "no station that the job sheet does not have", "also "+strings.Join(p.others, ", "))
		}
		if n > 0 && !bad {
			p.Checks = append(p.Checks, Check{Name: name, OK: true, Got: fmt.Sprint(n)})
		}
	}
}
