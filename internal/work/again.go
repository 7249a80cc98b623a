package work

import (
	"context"
	"time"

	"janustat/core/device"
	"janustat/internal/reach"
)

// Unread gives the devices of the job that are meant and of which no more is known than that
// they are devices.
func (d *Desk) Unread(only Selection) (out []device.Device) {
	for _, x := range d.Devices {
		if x.InJob == device.Taken && x.Access == device.Unread && only.Has(x.ID) {
			out = append(out, x)
		}
	}
	return out
}

// ReadAgain asks devices once more what they are, and keeps what they tell.
func (d *Desk) ReadAgain(ctx context.Context, n *reach.Net, devices []device.Device) error {
	s, err := d.NewSurvey(ctx, n, SurveyOrder{Silent: true})
	if err != nil {
		return err
	}
	told, err := s.Again(ctx, devices)
	if err != nil || len(told) == 0 {
		return err
	}
	d.Devices, _ = device.Reconcile(d.Devices, WithKinds(d.Job, device.Merge(told)), time.Time{})
	return d.Save(ctx, "read")
}
