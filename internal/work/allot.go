package work

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"janustat/core/advice"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/policy"
	"janustat/core/text"
)

// Allotting is how addresses are allotted.
type Allotting struct {
	Again    []string // selectors of those whose allotment is made anew
	Renumber []string // likewise, whatever address they have now
	Anew     bool     // the site network is resolved anew
	// Stale is of what was allotted and never sent alone: what has no address keeps none.
	Stale bool
}

// Allotted is what was decided.
type Allotted struct {
	Ground  ground.Ground
	Devices []device.Device
	Changed []string        // what was allotted otherwise before, and never sent
	Differs []string        // what sources say of the site network that is not taken over
	Moves   []string        // tags that the job sheet, as it is by now, would move
	Renames []device.Device // those that it would rename, with the name it has for them
	Remarks []string        // what in the job sheet is most likely not meant
	Crowded []string        // what recorders have no room for
}

// forgotten gives the devices of the job that selectors mean, by ID.
func (d *Desk) forgotten(terms []string) (map[int64]bool, error) {
	out := map[int64]bool{}
	if len(terms) == 0 {
		return out, nil
	}
	s, err := device.ParseSelector(terms)
	if err != nil {
		return nil, &Misuse{err}
	}
	chosen, err := s.List(d.Devices)
	if err != nil {
		return nil, err
	}
	for _, i := range chosen {
		if d.Devices[i].InJob == device.Taken {
			out[d.Devices[i].ID] = true
		}
	}
	if len(out) == 0 {
		return nil, misuse("allot again %s: none of these is in the job", strings.Join(terms, " "))
	}
	return out, nil
}

// Allot decides the address of every taken device. Nothing is sent.
func (d *Desk) Allot(ctx context.Context, o Allotting) (Allotted, error) {
	again, err := d.forgotten(o.Again)
	if err != nil {
		return Allotted{}, err
	}
	renumber, err := d.forgotten(o.Renumber)
	if err != nil {
		return Allotted{}, err
	}
	if len(device.OfJob(d.Devices)) == 0 {
		return Allotted{}, &Misuse{advice.Wrap(errors.New("no device is taken"), "choose with %s first", advice.TakeAll)}
	}
	progress, err := d.Job.Register.Progress(ctx)
	if err != nil {
		return Allotted{}, err
	}
	keyed, err := d.Job.Register.MaybeKeyed(ctx)
	if err != nil {
		return Allotted{}, err
	}
	g, differs, err := KeepGround(ctx, d.Job, d.Devices, o.Anew)
	if err != nil {
		return Allotted{}, err
	}
	reserved, err := Reserved(ctx, d.Job, d.Devices)
	if err != nil {
		return Allotted{}, err
	}
	blocks := d.Job.Sheet.BlocksIn(g.Subnet)
	requests := policy.Requests(d.Devices, policy.Asking{
		Again:    func(x *device.Device) bool { return again[x.ID] },
		Renumber: func(x *device.Device) bool { return renumber[x.ID] },
		Begun:    func(x *device.Device) bool { return progress[x.ID].Moved },
		Named:    d.Job.Sheet.Among(d.Devices).AddressFor,
		Keyed:    keyed,
	})
	allotted, err := ground.Allot(g, blocks, reserved, requests)
	if err != nil {
		return Allotted{}, &Misuse{err}
	}
	out := Allotted{Ground: g, Differs: differs}
	at := time.Now()
	for _, a := range allotted {
		x := &d.Devices[slices.IndexFunc(d.Devices, func(x device.Device) bool { return x.Tag == a.Key })]
		if o.Stale && (x.Allotted == nil || x.Commissioned() || progress[x.ID].Moved) {
			continue
		}
		to := device.Settings{Address: a.Address, Prefix: g.Subnet.Bits(), Gateway: g.Gateway}
		if x.Commissioned() && !again[x.ID] && !renumber[x.ID] && !o.Anew && x.Allotted != nil {
			to = *x.Allotted // as it was set up
		}
		if x.Allotted != nil && x.Allotted.Address != to.Address && !again[x.ID] && !renumber[x.ID] {
			out.Changed = append(out.Changed, fmt.Sprintf("%s %s in place of %s (%s)", x.Tag, to.Address, x.Allotted.Address, a.Why))
		}
		asked := renumber[x.ID]
		switch {
		case asked:
			a.Why = "as asked for; " + a.Why
		case x.Asked && x.Allotted != nil && x.Allotted.Address == to.Address:
			a.Why, asked = x.Why, true
		}
		x.Apply(device.Allotment{At: at, Settings: to, Why: a.Why, Asked: asked})
		out.Devices = append(out.Devices, *x)
	}
	policy.Judge(d.Job.Sheet, d.Devices, g.Subnet)
	if err := d.Job.Register.Record(ctx, "allot", d.Devices); err != nil {
		return Allotted{}, err
	}
	d.wouldChange(&out, blocks)
	out.Crowded = d.crowded()
	out.Remarks = d.Job.Sheet.Among(d.Devices).Remarks(d.Devices)
	return out, nil
}

