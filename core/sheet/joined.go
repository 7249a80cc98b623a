package sheet

import (
	"slices"

	"janustat/core/device"
)

// Joining is which devices of a job work together.
type Joining struct {
	Recorders []JoinedRecorder // in the order of their tags
	Auto      []*device.Device // cameras that get a free channel, in the order of their tags
	Pairs     []JoinedPair
	Reporters []*device.Device
}

// JoinedRecorder is a recorder and its channels.
type JoinedRecorder struct {
	Device *device.Device
	Fixed  map[int]*device.Device
	Auto   bool // it takes cameras of Auto
}

// JoinedPair is a door station, and an indoor one that it rings.
type JoinedPair struct {
	Door, Station *device.Device
	Floor         int
	Flat          string
}

// Joined tells which devices of the job work together by the sheet, or all that is wrong
// with that.
func (a Among) Joined(devices []device.Device) (Joining, error) {
	var j Joining
	var wrong Problems
	var taken []*device.Device
	job := device.OfJob(devices)
	for i := range job {
		taken = append(taken, &job[i])
	}
	find := func(r Ref, where, what string, ok func(*device.Device) bool) *device.Device {
		for _, d := range taken {
			if a.means(r.Text, d) == notMeant {
				continue
			}
			if !ok(d) {
				wrong = append(wrong, r.Problem("%s: %s is no %s", where, r.Text, what))
				return nil
			}
			return d
		}
		wrong = append(wrong, r.Problem("%s: %s is not in the job", where, r.Text))
		return nil
	}
	a.joinChannels(&j, taken, find)
	paired := map[int64]bool{}
	for _, p := range a.Intercoms.Pairs {
		where := "intercoms." + p.Door.Text
		door := find(p.Door, "intercoms", "door station", func(d *device.Device) bool { return d.Kind == device.Intercom && !d.Indoor })
		station := find(p.Station, where, "indoor station", func(d *device.Device) bool { return d.Kind == device.Intercom && d.Indoor })
		if door != nil && station != nil {
			j.Pairs = append(j.Pairs, JoinedPair{door, station, p.Floor, p.Flat})
			paired[door.ID], paired[station.ID] = true, true
		}
	}
	for _, d := range taken {
		if len(a.Intercoms.Pairs) > 0 && d.Kind == device.Intercom && !paired[d.ID] && len(wrong) == 0 {
			wrong = append(wrong, a.Intercoms.At.Problem("intercoms: %s is in no pair: add it, or leave it out of the job", d.Tag))
		}
	}
	if a.Reporting.Server.IsValid() {
		reporters := a.Reporting.Devices
		if len(reporters) == 0 {
			reporters = []Ref{{Text: string(device.Panel)}}
		}
		for _, r := range reporters {
			meant := slices.DeleteFunc(slices.Clone(taken), func(d *device.Device) bool { return string(d.Kind) != r.Text })
			if !slices.Contains(device.Kinds, device.Kind(r.Text)) {
				meant = []*device.Device{find(r, "reporting.devices", "device", func(*device.Device) bool { return true })}
			}
			for _, d := range meant {
				if d != nil && !slices.Contains(j.Reporters, d) {
					j.Reporters = append(j.Reporters, d)
				}
			}
		}
	}
	return j, wrong.Err()
}

// finder gives the device that a reference means, if it is one to be found there.
type finder func(r Ref, where, what string, ok func(*device.Device) bool) *device.Device

func (a Among) joinChannels(j *Joining, taken []*device.Device, find finder) {
	named := map[int64]bool{}
	anyAuto := a.Channels.Auto
	for _, rc := range a.Channels.Recorders {
		d := find(rc.Recorder, "channels", "recorder", func(d *device.Device) bool { return d.Kind == device.Recorder })
		r := JoinedRecorder{Device: d, Fixed: map[int]*device.Device{}, Auto: rc.Auto}
		anyAuto = anyAuto || rc.Auto
		for _, c := range rc.Cameras {
			if camera := find(c.Camera, "channels."+rc.Recorder.Text, "camera", func(d *device.Device) bool {
				return d.Kind == device.Camera || d.Kind == device.Intercom && !d.Indoor // a door station has a picture too
			}); camera != nil {
				r.Fixed[c.Number], named[camera.ID] = camera, true
			}
		}
		if d != nil {
			j.Recorders = append(j.Recorders, r)
		}
	}
	for _, d := range taken {
		switch {
		case a.Channels.Auto && d.Kind == device.Recorder:
			j.Recorders = append(j.Recorders, JoinedRecorder{Device: d, Auto: true})
		case anyAuto && d.Kind == device.Camera && !named[d.ID]:
			j.Auto = append(j.Auto, d)
		}
	}
}
