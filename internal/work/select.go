package work

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
)

// Selection is which devices of the job something is done to, by ID; nil means all.
type Selection map[int64]bool

// Has reports whether a device is meant.
func (s Selection) Has(id int64) bool { return s == nil || s[id] }

// Select reads selectors of devices of the job; none mean all of it. A device that is named
// and not in the job is an error, and so are selectors that fit none.
func (d *Desk) Select(terms []string) (Selection, error) {
	if len(terms) == 0 {
		return nil, nil
	}
	s, err := device.ParseSelector(terms)
	if err != nil {
		return nil, &Misuse{err}
	}
	for _, ref := range s.Refs() {
		if _, err := d.InJob(ref); err != nil {
			return nil, err
		}
	}
	chosen, err := s.List(d.Devices)
	if err != nil {
		return nil, err
	}
	out := Selection{}
	for _, i := range chosen {
		if d.Devices[i].InJob == device.Taken {
			out[d.Devices[i].ID] = true
		}
	}
	if len(out) == 0 {
		return nil, unfinished("no device of the job fits %s: nothing was done", strings.Join(terms, " "))
	}
	return out, nil
}

// Ready parts the taken devices that are meant into those with an allotment and those
// without, the latter by tag. It is an error if none is ready.
func (d *Desk) Ready(only Selection) (n int, waiting []string, err error) {
	for i := range d.Devices {
		x := &d.Devices[i]
		switch {
		case x.InJob != device.Taken || !only.Has(x.ID):
		case x.Allotted == nil:
			waiting = append(waiting, x.Tag)
		default:
			n++
		}
	}
	switch {
	case n > 0:
		return n, waiting, nil
	case len(waiting) > 0:
		return 0, nil, &Misuse{advice.Wrap(fmt.Errorf("%s has no address allotted", waiting[0]), "run %s first", advice.Allot)}
	}
	return 0, nil, &Misuse{advice.Wrap(errors.New("no device is taken"), "choose with %s, then run %s", advice.TakeAll, advice.Allot)}
}

// of leaves the plans that are meant. What is neither meant nor set up yet is nothing that
// they could be joined to: it joins them once it is commissioned.
func (s Selection) of(plans []commission.Plan) []commission.Plan {
	if s == nil {
		return plans
	}
	absent := func(p commission.Peer) bool { return p.ID != 0 && !s.Has(p.ID) && !p.Known }
	without := func(links []commission.Link) []commission.Link {
		return slices.DeleteFunc(slices.Clone(links), func(l commission.Link) bool { return absent(l.Peer) })
	}
	plans = slices.DeleteFunc(plans, func(p commission.Plan) bool { return !s.Has(p.ID) })
	for i := range plans {
		p := &plans[i]
		p.Links = without(p.Links)
		if c := p.Channels; c != nil {
			some := *c
			some.Fixed, some.Auto, some.Recorders = without(c.Fixed), without(c.Auto), slices.DeleteFunc(slices.Clone(c.Recorders), absent)
			p.Channels = &some
		}
	}
	return plans
}

// tags leaves the tags of devices that are meant.
func (s Selection) tags(list []string, devices []device.Device) []string {
	return slices.DeleteFunc(slices.Clone(list), func(tag string) bool {
		return !slices.ContainsFunc(devices, func(x device.Device) bool { return x.Tag == tag && s.Has(x.ID) })
	})
}
