package policy

import (
	"cmp"
	"maps"
	"net/netip"
	"slices"

	"janustat/core/advice"
	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/sheet"
)

// join plans what devices are to know of each other.
func (p *Planner) join(plans []commission.Plan, devices []device.Device) {
	j := joiner{Planner: p, plans: map[int64]*commission.Plan{}, devices: devices}
	for i := range plans {
		j.plans[plans[i].ID] = &plans[i]
		plans[i].Peer = peerOf(device.ByID(devices, plans[i].ID), plans[i].Target)
	}
	j.channels()
	for _, pair := range p.Joining.Pairs {
		j.pair(pair)
	}
	j.partings()
	for _, d := range p.Joining.Reporters {
		if plan := j.plans[d.ID]; plan != nil {
			plan.Links = append(plan.Links, commission.Link{Step: commission.StepReport, Peer: commission.Peer{Address: p.Sheet.Reporting.Server, Port: p.Sheet.Reporting.Port}})
		}
	}
}

type joiner struct {
	*Planner
	plans   map[int64]*commission.Plan
	devices []device.Device
}

// peerOf is a device as others are told of it, by what the register knows.
func peerOf(d *device.Device, target device.Settings) commission.Peer {
	peer := commission.Peer{
		ID: d.ID, Tag: d.Tag, Name: cmp.Or(target.Name, d.Name), Serial: d.Serial, MAC: d.MAC, Address: target.Address, Endpoint: d.Endpoint,
		Door: d.Kind == device.Intercom && !d.Indoor, Known: d.Commissioned(),
	}
	if d.Stream != nil {
		peer.Stream = *d.Stream
	}
	if d.AsLeft != nil && d.AsLeft.Address != target.Address {
		peer.Before = []netip.Addr{d.AsLeft.Address}
	}
	return peer
}

// channels plans those of every recorder.
func (j *joiner) channels() {
	var auto []commission.Link
	for _, d := range j.Joining.Auto {
		if l, ok := j.channel(d); ok {
			auto = append(auto, l)
		}
	}
	var recorders []commission.Peer
	for _, r := range j.Joining.Recorders {
		if plan := j.plans[r.Device.ID]; plan != nil && r.Auto {
			recorders = append(recorders, plan.Peer)
		}
	}
	var own []commission.Peer
	for id := range j.plans {
		if d := device.ByID(j.devices, id); d != nil && d.Kind == device.Camera {
			own = append(own, j.plans[id].Peer)
		}
	}
	slices.SortFunc(own, func(a, b commission.Peer) int { return cmp.Compare(a.ID, b.ID) })
	for _, r := range j.Joining.Recorders {
		k := &commission.Channels{Own: own, Replace: j.ReplaceChannels}
		for _, n := range slices.Sorted(maps.Keys(r.Fixed)) {
			if l, ok := j.channel(r.Fixed[n]); ok {
				l.Number = n
				k.Fixed = append(k.Fixed, l)
			}
		}
		if r.Auto {
			k.Auto, k.Recorders = auto, recorders
		}
		if plan := j.plans[r.Device.ID]; plan != nil {
			k.Known = channelsOf(device.ByID(j.devices, r.Device.ID))
			plan.Channels = k
		}
	}
}

// channelsOf gives the channels of a recorder that this job has set, by number.
func channelsOf(d *device.Device) map[int]device.Link {
	out := map[int]device.Link{}
	for _, l := range d.Links {
		if l.Kind == string(commission.StepChannel) && l.Number > 0 && l.State != string(commission.Others) {
			out[l.Number] = l
		}
	}
	return out
}

// channel plans a camera as the source of one: with a user of the recorder's own, which
// may watch and no more, and a password for this camera alone.
func (j *joiner) channel(d *device.Device) (commission.Link, bool) {
	plan := j.plans[d.ID]
	if plan == nil {
		return commission.Link{}, false
	}
	d = device.ByID(j.devices, d.ID) // as it is now, which may be another unit
	l := commission.Link{Step: commission.StepChannel, Peer: plan.Peer, User: sheet.RecorderUser}
	if plan.Stop != nil {
		return l, true // it is waited for, and named
	}
	password := j.Keys.UserFor(d.MAC, sheet.RecorderUser)
	if password.IsZero() {
		var err error
		if password, err = j.ownSecret(d, sheet.RecorderUser); err != nil {
			*plan = stopped(*plan, d, err)
			return l, true
		}
		j.Keys.SetUserFor(d.MAC, sheet.RecorderUser, password)
		j.Changed = true
	}
	a := recorderUser
	plan.Users = append(slices.Clone(plan.Users), commission.User{Account: a, Password: password, Made: j.Progress[d.ID].Users[a]})
	plan.Watched, l.Secret = sheet.RecorderUser, password
	return l, true
}

