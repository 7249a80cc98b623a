package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"sync"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/policy"
	"janustat/internal/job"
	"janustat/internal/keyring"
)

// View is told how work on devices goes on. Its functions are called from several
// goroutines.
type View struct {
	Step   func(p commission.Plan, s commission.Step, text string)
	Result func(commission.Result)
}

// results takes down each result as it comes, so that a run that is killed has kept what
// was done until then.
type results struct {
	job  *job.Job
	site netip.Prefix // resolved once: what a thousand results cost is not to grow with their square
}

func (d *Desk) takeDown(ctx context.Context) results { return results{d.Job, d.Subnet(ctx)} }

// add carries one result into the register.
func (t results) add(ctx context.Context, r commission.Result) error {
	err := t.job.Register.Change(ctx, "commission", r.Plan.ID, func(d *device.Device) {
		d.Apply(policy.Events(r, time.Now())...)
		d.Apply(device.Judged{Site: t.site, NotOurs: t.job.Sheet.IsNotOurs(d.Address())})
	})
	if err != nil {
		return fmt.Errorf("%s: %w", r.Plan.Tag, err)
	}
	return nil
}

// end judges everybody by how all of it ended.
func (t results) end(ctx context.Context) error {
	devices, err := t.job.Register.Devices(ctx)
	if err != nil {
		return err
	}
	policy.Judge(t.job.Sheet, devices, SiteSubnet(ctx, t.job, devices))
	return t.job.Register.Record(ctx, "judge", devices)
}

// watchOver shows and saves each result as it comes, and what they tell of keys once all
// are there.
func (d *Desk) watchOver(ctx context.Context, keys *keyring.Keyring, v View, work func(done func(commission.Result)) []commission.Result) ([]commission.Result, error) {
	taken := d.takeDown(ctx)
	// Saved even when the run is being stopped: what was done was done.
	kept := context.WithoutCancel(ctx)
	var saving sync.Mutex
	var saveErr error
	all := work(func(r commission.Result) {
		v.Result(r)
		saving.Lock()
		defer saving.Unlock()
		if err := taken.add(kept, r); saveErr == nil {
			saveErr = err
		}
	})
	if saveErr == nil {
		saveErr = taken.end(kept)
	}
	err := d.saverOf(keys).keep(func() (changed bool) {
		for _, r := range all {
			changed = policy.TakeKeys(keys.Ring, r, time.Now()) || changed
		}
		return changed
	})
	return all, errors.Join(saveErr, err)
}
