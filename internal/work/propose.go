package work

import (
	"fmt"
	"strings"

	"janustat/core/device"
	"janustat/core/sheet"
	"janustat/core/text"
)

// Proposal is which devices might work together, where the job sheet does not say so yet.
type Proposal struct {
	Lines    []string          // in words, one for each sort
	Sections map[string]string // of the job sheet, as they would be written
	Panels   int               // that would report to no server
}

// Propose makes a proposal of kinds and counts: cameras on the free channels of the recorders,
// in the order of their tags; door stations with the indoor ones, one with one where there are as
// many, and else each with all; panels with no server, which nobody can guess. It is empty where the job sheet
// has said all of that.
func Propose(sheet *sheet.Sheet, devices []device.Device) Proposal {
	p := Proposal{Sections: map[string]string{}}
	var recorders, cameras, doors, stations, panels []string
	of := device.OfJob(devices)
	for i := range of {
		d := &of[i]
		if d.ByHand() {
			continue
		}
		switch {
		case d.Kind == device.Recorder:
			recorders = append(recorders, d.Tag)
		case d.Kind == device.Camera:
			cameras = append(cameras, d.Tag)
		case d.Kind == device.Intercom && d.Indoor:
			stations = append(stations, d.Tag)
		case d.Kind == device.Intercom:
			doors = append(doors, d.Tag)
		case d.Kind == device.Panel:
			panels = append(panels, d.Tag)
		}
	}
	if len(recorders) > 0 && len(cameras) > 0 && !sheet.Channels.Given() && !sheet.Channels.None {
		p.Sections["channels"] = "auto"
		p.Lines = append(p.Lines, fmt.Sprintf("recorder channels: %s on the free channels of %s, in the order of their tags", text.Plural(len(cameras), "camera"), text.List(recorders)))
	}
	if len(doors) > 0 && len(stations) > 0 && len(sheet.Intercoms.Pairs) == 0 && !sheet.Intercoms.None {
		var all, told []string
		for i, door := range doors {
			rings := stations
			if len(doors) == len(stations) {
				rings = stations[i : i+1]
			}
			var entries []string
			for _, s := range rings {
				flat := 101
				for n, x := range stations {
					if x == s {
						flat += n
					}
				}
				entries = append(entries, fmt.Sprintf("%s: {flat: %d}", s, flat))
			}
			all = append(all, fmt.Sprintf("%s: {%s}", door, strings.Join(entries, ", ")))
			told = append(told, fmt.Sprintf("%s rings %s", door, strings.Join(rings, " ")))
		}
		p.Sections["intercoms"] = "{" + strings.Join(all, ", ") + "}"
		p.Lines = append(p.Lines, "intercoms: "+strings.Join(told, "; "))
	}
	if len(panels) > 0 && !sheet.Reporting.Server.IsValid() && !sheet.Reporting.None {
		p.Sections["reporting"], p.Panels = "none", len(panels)
		p.Lines = append(p.Lines, fmt.Sprintf("%s: to no server", text.Plural(len(panels), "panel")))
	}
	return p
}
