package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/internal/field"
	"janustat/internal/job"
	"janustat/internal/reach"
)

// ErrInterrupted ends work that a person, or the system, has stopped.
var ErrInterrupted = errors.New("interrupted")

// Proving is what an acceptance test gave.
type Proving struct {
	Proofs  []field.Proof
	Failed  int
	InClear map[int64]bool // devices whose password was set without encryption, by ID
}

// Prove reads the devices that are meant back, compares them with the register, and records
// what it found. done, which may be nil, is told of each.
func (d *Desk) Prove(ctx context.Context, n *reach.Net, keys *job.Keyring, only Selection, done func(*field.Proof)) (Proving, error) {
	prover, end, err := d.Prover(ctx, n)
	if err != nil {
		return Proving{}, err
	}
	defer end()
	plans, inClear, err := d.provable(ctx, keys)
	if err != nil {
		return Proving{}, err
	}
	prover.Old = func(mac device.MAC) []commission.Credential {
		_, own, _ := keys.For(mac)
		old := slices.Concat(keys.Past(mac), d.Job.Sheet.Factory())
		old = slices.DeleteFunc(old, func(k commission.Credential) bool { return k.Password == own })
		return keys.NotRefused(mac, old)
	}
	p := Proving{Proofs: d.proveAll(ctx, prover, only.of(plans), done), InClear: inClear}
	if context.Cause(ctx) != nil && errors.Is(context.Cause(ctx), context.Canceled) {
		return p, fmt.Errorf("%w: nothing is recorded as proved", ErrInterrupted)
	} else if err := context.Cause(ctx); err != nil {
		return p, err
	}
	return p, d.takeProofs(ctx, &p, keys)
}

// provable plans, for proving, which makes up nothing new: what planning makes up for
// devices and users without a key is neither offered nor kept.
func (d *Desk) provable(ctx context.Context, keys *job.Keyring) ([]commission.Plan, map[int64]bool, error) {
	draft, err := keys.Draft()
	if err != nil {
		return nil, nil, err
	}
	planner, err := d.Planner(ctx, draft)
	if err != nil {
		return nil, nil, err
	}
	if err := d.joined(planner); err != nil {
		return nil, nil, err
	}
	planner.AdmitNewcomers = true // nothing is given to them
	plans := planner.Plans(d.Devices)
	field.Recorded(plans, d.Devices)
	inClear := map[int64]bool{}
	for i := range plans {
		if _, _, ok := keys.For(plans[i].MAC); !ok {
			plans[i].Password = secret.Password{}
		}
		inClear[plans[i].ID] = planner.Progress[plans[i].ID].InClear
	}
	return plans, inClear, nil
}

// proveAll proves side by side, and keeps the order.
func (d *Desk) proveAll(ctx context.Context, p field.Prover, plans []commission.Plan, tell func(*field.Proof)) []field.Proof {
	proofs := make([]field.Proof, len(plans))
	done := make(chan int)
	for i, plan := range plans {
		x := *device.ByID(d.Devices, plan.ID)
		go func() {
			proofs[i] = p.Prove(ctx, x, plan)
			done <- i
		}()
	}
	for range plans {
		if i := <-done; tell != nil {
			tell(&proofs[i])
		}
	}
	return proofs
}

// takeProofs records proofs, and which passwords were refused, so that they are not
// offered again.
func (d *Desk) takeProofs(ctx context.Context, p *Proving, keys *job.Keyring) error {
	at := time.Now()
	noted := false
	records := map[int64]job.ProofRecord{}
	for i := range p.Proofs {
		proof := &p.Proofs[i]
		checks, err := json.Marshal(proof.Checks)
		if err != nil {
			return err
		}
		records[proof.Device.ID] = job.ProofRecord{At: at, OK: proof.OK(), Checks: checks}
		if !proof.OK() {
			p.Failed++
		}
		x := device.ByID(d.Devices, proof.Device.ID)
		noted = keys.NoteRefused(x.MAC, proof.Refused) || noted
		x.Apply(proof.Events(at)...)
	}
	if err := d.Save(ctx); err != nil {
		return err
	}
	if err := d.Job.Register.AddProofs(ctx, records); err != nil {
		return err
	}
	if noted {
		return keys.Save()
	}
	return nil
}
