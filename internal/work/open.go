package work

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/core/firmware"
	"janustat/core/open"
	"janustat/core/proving"
	"janustat/internal/images"
	"janustat/internal/job"
)

// Open computes what is open in a job. stale are the devices that the record on disk tells
// otherwise.
func Open(ctx context.Context, j *job.Job, devices []device.Device, stale []string) ([]open.Item, error) {
	s := open.State{Devices: devices, Stale: stale, Proofs: map[int64]open.Proof{}, Locked: map[int64]time.Time{}, InClear: map[int64]bool{}, Changing: map[int64]bool{}}
	last, err := j.Register.LastSurvey(ctx)
	if err != nil {
		return nil, err
	}
	s.Surveyed = last.At
	if s.Proofs, err = lastProofs(ctx, j); err != nil {
		return nil, err
	}
	locked, err := j.Register.LockedUntil(ctx, time.Now())
	if err != nil {
		return nil, err
	}
	progress, err := j.Register.Progress(ctx)
	if err != nil {
		return nil, err
	}
	for i := range devices {
		d := &devices[i]
		if until, ok := locked[d.MAC]; ok {
			s.Locked[d.ID] = until
		}
		p := progress[d.ID]
		s.InClear[d.ID] = p.InClear
		s.Changing[d.ID] = !p.Rekey.At.IsZero() && !p.Rekey.Confirmed
	}
	s.Agreed = agreedOn(j, devices)
	s.Recorded, s.Paired, s.Reporting = map[int64]bool{}, map[int64]bool{}, map[int64]bool{}
	s.NoChannels, s.NoPairs, s.NoServer = j.Sheet.Channels.None, j.Sheet.Intercoms.None, j.Sheet.Reporting.None
	joined, _ := j.Sheet.Among(devices).Joined(devices) // what is wrong of it is told by whoever reads the sheet for work
	for _, r := range joined.Recorders {
		for _, c := range r.Fixed {
			s.Recorded[c.ID] = true
		}
	}
	for _, c := range joined.Auto {
		s.Recorded[c.ID] = true
	}
	for _, p := range joined.Pairs {
		s.Paired[p.Door.ID], s.Paired[p.Station.ID] = true, true
	}
	for _, p := range joined.Reporters {
		s.Reporting[p.ID] = true
	}
	return open.List(s), nil
}

// agreedOn gives the versions that are agreed on of devices which have another. What is wrong of the list
// is told by whoever goes by it.
func agreedOn(j *job.Job, devices []device.Device) map[int64]open.Firmware {
	list, err := images.Read(j.Dir)
	if err != nil {
		return nil
	}
	out := map[int64]open.Firmware{}
	for i := range devices {
		if s := standing(list, &devices[i]); s.Want != "" && s.State != firmware.Agreed && s.State != firmware.Unknown {
			out[devices[i].ID] = open.Firmware{Version: s.Want, Due: s.State == firmware.Due}
		}
	}
	return out
}

// Pressing gives what is to be done yet: all but notes.
func Pressing(items []open.Item) (out []open.Item) {
	for _, i := range items {
		if i.Urgency != open.Note {
			out = append(out, i)
		}
	}
	return out
}

// WithoutCommands takes the advice off what a check found: documents are read by people who have no
// such program.
func WithoutCommands(s string) string {
	at := strings.IndexByte(s, '`')
	if at < 0 {
		return s
	}
	cut := max(strings.LastIndex(s[:at], ": "), 0)
	if sentence := strings.LastIndex(s[:cut], ". "); sentence > 0 {
		cut = sentence
	}
	return strings.TrimRight(s[:cut], ".: ")
}

// lastProofs reads what the last proof of each device has left.
func lastProofs(ctx context.Context, j *job.Job) (map[int64]open.Proof, error) {
	records, err := j.Register.LastProofs(ctx)
	if err != nil {
		return nil, err
	}
	out := map[int64]open.Proof{}
	for id, r := range records {
		var checks []proving.Check
		if err := json.Unmarshal(r.Checks, &checks); err != nil {
			return nil, fmt.Errorf("register: proof of %s: %w", r.At.Format(time.DateTime), err)
		}
		p := open.Proof{At: r.At}
		for _, c := range checks {
			p.Untested += c.Left
			if !c.OK {
				p.Failed = append(p.Failed, open.Check{Name: c.Name, Want: c.Want, Got: WithoutCommands(c.Got), Refused: c.Refused})
			}
		}
		out[id] = p
	}
	return out, nil
}
