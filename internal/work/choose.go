package work

import (
	"context"
	"fmt"
	"slices"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/text"
)

// Chosen is what a choice of devices comes to, before it is kept.
type Chosen struct {
	Choice  device.Choice
	All     int             // devices that were chosen
	Changed []device.Device // of these that become something else, as they will be, in the order of lists
	Kept    []string        // what is to be known of some, in words

	desk    *Desk
	devices []device.Device
}

// Choose puts devices into the job or out of it. kind, if it is set, is what they are, where they do
// not say so themselves, or say what they are not. Nothing is kept before Keep.
func (d *Desk) Choose(s device.Selector, choice device.Choice, kind device.Kind, now time.Time) (*Chosen, error) {
	c := &Chosen{Choice: choice, desk: d, devices: slices.Clone(d.Devices)}
	chosen, err := s.Choose(c.devices)
	if err != nil {
		return nil, err
	}
	c.All = len(chosen)
	var changed []int
	for _, i := range chosen {
		x := &c.devices[i]
		if choice == device.Taken && x.NotOurs {
			return nil, &Misuse{fmt.Errorf("%s at %s is on a subnet that the job sheet says is another's (network.not_ours): it is never touched", x.Label(), x.Address())}
		}
		another := choice == device.Taken && kind != "" && x.Kind != kind
		if another {
			was, letter := x.Kind, x.TagLetter()
			if x.Apply(device.Named{At: now, Kind: kind}); x.Tag != "" && x.TagLetter() != letter {
				c.Kept = append(c.Kept, fmt.Sprintf("%s was marked %s and is now marked %s. It keeps its tag", x.Label(), was, kind))
			}
		}
		if choice == device.Taken && x.Kind == device.Other {
			return nil, &Misuse{advice.Wrap(fmt.Errorf("%s does not report its kind", x.Label()), "give it: %s. You then set it up by hand, or give it an address by %s if it has none",
				advice.TakeByHand.On(x.MAC.String()), advice.Lease)}
		}
		if x.InJob == choice && !another {
			continue
		}
		if choice == device.Left && x.Commissioned() {
			c.Kept = append(c.Kept, fmt.Sprintf("%s keeps %s and its password, which stays on the keyring; the record goes on naming it, as left out", x.Label(), x.AsLeft.Address))
		}
		x.Apply(device.Chosen{At: now, Choice: choice})
		changed = append(changed, i)
	}
	if choice == device.Taken {
		device.AssignTags(c.devices, chosen)
	}
	for _, i := range changed {
		c.Changed = append(c.Changed, c.devices[i])
	}
	device.Sort(c.Changed)
	return c, nil
}

// Devices are all that the job knows, as they will be.
func (c *Chosen) Devices() []device.Device { return c.devices }

// Keep keeps the choice, so that it can be taken back.
func (c *Chosen) Keep(ctx context.Context) error {
	var ids []int64
	for i := range c.Changed {
		ids = append(ids, c.Changed[i].ID)
	}
	what := fmt.Sprintf("choice of %s as %s", text.Plural(len(c.Changed), "device"), c.Choice)
	return c.desk.Decide(ctx, what, ids, func() error {
		if err := c.desk.Job.Register.Record(ctx, "choice", c.devices); err != nil {
			return err
		}
		c.desk.Devices = c.devices
		return nil
	})
}
