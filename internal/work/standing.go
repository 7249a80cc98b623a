package work

import (
	"net/netip"

	"janustat/core/advice"
	"janustat/core/device"
)

// Standing is where a job stands.
type Standing struct {
	Known, Configurable, Taken, Allotted, Commissioned, Proved int
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

// PassedBy gives the recorders and panels in the site's subnet that are protected and
// that nobody has decided about: the others are matched to them.
func PassedBy(devices []device.Device, site netip.Prefix) (out []device.Device) {
	for _, d := range devices {
		here := !site.IsValid() || site.Contains(d.Address())
		if d.InJob == device.Undecided && !d.NotOurs && d.Access == device.Sealed && (d.Kind == device.Recorder || d.Kind == device.Panel) && here {
			out = append(out, d)
		}
	}
	return out
}
