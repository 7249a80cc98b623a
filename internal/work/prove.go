package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/policy"
	"janustat/core/proving"
	"janustat/core/secret"
	"janustat/internal/keyring"
	"janustat/internal/reach"
	"janustat/internal/store"
)

// ErrInterrupted ends work that a person, or the system, has stopped.
var ErrInterrupted = errors.New("interrupted")

// Proving is what an acceptance test gave.
type Proving struct {
	Proofs  []proving.Proof
	Of      int // so many were to be proved; more than there are proofs where it was interrupted
	Failed  int
	InClear map[int64]bool // devices whose password was set without encryption, by ID
}

// Prove reads the devices that are meant back, compares them with the register, and records
// what it found. done, which may be nil, is told of each.
func (d *Desk) Prove(ctx context.Context, n *reach.Net, keys *keyring.Keyring, only Selection, done func(*proving.Proof)) (Proving, error) {
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
		// One that is in both is offered once: each costs a try.
		var old []commission.Credential
		for _, k := range slices.Concat(d.Job.Sheet.Factory(), keys.Past(mac)) {
			if k.Password != own && !slices.ContainsFunc(old, k.Same) {
				old = append(old, k)
			}
		}
		return keys.NotRefused(mac, old)
	}
	p := Proving{InClear: inClear, Of: len(only.of(plans))}
	if err := d.proveAll(ctx, prover, only.of(plans), keys, &p, done); err != nil {
		return p, err
	}
	switch err := context.Cause(ctx); {
	case errors.Is(err, context.Canceled):
		return p, fmt.Errorf("%w: %d of %d are proved again, and recorded; the others are as they were", ErrInterrupted, len(p.Proofs), p.Of)
	case err != nil:
		return p, err
	}
	return p, nil
}

// provable plans, for proving, which makes up nothing new: what planning makes up for
// devices and users without a key is neither offered nor kept.
func (d *Desk) provable(ctx context.Context, keys *keyring.Keyring) ([]commission.Plan, map[int64]bool, error) {
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
	policy.Recorded(plans, d.Devices)
	inClear := map[int64]bool{}
	for i := range plans {
		plans[i].Whole = false // what the record has of it is compared, and no more is asked
		if _, _, ok := keys.For(plans[i].MAC); !ok {
			plans[i].Password = secret.Password{}
		}
		inClear[plans[i].ID] = planner.Progress[plans[i].ID].InClear
	}
	return plans, inClear, nil
}

// proveLimit is how long the proving of one device may take, with all that it has to be
// waited for: one that stalls keeps nobody else's from its end.
const proveLimit = 100 * time.Second

// proveAll proves side by side, records each proof as it ends, those that end together in
// one go, and keeps the order. What was cut short by an interruption is no proof.
func (d *Desk) proveAll(ctx context.Context, p proving.Prover, plans []commission.Plan, keys *keyring.Keyring, out *Proving, tell func(*proving.Proof)) error {
	proofs, whole := make([]proving.Proof, len(plans)), make([]bool, len(plans))
	done := make(chan int, len(plans))
	over := map[int64]chan struct{}{}
	for i := range plans {
		over[plans[i].ID] = make(chan struct{})
	}
	for i, plan := range plans {
		x := *device.ByID(d.Devices, plan.ID)
		go func() {
			defer close(over[plan.ID])
			// What a recorder should show is what its cameras stream now, and not as they did once.
			plan.Links = slices.Clone(plan.Links)
			for k := range plan.Links {
				peer := &plan.Links[k].Peer
				at := slices.IndexFunc(plans, func(o commission.Plan) bool { return o.ID == peer.ID })
				if at < 0 || plan.Links[k].Step != commission.StepChannel {
					continue
				}
				select {
				case <-over[peer.ID]:
					if s := proofs[at].Found.Stream; s != nil {
						peer.Stream = *s
					}
				case <-ctx.Done():
				}
			}
			own, cancel := context.WithTimeoutCause(ctx, proveLimit, fmt.Errorf("it took more than %s over its answers", proveLimit))
			defer cancel()
			proofs[i] = p.Prove(own, x, plan)
			whole[i] = ctx.Err() == nil
			done <- i
		}()
	}
	subnet := d.Subnet(ctx)
	kept := context.WithoutCancel(ctx) // what was proved was proved
	for left := len(plans); left > 0; {
		var ended []*proving.Proof
		for wait := true; wait || len(done) > 0; wait = false {
			i := <-done
			if left--; whole[i] {
				ended = append(ended, &proofs[i])
			}
		}
		if err := d.takeProofs(kept, ended, keys, subnet); err != nil {
			return err
		}
		if err := d.takeRefusedUsers(kept, ended, plans); err != nil {
			return err
		}
		for _, proof := range ended {
			if !proof.OK() {
				out.Failed++
			}
			if tell != nil {
				tell(proof)
			}
		}
	}
	for i := range proofs {
		if whole[i] {
			out.Proofs = append(out.Proofs, proofs[i])
		}
	}
	return nil
}

// takeRefusedUsers records which further users' passwords do not open their device, so that the
// next commissioning gives them again, and nobody tries them once more.
func (d *Desk) takeRefusedUsers(ctx context.Context, proofs []*proving.Proof, plans []commission.Plan) error {
	for _, proof := range proofs {
		at := slices.IndexFunc(plans, func(p commission.Plan) bool { return p.ID == proof.Device.ID })
		for _, a := range proof.NotOpened(plans[at]) {
			id, err := d.Job.Register.Begin(ctx, plans[at], commission.UserWrite(a))
			if err == nil {
				err = d.Job.Register.End(ctx, id, string(commission.OutcomeRefused), commission.NotOpened)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// takeProofs records proofs, and which passwords were refused, so that they are not
// offered again.
func (d *Desk) takeProofs(ctx context.Context, proofs []*proving.Proof, keys *keyring.Keyring, subnet netip.Prefix) error {
	if len(proofs) == 0 {
		return nil
	}
	at := time.Now()
	records, events := map[int64]store.Proof{}, map[int64][]device.Event{}
	noted := false
	for _, proof := range proofs {
		checks, err := json.Marshal(proof.Checks)
		if err != nil {
			return err
		}
		x := device.ByID(d.Devices, proof.Device.ID)
		records[x.ID], events[x.ID] = store.Proof{At: at, OK: proof.OK(), Checks: checks}, proof.Events(at)
		noted = keys.NoteRefused(x.MAC, proof.Refused) || noted
	}
	change := func(x *device.Device) {
		x.Apply(events[x.ID]...)
		x.Apply(device.Judged{Site: subnet, NotOurs: d.Job.Sheet.IsNotOurs(x.Address())})
	}
	for id := range records {
		change(device.ByID(d.Devices, id))
	}
	if err := d.Job.Register.AddProofs(ctx, records, change); err != nil {
		return err
	}
	if noted {
		return keys.Save()
	}
	return nil
}
