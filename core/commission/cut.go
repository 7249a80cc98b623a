package commission

import (
	"context"
	"fmt"
	"slices"
	"time"

	"janustat/core/advice"
	"janustat/core/secret"
)

// cuts are the lengths at which devices cut passwords without saying so, the likeliest
// first: what fits into a field of theirs, or what an old hash looks at.
var cuts = []int{16, 8, 12, 15, 10, 32, 31, 20}

// beginnings are the parts of its password that a device may have kept of it. One of its
// model that was met before in this run shows which is the likeliest.
func (r *run) beginnings() (out []Credential) {
	whole := []rune(r.plan.Password.Reveal())
	lengths := cuts
	if n := r.Pilots.cut(r.plan.Model); n > 0 {
		lengths = append([]int{n}, cuts...)
	}
	for _, n := range lengths {
		if n >= len(whole) {
			continue
		}
		k := Credential{User: r.plan.User, Password: secret.New(string(whole[:n])), Origin: FromCut}
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	if r.plan.Untried != nil {
		out = r.plan.Untried(out)
	}
	return out
}

// cutShort tries whether a device has kept only the beginning of the password that was
// sent to it, within the budget. What it refuses is taken down, so that the next hour, or
// the next run, goes on from there.
func (r *run) cutShort(ctx context.Context) (done bool, err error) {
	all := r.beginnings()
	for i, k := range all {
		ok, wait, err := Offer(ctx, r.Attempts, r.plan, k, r.session.Enter)
		switch {
		case err != nil:
			return false, r.unanswered(err, "did not answer to its password")
		case wait > 0:
			return false, trouble(r.learnt(), advice.Say("run %s again in %s: the password that was sent to it is on the keyring, and what may be left of it is tried then", advice.Commission, wait.Round(time.Minute)),
				fmt.Sprintf("has taken its first password and is not opened by it: it may keep only the beginning of it; lengths not tried yet: %d", len(all)-i))
		case !ok:
			r.refuses(k)
			continue
		}
		n := len([]rune(k.Password.Reveal()))
		k.Origin = FromChange
		r.result.Key, r.result.Opened, r.sure = k, true, Credential{User: k.User, Password: k.Password}
		r.result.KeepsOnly, r.plan.KeepsOnly = n, n
		r.note(fmt.Sprintf("keeps only the first %d characters of its password: the keyring has these", n))
		r.pinned()
		if err := r.learnt(); err != nil {
			return false, err
		}
		r.Pilots.end(r.plan, true, false, n)
		return true, r.admitted(ctx, k)
	}
	return false, nil
}
