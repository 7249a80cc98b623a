package work

import (
	"context"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/secret"
	"janustat/core/sheet"
	"janustat/internal/handover"
	"janustat/internal/job"
	"janustat/internal/sheetfile"
	"janustat/internal/store"
)

// TakeOver puts the devices of a record into a new job, with their tags, addresses, names and
// notes, and what the record plans into its sheet, unless that was there already.
func TakeOver(ctx context.Context, dir string, from handover.Record, keys []SharedKey, kept bool) error {
	j, err := job.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer j.Close()
	devices := make([]device.Device, len(from.Devices))
	links := map[string][]device.Link{}
	for _, c := range from.Channels {
		if c.Recorder != "" && c.Camera != "" {
			links[c.Recorder] = append(links[c.Recorder], device.Link{Kind: string(commission.StepChannel), Peer: c.Camera, Number: c.Number, State: c.State})
		}
	}
	for i, e := range from.Devices {
		devices[i] = e.Device(time.Now(), links[e.Tag])
	}
	names, sheet := map[string]string{}, j.Sheet.Among(devices)
	for i, e := range from.Devices {
		// A sheet that was there may have its own names, which stand.
		if e.Name != "" && !e.MAC.IsZero() && sheet.NamedBy(&devices[i]) == "" {
			names[e.MAC.String()] = e.Name
		}
	}
	if err := j.Register.Record(ctx, "record", devices); err != nil {
		return err
	}
	notes := map[int64]store.Notes{}
	for i, e := range from.Devices {
		n := store.Notes{store.Place: e.Place, store.Port: e.Port, store.Remark: e.Remark}
		for field, value := range e.Own {
			if store.CheckField(field) == nil {
				n[field] = value
			}
		}
		notes[devices[i].ID] = n
		if e.InClear && slices.ContainsFunc(keys, func(k SharedKey) bool { return k.MAC == e.MAC }) {
			if err := journalTaken(ctx, j, devices[i], commission.Write{Step: commission.StepKey, Intent: "administrator, by an earlier job", InClear: true}); err != nil {
				return err
			}
		}
		if err := usersTakenOver(ctx, j, devices[i], keys, from.Plan); err != nil {
			return err
		}
	}
	if err := j.Register.SetNotes(ctx, notes); err != nil {
		return err
	}
	path := j.Path(job.SheetFile)
	if err := sheetfile.AddNames(path, names); err != nil || kept {
		return err
	}
	return sheetfile.AddSections(path, sectionsOf(from))
}

// usersTakenOver journals the further users whose passwords are taken over: they are made.
func usersTakenOver(ctx context.Context, j *job.Job, d device.Device, keys []SharedKey, plan handover.Plan) error {
	for _, k := range keys {
		if k.MAC != d.MAC || !k.Further || !k.Pair.IsZero() {
			continue
		}
		level := commission.Viewer // as recorders are
		if at := slices.IndexFunc(plan.Users, func(u handover.PlannedUser) bool { return u.Name == k.User }); at >= 0 {
			level = sheet.LevelOf(plan.Users[at].Role)
		}
		if err := journalTaken(ctx, j, d, commission.UserWrite(commission.Account{Name: k.User, Level: level})); err != nil {
			return err
		}
	}
	return nil
}

// journalTaken journals what an earlier job has written to a device.
func journalTaken(ctx context.Context, j *job.Job, d device.Device, w commission.Write) error {
	id, err := j.Register.Begin(ctx, commission.Plan{ID: d.ID}, w)
	if err != nil {
		return err
	}
	return j.Register.End(ctx, id, string(commission.OutcomeDone), "as in the record that the job began from")
}

// sectionsOf writes what a record plans as sections of a job sheet.
func sectionsOf(r handover.Record) map[string]string {
	out := map[string]string{}
	byRecorder := map[string][]string{}
	var recorders []string
	for _, c := range r.Channels {
		if c.Number == 0 || c.Camera == "" {
			continue
		}
		if byRecorder[c.Recorder] == nil {
			recorders = append(recorders, c.Recorder)
		}
		byRecorder[c.Recorder] = append(byRecorder[c.Recorder], fmt.Sprintf("%d: %s", c.Number, c.Camera))
	}
	flow := func(parts []string) string { return "{" + strings.Join(parts, ", ") + "}" }
	var channels []string
	for _, rec := range recorders {
		channels = append(channels, rec+": "+flow(byRecorder[rec]))
	}
	if len(channels) > 0 {
		out["channels"] = flow(channels)
	}
	var doors []string
	stations := map[string][]string{}
	for _, p := range r.Plan.Pairs {
		if stations[p.Door] == nil {
			doors = append(doors, p.Door)
		}
		stations[p.Door] = append(stations[p.Door], fmt.Sprintf("%s: {floor: %d, flat: %q}", p.Station, p.Floor, p.Flat))
	}
	var pairs []string
	for _, d := range doors {
		pairs = append(pairs, d+": "+flow(stations[d]))
	}
	if len(pairs) > 0 {
		out["intercoms"] = flow(pairs)
	}
	if at, err := netip.ParseAddrPort(r.Plan.Server); err == nil {
		out["reporting"] = fmt.Sprintf("{server: %s, port: %d}", at.Addr(), at.Port())
	}
	if r.Plan.Zone != "" {
		out["timezone"] = strconv.Quote(r.Plan.Zone)
	}
	var blocks, users []string
	for _, kind := range slices.Sorted(maps.Keys(r.Plan.Blocks)) {
		blocks = append(blocks, kind+": "+r.Plan.Blocks[kind])
	}
	if len(blocks) > 0 {
		out["blocks"] = flow(blocks)
	}
	for _, u := range r.Plan.Users {
		on := ""
		if len(u.On) > 0 {
			quoted := make([]string, len(u.On))
			for i, x := range u.On {
				quoted[i] = strconv.Quote(x)
			}
			on = ", on: [" + strings.Join(quoted, ", ") + "]"
		}
		users = append(users, fmt.Sprintf("{name: %q, role: %s%s}", u.Name, u.Role, on))
	}
	if len(users) > 0 {
		out["users"] = "[" + strings.Join(users, ", ") + "]"
	}
	return out
}

// SharedKey is one row of a file of keys that an earlier pack was made with.
type SharedKey struct {
	MAC      device.MAC
	User     string
	Password secret.Password
	Further  bool       // it is no administrator's
	Pair     device.MAC // of the indoor station, where it is that of a pair
}
