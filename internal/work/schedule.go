package work

import (
	"context"
	"maps"
	"slices"

	"janustat/internal/job"
	"janustat/internal/schedule"
)

// Merge carries what a planner's list says of devices into the job: names into the job
// sheet, where it has none yet, everything else into the notes. kept are names of the sheet
// that the list has otherwise. Fields of the planner's own that taken knows are kept as
// planned ones: the record has such fields itself.
func (d *Desk) Merge(ctx context.Context, m schedule.Matched, taken func(field string) bool) (names int, kept []string, err error) {
	among := d.Job.Sheet.Among(d.Devices)
	add, notes := map[string]string{}, map[int64]job.Notes{}
	for _, x := range m.Matches {
		n := job.Notes{}
		for field, value := range x.Row.Own {
			if taken(field) {
				field = "planned " + field
			}
			if job.CheckField(field) == nil {
				n[field] = value
			}
		}
		f := x.Row.Fields
		for to, value := range map[string]string{
			job.Place: f[schedule.Place], job.Port: portOf(f), job.Remark: f[schedule.Remark], "planned channel": f[schedule.Channel], "planned tag": f[schedule.Tag],
		} {
			if value != "" {
				n[to] = value
			}
		}
		notes[x.Device.ID] = n
		name := f[schedule.Name]
		switch has := among.NameFor(x.Device); {
		case name == "" || name == has:
		case has != "":
			kept = append(kept, x.Device.Label())
		default:
			add[x.Device.MAC.String()] = name
		}
	}
	return len(add), kept, d.Decide(ctx, "planner's list", slices.Collect(maps.Keys(notes)), func() error {
		if err := job.AddNames(d.Job.Path(job.SheetFile), add); err != nil {
			return err
		}
		return d.Job.Register.SetNotes(ctx, notes)
	})
}

// portOf joins the switch and its port.
func portOf(f map[schedule.Column]string) string {
	switch s, p := f[schedule.Switch], f[schedule.Port]; {
	case s == "":
		return p
	case p == "":
		return s
	default:
		return s + "/" + p
	}
}
