package schedule

import (
	"fmt"
	"slices"
	"strings"

	"janustat/core/device"
)

// Match is a row, and the device that it means.
type Match struct {
	Row    Row
	Device *device.Device
	By     string // mac, the end of its MAC, serial, tag, or order
}

// Matched is what came of laying a list beside the register.
type Matched struct {
	Matches []Match
	Rows    []Row            // that mean no device
	Devices []*device.Device // of the job that no row means
	Doubts  []string
}

// Meet lays the rows beside devices: by MAC, by the end of one, by serial number, by tag,
// each surer than the next. inOrder then takes what is left of each kind in its order.
func Meet(l List, devices []device.Device, inOrder bool) Matched {
	m := Matched{Doubts: slices.Clone(l.Doubts)}
	taken := map[int64]int{} // line, by ID
	rows := slices.Clone(l.Rows)
	rows = slices.DeleteFunc(rows, func(r Row) bool {
		two := contradicts(&r, devices)
		if two != "" {
			m.Doubts = append(m.Doubts, fmt.Sprintf("%s: %s: left out, correct the list", r.Where(), two))
		}
		return two != ""
	})
	for _, way := range ways {
		var left []Row
		for _, r := range rows {
			found := way.find(&r, devices)
			switch {
			case len(found) == 0:
				left = append(left, r)
			case len(found) > 1:
				m.Doubts = append(m.Doubts, fmt.Sprintf("%s: %s of several devices: left out", r.Where(), way.name))
				left = append(left, r)
			case taken[found[0].ID] > 0:
				m.Doubts = append(m.Doubts, fmt.Sprintf("%s: means %s, as line %d does: left out", r.Where(), found[0].Label(), taken[found[0].ID]))
			default:
				taken[found[0].ID] = r.Line
				m.Matches = append(m.Matches, Match{r, found[0], way.name})
			}
		}
		rows = left
	}
	if inOrder {
		rows = m.inOrder(rows, devices, taken)
	}
	m.Rows = rows
	for i := range devices {
		if d := &devices[i]; d.InJob == device.Taken && taken[d.ID] == 0 {
			m.Devices = append(m.Devices, d)
		}
	}
	slices.SortStableFunc(m.Matches, func(a, b Match) int { return a.Row.Line - b.Row.Line })
	return m
}

// contradicts tells where the MAC and the serial number of a row are of two devices: which of them
// is meant nobody can say but its author. A tag may be the planner's own, and says nothing then.
func contradicts(r *Row, devices []device.Device) string {
	said := map[int64]string{}
	var order []*device.Device
	for _, by := range []struct {
		name string
		fits func(d *device.Device) bool
	}{
		{"its MAC", func(d *device.Device) bool { return !r.MAC.IsZero() && d.MAC == r.MAC }},
		{"its serial number", func(d *device.Device) bool {
			return d.Serial != "" && strings.EqualFold(d.Serial, r.Fields[Serial])
		}},
	} {
		found := those(devices, by.fits)
		if len(found) != 1 || said[found[0].ID] != "" {
			continue
		}
		said[found[0].ID] = by.name
		order = append(order, found[0])
	}
	if len(order) < 2 {
		return ""
	}
	return fmt.Sprintf("%s is of %s, %s of %s", said[order[0].ID], order[0].Label(), said[order[1].ID], order[1].Label())
}

// ways are how a row names a device, the surest first.
var ways = []struct {
	name string
	find func(r *Row, devices []device.Device) []*device.Device
}{
	{"MAC", func(r *Row, devices []device.Device) []*device.Device {
		return those(devices, func(d *device.Device) bool { return !r.MAC.IsZero() && d.MAC == r.MAC })
	}},
	{"serial number", func(r *Row, devices []device.Device) []*device.Device {
		return those(devices, func(d *device.Device) bool { return d.Serial != "" && strings.EqualFold(d.Serial, r.Fields[Serial]) })
	}},
	{"end of the MAC", func(r *Row, devices []device.Device) []*device.Device {
		return those(devices, func(d *device.Device) bool { return r.Ending != "" && strings.HasSuffix(d.MAC.Hex(), r.Ending) })
	}},
	{"tag", func(r *Row, devices []device.Device) []*device.Device {
		told := !r.MAC.IsZero() || r.Fields[Serial] != "" || r.Ending != "" // by which it is another device
		return those(devices, func(d *device.Device) bool { return !told && d.Tag != "" && strings.EqualFold(d.Tag, r.Fields[Tag]) })
	}},
}

func those(devices []device.Device, ok func(*device.Device) bool) (out []*device.Device) {
	for i := range devices {
		if ok(&devices[i]) {
			out = append(out, &devices[i])
		}
	}
	return out
}

// inOrder matches what is left, kind by kind, as both stand.
func (m *Matched) inOrder(rows []Row, devices []device.Device, taken map[int64]int) (left []Row) {
	for _, r := range rows {
		at := slices.IndexFunc(devices, func(d device.Device) bool {
			return d.InJob == device.Taken && taken[d.ID] == 0 && means(r.Fields[Kind], &d)
		})
		if at < 0 {
			left = append(left, r)
			continue
		}
		taken[devices[at].ID] = r.Line
		m.Matches = append(m.Matches, Match{r, &devices[at], "order"})
	}
	return left
}

// means reports whether a planner's word is for the kind of a device.
func means(word string, d *device.Device) bool {
	word = strings.ToLower(word)
	has := func(list ...string) bool {
		return slices.ContainsFunc(list, func(w string) bool { return strings.Contains(word, w) })
	}
	switch {
	case has(cameraWords...):
		return d.Kind == device.Camera
	case has(recorderWords...):
		return d.Kind == device.Recorder
	case has(indoorWords...):
		return d.Kind == device.Intercom && d.Indoor
	case has(doorWords...):
		return d.Kind == device.Intercom && !d.Indoor
	case has(panelWords...):
		return d.Kind == device.Panel
	}
	return false
}
