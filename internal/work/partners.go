package work

import (
	"context"
	"slices"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/internal/reach"
)

// Partners gives the devices of the job that were told of others, by their tags: the recorders
// that record them, the stations that they are paired with.
func (d *Desk) Partners(tags []string) (out []*device.Device) {
	for i := range d.Devices {
		x := &d.Devices[i]
		told := func(l device.Link) bool { return slices.Contains(tags, l.Peer) && l.State != string(commission.ToType) }
		if x.InJob == device.Taken && x.Allotted != nil && x.ResetAt.IsZero() && !slices.Contains(tags, x.Tag) && slices.ContainsFunc(x.Links, told) {
			out = append(out, x)
		}
	}
	return out
}

// Park has the recorders among partners connect to none of these cameras until they are joined
// again: one that goes on with a password that is no more locks a camera for everybody. One that
// cannot be told goes on as it did. It gives how that went with each.
func (d *Desk) Park(ctx context.Context, n *reach.Net, planner *Planner, partners []*device.Device, tags []string, tell View) ([]commission.Result, error) {
	var recorders []*device.Device
	for _, x := range partners {
		if x.Kind == device.Recorder {
			recorders = append(recorders, x)
		}
	}
	if len(recorders) == 0 {
		return nil, nil
	}
	return d.Do(ctx, n, planner, recorders, func(w commission.Worker, ctx context.Context, p commission.Plan) commission.Result {
		for _, l := range device.ByID(d.Devices, p.ID).Links {
			if l.Kind == string(commission.StepChannel) && l.Number > 0 && slices.Contains(tags, l.Peer) {
				p.Links = append(p.Links, commission.Link{Step: commission.StepChannel, Number: l.Number, Peer: commission.Peer{Tag: l.Peer}})
			}
		}
		return w.Park(ctx, p)
	}, tell)
}

// Rejoin plans that devices are joined up anew with others that have new passwords, by their
// tags. also are planned beside, in full.
func (d *Desk) Rejoin(planner *Planner, partners []*device.Device, tags []string, also ...*device.Device) ([]commission.Plan, error) {
	only := Selection{}
	for _, x := range slices.Concat(partners, also) {
		only[x.ID] = true
	}
	// Those that are not set up yet are no matter of this, and are given no passwords by it.
	known := slices.DeleteFunc(slices.Clone(planner.All), func(x device.Device) bool { return !only[x.ID] && !x.Commissioned() })
	plans, err := d.Plans(planner, known, only, nil)
	for i := range plans {
		if k := plans[i].Channels; k != nil {
			k.Renew = tags
		}
	}
	return plans, err
}
