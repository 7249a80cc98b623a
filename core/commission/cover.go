package commission

import (
	"context"
	"fmt"
)

// cover replaces a password that was set without encryption once it can be set with it. A device that
// refuses another keeps the one that it has.
func (r *run) cover(ctx context.Context, k Credential) error {
	if !r.plan.Bared || !r.mayKey || !r.session.Encrypted() || k.Password == r.plan.Replace {
		return nil
	}
	r.plan.Bared = false
	err := r.rekey(ctx, k, fmt.Sprintf("the password of %s, which was set without encryption,", k.User))
	if denied(err) && ctx.Err() == nil {
		r.note("keeps its password, which was set without encryption: it refuses another")
		r.plan.Replace = k.Password
		return nil
	}
	return err
}