// recorderUser is the user that recorders open cameras by: it may watch, and no more.
var recorderUser = commission.Account{Name: sheet.RecorderUser, Level: commission.Viewer}

// ownSecret makes a password for one device alone, whatever the job's style.
func (p *Planner) ownSecret(d *device.Device, user string) (secret.Password, error) {
	rules, err := rulesFor(p.Sheet, []device.Device{asTaken(*d)})
	if err != nil {
		return secret.Password{}, err
	}
	return secret.Generate(rules, user, p.Random)
}

// pair plans that a door station and an indoor one are told of each other.
func (j *joiner) pair(pair sheet.JoinedPair) {
	door, station := j.plans[pair.Door.ID], j.plans[pair.Station.ID]
	if door == nil || station == nil {
		return
	}
	s := j.Keys.Pair(pair.Door.MAC, pair.Station.MAC)
	if s.IsZero() {
		var err error
		if s, err = secret.Generate(secret.Sane, pair.Flat, j.Random); err != nil {
			door.Stop = &commission.Trouble{Reason: "gets no registration secret", Err: err, Next: advice.Say("run %s again", advice.Commission)}
			return
		}
		j.Keys.SetPair(pair.Door.MAC, pair.Station.MAC, s)
		j.Changed = true
	}
	l := commission.Link{Step: commission.StepPair, Floor: pair.Floor, Flat: pair.Flat, Secret: s}
	l.Peer = station.Peer
	door.Links = append(door.Links, l)
	l.Peer = door.Peer
	station.Links = append(station.Links, l)
}

// partings plans that stations forget those that this job has told them of, and that the job
// sheet pairs with them no more.
func (j *joiner) partings() {
	for i := range j.devices {
		d := &j.devices[i]
		plan := j.plans[d.ID]
		if plan == nil || d.Kind != device.Intercom {
			continue
		}
		for k := range j.All {
			o := &j.All[k]
			if o.ID == d.ID || o.Kind != device.Intercom || j.Keys.Pair(d.MAC, o.MAC).IsZero() && j.Keys.Pair(o.MAC, d.MAC).IsZero() {
				continue
			}
			if !slices.ContainsFunc(plan.Links, func(l commission.Link) bool { return l.Step == commission.StepPair && l.Peer.ID == o.ID }) {
				plan.Partings = append(plan.Partings, peerOf(o, device.Settings{}))
			}
			for _, serial := range o.Former { // a dead unit rings at no door any more
				plan.Formers = append(plan.Formers, commission.Peer{Tag: o.Tag, Name: "as it was before", Serial: serial})
			}
		}
	}
}

// Recorded has the plans of recorders name the channels that the register knows, with what
// is not on any recorder yet beside; so they can be looked at without a run of all.
func Recorded(plans []commission.Plan, devices []device.Device) {
	on := map[string]bool{} // cameras, by tag
	for i := range plans {
		p := &plans[i]
		if p.Channels == nil {
			continue
		}
		links := slices.Clone(p.Channels.Fixed)
		for _, l := range links {
			on[l.Peer.Tag] = true
		}
		for _, known := range device.ByID(devices, p.ID).Links {
			at := slices.IndexFunc(p.Channels.Auto, func(l commission.Link) bool { return l.Peer.Tag == known.Peer })
			if known.Kind != string(commission.StepChannel) || at < 0 || on[known.Peer] {
				continue
			}
			l := p.Channels.Auto[at]
			l.Number, on[known.Peer] = known.Number, true
			links = append(links, l)
		}
		for i := range links {
			links[i].Peer.Stream = links[i].Peer.Stream.For(device.ByID(devices, p.ID).Encodings)
			if known, ok := p.Channels.Known[links[i].Number]; ok && known.Peer == links[i].Peer.Tag {
				links[i].Shown, links[i].Keeps = known.Shown, known.Keeps
			}
		}
		p.Links = slices.Concat(links, p.Links)
	}
	for i := range plans {
		if p := &plans[i]; p.Channels != nil {
			for _, l := range p.Channels.Auto {
				if !on[l.Peer.Tag] {
					on[l.Peer.Tag] = true
					p.Links = append(p.Links, l)
				}
			}
		}
	}
}
