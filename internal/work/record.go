package work

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/ground"
	"janustat/core/policy"
	"janustat/core/proving"
	"janustat/core/settings/zone"
	"janustat/core/sheet"
	"janustat/internal/handover"
	"janustat/internal/job"
)

// ChangesSince tells what was done to the devices of the job since a moment.
func ChangesSince(ctx context.Context, j *job.Job, devices []device.Device, only Selection, from time.Time) ([]handover.Deed, error) {
	out := []handover.Deed{}
	for _, d := range device.OfJob(devices) {
		if !only.Has(d.ID) {
			continue
		}
		history, err := j.Register.History(ctx, d.ID)
		if err != nil {
			return nil, err
		}
		for _, e := range history {
			if e.Outcome == string(commission.OutcomeDone) && !e.Begun.Before(from) {
				out = append(out, handover.Deed{Tag: d.Tag, Name: d.Name, At: e.Begun, What: commission.Told(commission.Step(e.Step), e.Intent)})
			}
		}
	}
	return out, nil
}

// ChosenOf leaves the devices of the job that are meant, and everybody else.
func ChosenOf(devices []device.Device, only Selection) []device.Device {
	return slices.DeleteFunc(slices.Clone(devices), func(d device.Device) bool {
		return (d.InJob == device.Taken || d.Commissioned()) && !only.Has(d.ID)
	})
}

// RecordOf makes the record of a job, or of some of its devices, as it stands.
func RecordOf(ctx context.Context, j *job.Job, all []device.Device, only Selection) (handover.Record, error) {
	device.Sort(all)
	devices := ChosenOf(all, only)
	// A record is worth having before everything is known of the ground.
	g, err := Ground(ctx, j, all)
	if err != nil {
		g = ground.Ground{}
	}
	progress, err := j.Register.Progress(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	f := handover.Material{Site: j.Sheet.Name, Ground: g, InClear: map[int64]bool{}, Agreed: map[int64]string{}, Notes: map[int64]map[string]string{}}
	for id, p := range progress {
		f.InClear[id] = p.InClear
	}
	for id, x := range agreedOn(j, all) {
		f.Agreed[id] = x.Version
	}
	if f.Spans, err = addressPlan(ctx, j, all, g.Subnet); err != nil {
		return handover.Record{}, err
	}
	if f.Proofs, err = proofsOf(ctx, j); err != nil {
		return handover.Record{}, err
	}
	if f.Open, err = Open(ctx, j, all, nil); err != nil {
		return handover.Record{}, err
	}
	f.Accounts = accountsOf(j, all, progress)
	f.Plan = sitePlan(j.Sheet.Among(all), all)
	if only != nil {
		f.Part = len(device.OfJob(all))
	}
	root, err := rootOf(j)
	if err != nil {
		return handover.Record{}, err
	}
	if root != nil {
		f.Authority = &handover.Authority{SHA256: root.Fingerprint(), Subnets: root.Subnets()}
	}
	notes, err := j.Register.Notes(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	for id, n := range notes {
		f.Notes[id] = n
	}
	return handover.New(f, devices), nil
}

// sitePlan gives what the job sheet plans, devices by their tags.
func sitePlan(sheet sheet.Among, devices []device.Device) handover.Plan {
	p := handover.Plan{Zone: sheet.Settings[zone.Name], Blocks: map[string]string{}}
	joined, _ := sheet.Joined(devices) // what is wrong of it is told by whoever reads the sheet for work
	for _, x := range joined.Pairs {
		p.Pairs = append(p.Pairs, handover.PlannedPair{Door: x.Door.Tag, Station: x.Station.Tag, Floor: x.Floor, Flat: x.Flat})
	}
	if r := sheet.Reporting; r.Server.IsValid() {
		p.Server = netip.AddrPortFrom(r.Server, r.Port).String()
	}
	for _, s := range sheet.Network.KeepClear {
		p.KeepClear = append(p.KeepClear, s.Text())
	}
	for _, s := range sheet.Network.DHCPPools {
		p.Pools = append(p.Pools, s.Text())
	}
	for kind, s := range sheet.Blocks {
		p.Blocks[kind] = s.Text()
	}
	for _, u := range sheet.Users {
		p.Users = append(p.Users, handover.PlannedUser{Name: u.Name, Role: u.Role, On: u.On})
	}
	return p
}

// accountsOf gives, by ID, the users that the job uses or has made, with their levels.
func accountsOf(j *job.Job, devices []device.Device, progress map[int64]policy.Progress) map[int64][]string {
	out := map[int64][]string{}
	for i := range devices {
		d := &devices[i]
		if d.OpenedAt.IsZero() {
			continue
		}
		list := []string{j.Sheet.User() + " as administrator"}
		for a := range progress[d.ID].Users {
			list = append(list, a.String())
		}
		slices.Sort(list)
		out[d.ID] = list
	}
	return out
}

// proofsOf gives, by ID, the last proof of each device.
func proofsOf(ctx context.Context, j *job.Job) (map[int64]handover.Proof, error) {
	last, err := j.Register.LastProofs(ctx)
	if err != nil {
		return nil, err
	}
	out := map[int64]handover.Proof{}
	for id, p := range last {
		var checks []proving.Check
		if err := json.Unmarshal(p.Checks, &checks); err != nil {
			return nil, fmt.Errorf("register: proof of %s: %w", p.At.Format(time.DateTime), err)
		}
		proof := handover.Proof{At: p.At}
		for _, c := range checks {
			x := handover.Checked{Check: c.Name, Result: "passed", Expected: c.Want, Found: WithoutCommands(c.Got)}
			switch {
			case c.OK && c.Left > 0:
				x.Result, x.Found = "untested", fmt.Sprintf("%d untested", c.Left)
			case c.OK:
			case c.Refused:
				x.Result = "refused"
			default:
				x.Result = "failed"
			}
			proof.Checks = append(proof.Checks, x)
		}
		out[id] = proof
	}
	return out, nil
}

// addressPlan is what the site's addresses are for beside the devices of the job.
func addressPlan(ctx context.Context, j *job.Job, devices []device.Device, site netip.Prefix) ([]handover.Span, error) {
	reserved, err := Reserved(ctx, j, devices)
	if err != nil {
		return nil, err
	}
	job := map[netip.Addr]bool{}
	for i := range devices {
		if devices[i].InJob == device.Taken {
			job[devices[i].Address()] = true
		}
	}
	var out []handover.Span
	for _, r := range reserved {
		if r.Range.From == r.Range.To && job[r.Range.From] || r.Passing || site.IsValid() && !site.Contains(r.Range.From) {
			continue
		}
		// Two reasons for one address are one line.
		if at := slices.IndexFunc(out, func(s handover.Span) bool { return s.From == r.Range.From && s.To == r.Range.To }); at >= 0 {
			out[at].Why += "; " + r.Why
			continue
		}
		out = append(out, handover.Span{From: r.Range.From, To: r.Range.To, Why: r.Why, Pool: strings.Contains(r.Why, "pool")})
	}
	return out, nil
}