// Refresh allots anew what was allotted and never sent, where something is known by now that was
// not: a password, the ground, a sighting. It tells what changed, with the reason.
func (d *Desk) Refresh(ctx context.Context, only Selection) ([]string, error) {
	progress, err := d.Job.Register.Progress(ctx)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(d.Devices, func(x device.Device) bool {
		return x.InJob == device.Taken && only.Has(x.ID) && x.Allotted != nil && !x.Commissioned() && !progress[x.ID].Moved
	}) {
		return nil, nil
	}
	made, err := d.Allot(ctx, Allotting{Stale: true})
	return made.Changed, err
}

// wouldChange tells what the job sheet, as it is by now, would move or rename of what
// was set up already.
func (d *Desk) wouldChange(out *Allotted, blocks []ground.Block) {
	among := d.Job.Sheet.Among(d.Devices)
	for i := range d.Devices {
		x := d.Devices[i]
		if x.InJob != device.Taken || !x.Commissioned() || x.Allotted == nil {
			continue
		}
		at := slices.IndexFunc(blocks, func(b ground.Block) bool { return b.Name == string(x.Kind) })
		if named := among.AddressFor(&x); named.IsValid() && named != x.Allotted.Address {
			out.Moves = append(out.Moves, x.Tag)
		} else if x.Why != "" && x.Why != ground.RightThere && x.Kind != device.Recorder && at >= 0 && !blocks[at].Range.Contains(x.Allotted.Address) || !out.Ground.Subnet.Contains(x.Allotted.Address) {
			out.Moves = append(out.Moves, x.Tag)
		}
		if name := among.NameFor(&x); name != "" && name != x.AsLeft.Name {
			x.Name = name
			out.Renames = append(out.Renames, x)
		}
	}
}

// crowded says which cameras find no channel, as far as the recorders' room is known before they
// are set up.
func (d *Desk) crowded() (out []string) {
	joined, err := d.Job.Sheet.Among(d.Devices).Joined(d.Devices)
	if err != nil {
		return nil // what is wrong in the sheet is said where it is needed
	}
	free, known := 0, true
	var auto []string
	for _, r := range joined.Recorders {
		room := r.Device.Room
		if room == nil || r.Device.Commissioned() {
			known = known && !r.Auto
			continue
		}
		var beyond []string
		for _, n := range slices.Sorted(maps.Keys(r.Fixed)) {
			if n > room.Channels {
				beyond = append(beyond, fmt.Sprintf("channel %d (%s)", n, r.Fixed[n].Tag))
			}
		}
		if len(beyond) > 0 {
			out = append(out, fmt.Sprintf("%s has %s, so there is no %s", r.Device.Tag, text.Plural(room.Channels, "channel"), text.List(beyond)))
		}
		if r.Auto {
			auto = append(auto, r.Device.Tag)
			free += max(0, room.Channels-room.Used-(len(r.Fixed)-len(beyond)))
		}
	}
	if n := len(joined.Auto); known && len(auto) > 0 && n > free {
		var tags []string
		for _, c := range joined.Auto[free:] {
			tags = append(tags, c.Tag)
		}
		out = append(out, fmt.Sprintf("%s: %s free for %s, so none for %s", text.List(auto), text.Plural(free, "channel"), text.Plural(n, "camera"), text.List(tags)))
	}
	return out
}

// Notes tells in words what differs, and what would change.
func (a *Allotted) Notes() (out []advice.Advice) {
	for _, t := range a.Differs {
		out = append(out, advice.Say("%s", t))
	}
	if len(a.Changed) > 0 {
		out = append(out, advice.Say("allotted again, from what was learnt since: %s", strings.Join(a.Changed, "; ")))
	}
	if len(a.Moves) > 0 {
		out = append(out, advice.Say("%s set up at another address than the job sheet has now. To move: %s. Until then nothing moves", text.Are(a.Moves), advice.Renumber.On(strings.Join(a.Moves, ","))))
	}
	var renames []string
	for i := range a.Renames {
		renames = append(renames, fmt.Sprintf("%s from %q to %q", a.Renames[i].Tag, a.Renames[i].AsLeft.Name, a.Renames[i].Name))
	}
	if len(renames) > 0 {
		out = append(out, advice.Say("names in the job sheet were changed: %s will rename %s", advice.Commission, strings.Join(renames, ", ")))
	}
	for _, r := range a.Crowded {
		out = append(out, advice.Say("%s. Leave cameras out of `channels` in the job sheet, or add a recorder", r))
	}
	for _, r := range a.Remarks {
		out = append(out, advice.Say("the job sheet: %s", r))
	}
	return out
}
