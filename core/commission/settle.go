package commission

import (
	"context"
	"slices"

	"janustat/core/device"
	"janustat/core/evidence"
)

// settlePauses is how many pauses of a second a device is given that has confirmed its
// password and is not opened by it yet: some keep their users late (seen: up to ten seconds).
const settlePauses = 10

// settles waits for a device to be opened by the password that it has confirmed a moment
// ago. Whether it still says that it has none costs no try; the password itself is offered
// once more, as soon as it has one, or at the end.
func (r *run) settles(ctx context.Context, k Credential) (ok bool, err error) {
	late := false
	for n := 1; n <= settlePauses; n++ {
		if err := r.Site.Pause(ctx); err != nil {
			return false, err
		}
		access, err := r.session.Access(ctx)
		if err != nil {
			return false, r.unanswered(err, "does not say whether it has a password")
		}
		if fresh := access == device.Fresh; fresh || !late && n < settlePauses {
			late = late || fresh
			continue
		}
		break
	}
	ok, wait, err := OfferKnown(ctx, r.Attempts, r.plan, k, r.session.Enter)
	if err != nil {
		return false, r.unanswered(err, "did not answer to its password")
	}
	if !ok || wait > 0 {
		return false, nil
	}
	r.result.Refused = slices.DeleteFunc(r.result.Refused, func(p evidence.Proven[Credential]) bool { return k.Same(p.Is()) })
	r.result.Doubted = slices.DeleteFunc(r.result.Doubted, k.Same)
	return true, r.opens(k)
}
