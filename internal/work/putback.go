package work

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/policy"
	"janustat/core/settings"
	"janustat/internal/reach"
)

// Return is a device that is to be as it was found.
type Return struct {
	Device *device.Device
	Plan   commission.Plan
	Former commission.Former
	Cannot []string // what cannot be put back, each a part of a sentence
}

// Return plans to put a device back as it was found, as far as that was recorded.
func (d *Desk) Return(planner *Planner, x *device.Device) (*Return, error) {
	found := x.AsFound
	if found == nil {
		return nil, &Misuse{advice.Wrap(fmt.Errorf("nothing is recorded of how %s was found: nothing was ever written to it", x.Label()), "%s takes it out of the job", advice.Leave.On(x.Label()))}
	}
	out := &Return{Device: x, Plan: planner.KeyPlan(x)}
	p := &out.Plan
	p.Manner = policy.MannerOf(x)
	if p.Manner != commission.ByService {
		return nil, &Misuse{fmt.Errorf("%s was set up by hand: put it back by hand. It had %s", x.Label(), ReturnText(*found))}
	}
	p.Target, p.Wants = *found, found.All()
	for _, s := range settings.All {
		had := p.Wants[s.Name]
		if !s.OneWay || had == "" {
			continue
		}
		if delete(p.Wants, s.Name); x.Setting(s) != had {
			out.Cannot = append(out.Cannot, fmt.Sprintf("its %s (%s)", s.Title, had))
		}
	}
	out.Former.DHCP = found.DHCP
	if found.DHCP || !found.Address.Is4() {
		// It stays where it is until it is told to ask by DHCP.
		p.Target.Address, p.Target.Prefix, p.Target.Gateway, p.Target.DHCP = x.Address(), max(x.Settings.Prefix, 1), x.Settings.Gateway, false
		p.Target.DNS, p.Target.NTP = nil, nil
	}
	if g := p.Target.Gateway; g.IsValid() && ground.Check(netip.PrefixFrom(p.Target.Address, p.Target.Prefix), p.Target.Address, g) != nil {
		p.Target.Gateway = netip.Addr{}
		out.Cannot = append(out.Cannot, fmt.Sprintf("its gateway (%s is outside its own subnet)", g))
	}
	if !found.DHCP && !found.Address.Is4() {
		out.Cannot = append(out.Cannot, "its address (it had none that could be recorded)")
	}
	if found.Name == "" && x.Name != "" {
		out.Cannot = append(out.Cannot, fmt.Sprintf("its name, which it had none of (it is called %q)", x.Name))
	}
	for a := range planner.Progress[x.ID].Users {
		out.Former.Dismiss = append(out.Former.Dismiss, a.Name)
	}
	slices.Sort(out.Former.Dismiss)
	out.Cannot = append(out.Cannot, "its clock, which is right now", "its password, which is the keyring's from now on")
	if len(x.Links) > 0 {
		out.Cannot = append(out.Cannot, "what it knows of other devices (its channels, its pair, its server)")
	}
	return out, nil
}

// ReturnText tells the settings that a device was found with.
func ReturnText(s device.Settings) string {
	parts := []string{"DHCP"}
	if !s.DHCP {
		parts = []string{fmt.Sprintf("address %s/%d", s.Address, s.Prefix)}
		if s.Gateway.IsValid() {
			parts = append(parts, "gateway "+s.Gateway.String())
		}
	}
	if s.Name != "" {
		parts = append(parts, fmt.Sprintf("name %q", s.Name))
	}
	values := s.All()
	for _, x := range settings.All {
		if value := values[x.Name]; value != "" && !x.OneWay {
			parts = append(parts, x.Title+" "+value)
		}
	}
	return strings.Join(parts, ", ")
}

// PutBack puts devices back as they were found, side by side, and leaves those that are out of the job.
func (d *Desk) PutBack(ctx context.Context, n *reach.Net, planner *Planner, list []*Return, tell View) ([]commission.Result, error) {
	prover, done, err := d.Prover(ctx, n)
	if err != nil {
		return nil, err
	}
	defer done()
	w := d.worker(prover, tell.Step, planner.Keyring)
	plans := make([]commission.Plan, len(list))
	for i, r := range list {
		plans[i] = r.Plan
	}
	results, err := d.watchOver(ctx, planner.Keyring, tell, func(done func(commission.Result)) []commission.Result {
		return commission.Each(plans, spawn, done, func(p commission.Plan) commission.Result {
			if p.Stop != nil {
				return commission.Result{Plan: p, Status: commission.NeedsYou, Reason: p.Stop.Error(), Next: p.Stop.Next}
			}
			at := slices.IndexFunc(list, func(r *Return) bool { return r.Plan.ID == p.ID })
			return w.PutBack(ctx, p, list[at].Former)
		})
	})
	if err != nil {
		return results, err
	}
	var errs []error
	for _, r := range results {
		if r.Status == commission.Done {
			errs = append(errs, d.Job.Register.Change(context.WithoutCancel(ctx), "put back", r.Plan.ID, func(x *device.Device) { x.Apply(device.PutBack{At: time.Now()}) }))
		}
	}
	return results, errors.Join(errs...)
}
