package work

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"janustat/core/device"
	"janustat/core/ground"
	"janustat/internal/job"
	"janustat/internal/schedule"
	"janustat/internal/sheetfile"
	"janustat/internal/store"
)

// Merge carries what a planner's list says of devices into the job: names into the job
// sheet, where it has none yet, everything else into the notes. kept are names of the sheet
// that the list has otherwise. Fields of the planner's own that taken knows are kept as
// planned ones: the record has such fields itself.
func (d *Desk) Merge(ctx context.Context, m schedule.Matched, taken func(field string) bool) (names int, kept []string, err error) {
	among := d.Job.Sheet.Among(d.Devices)
	add, notes, addresses := map[string]string{}, map[int64]store.Notes{}, map[string]string{}
	for _, x := range m.Matches {
		n := store.Notes{}
		for field, value := range x.Row.Own {
			if taken(field) {
				field = "planned " + field
			}
			if store.CheckField(field) == nil {
				n[field] = value
			}
		}
		f := x.Row.Fields
		for to, value := range map[string]string{
			store.Place: f[schedule.Place], store.Port: x.Row.SwitchPort(), store.Remark: f[schedule.Remark], "planned channel": f[schedule.Channel], "planned tag": f[schedule.Tag],
		} {
			if value != "" {
				n[to] = value
			}
		}
		notes[x.Device.ID] = n
		if x.Row.At.IsValid() && !among.AddressFor(x.Device).IsValid() && !(x.Device.Commissioned() && x.Device.AsLeft.Address == x.Row.At) {
			addresses[x.Device.MAC.String()] = x.Row.At.String()
		}
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
		if err := sheetfile.AddNames(d.Job.Path(job.SheetFile), add); err != nil {
			return err
		}
		if err := sheetfile.AddAddresses(d.Job.Path(job.SheetFile), addresses); err != nil {
			return err
		}
		return d.Job.Register.SetNotes(ctx, notes)
	})
}

// Misplaced tells which addresses of a planner's list cannot be given, before anything is taken in
// or sent: outside the site network, in use, kept clear, or another device's. They are left out.
func (d *Desk) Misplaced(ctx context.Context, m *schedule.Matched) (out []string, err error) {
	g, gerr := Ground(ctx, d.Job, d.Devices)
	reserved, err := Reserved(ctx, d.Job, d.Devices)
	if err != nil {
		return nil, err
	}
	among := d.Job.Sheet.Among(d.Devices)
	for i := range m.Matches {
		x := &m.Matches[i]
		a := x.Row.At
		if !a.IsValid() || x.Device.Address() == a {
			continue
		}
		why := ""
		if gerr == nil {
			if err := ground.Check(g.Subnet, a, g.Gateway); err != nil {
				why = err.Error()
			}
		}
		for _, r := range reserved {
			if r.Range.Contains(a) {
				why = "it is " + r.Why
			}
		}
		for i := range d.Devices {
			o := &d.Devices[i]
			if o.ID != x.Device.ID && o.InJob == device.Taken && (among.AddressFor(o) == a || o.Commissioned() && o.AsLeft.Address == a) {
				why = "it is that of " + o.Label()
			}
		}
		if named := among.AddressFor(x.Device); named.IsValid() && named != a {
			why = fmt.Sprintf("the job sheet names %s, which stands", named)
		}
		if why != "" {
			x.Row.At = netip.Addr{}
			out = append(out, fmt.Sprintf("%s: %s for %s: %s", x.Row.Where(), a, x.Device.Label(), why))
		}
	}
	return out, nil
}
