package work

import (
	"slices"

	"janustat/core/advice"
	"janustat/core/device"
)

// Standing is where a job stands.
type Standing struct {
	// New are those that all would take.
	Known, Configurable, New, Taken, Allotted, Commissioned, Proved int
	// Alarms are devices that are not what they were; Reset those that wait to be
	// restored, by tag.
	Alarms, Reset []string
	Next          advice.Step // in the order of the work
}

// Stand counts devices, and tells what is next.
func Stand(devices []device.Device, surveyed bool) Standing {
	s := Standing{Known: len(devices)}
	count := func(n *int, yes bool) {
		if yes {
			*n++
		}
	}
	for i := range devices {
		d := &devices[i]
		count(&s.Configurable, d.Configurable())
		count(&s.New, d.Configurable() && d.InJob == device.Undecided && d.SetUpBy == "" && !d.NotOurs)
		if d.InJob != device.Taken {
			continue
		}
		s.Taken++
		count(&s.Allotted, d.Allotted != nil)
		count(&s.Commissioned, d.Commissioned())
		count(&s.Proved, !d.Proved.IsZero())
		if d.Alarm != "" {
			s.Alarms = append(s.Alarms, d.Tag)
		}
		if !d.ResetAt.IsZero() {
			s.Reset = append(s.Reset, d.Tag)
		}
	}
	s.Next = s.next(surveyed)
	return s
}

func (s *Standing) next(surveyed bool) advice.Step {
	switch {
	case !surveyed:
		return advice.Step{Act: advice.Survey}
	case s.Taken == 0:
		return advice.Step{Act: advice.TakeAll}
	case s.Allotted < s.Taken:
		return advice.Step{Act: advice.Allot}
	case s.Commissioned+len(s.Reset) < s.Taken:
		return advice.Step{Act: advice.Commission}
	case len(s.Reset) > 0:
		return advice.Restore.On(s.Reset[0])
	case s.Proved < s.Taken:
		return advice.Step{Act: advice.Prove}
	}
	return advice.Step{Act: advice.Handover}
}

// Closed gives those that SetApart gives, and the devices of the job that no password of the
// keyring has opened.
func Closed(devices []device.Device) (out []device.Device) {
	for _, d := range devices {
		if d.InJob == device.Taken && d.Access == device.Sealed && d.OpenedAt.IsZero() && d.Alarm == "" {
			out = append(out, d)
		}
	}
	return append(out, SetApart(devices)...)
}

// SetApart gives the devices that somebody has set up outside the job, and that nobody has
// decided about: recorders and panels first, since the others are matched to them.
func SetApart(devices []device.Device) (out []device.Device) {
	for _, d := range devices {
		if d.InJob == device.Undecided && d.SetUpBy != "" {
			out = append(out, d)
		}
	}
	slices.SortStableFunc(out, func(a, b device.Device) int { return a.Kind.Order() - b.Kind.Order() })
	return out
}
