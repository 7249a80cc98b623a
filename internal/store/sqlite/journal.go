package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"janustat/core/commission"
	"janustat/core/device"
	"janustat/core/policy"
	"janustat/core/settings/certificate"
	"janustat/internal/store"
)

// journaled is the value of a step, as JSON; of one that an earlier version wrote, its words.
const journaled = "CASE WHEN value<>'' THEN value ELSE json_quote(intent) END"

// Begin records the intent of a write before it is sent (commission.Journal).
func (r *Register) Begin(ctx context.Context, p commission.Plan, w commission.Write) (int64, error) {
	var id int64
	err := r.pledge(ctx, func(ctx context.Context, tx *sql.Tx) error {
		res, err := tx.ExecContext(ctx, "INSERT INTO journal (device_id, step, intent, value, begun_at, in_clear) VALUES (?,?,'',?,?,?)",
			p.ID, w.Step, w.JSON(), stamp(time.Now()), w.InClear)
		if err != nil {
			return err
		}
		if id, err = res.LastInsertId(); err != nil {
			return err
		}
		return r.pen(tx, string(w.Step)).change(ctx, p.ID, func(d *device.Device) { d.Apply(device.Written{At: time.Now()}) })
	})
	return id, err
}

// End records the outcome of a write (commission.Journal).
func (r *Register) End(ctx context.Context, id int64, outcome, detail string) error {
	return r.note(ctx, func(ctx context.Context, tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE journal SET outcome=?, detail=?, ended_at=? WHERE id=?", outcome, detail, stamp(time.Now()), id)
		return err
	})
}

// Found keeps a device's settings from before the job touched it: the first
// reading stands (commission.Journal).
func (r *Register) Found(ctx context.Context, p commission.Plan, f commission.Found) error {
	return r.Happened(ctx, "read", p.ID, device.Found{Settings: f.Settings})
}

// Left records a device's settings after every step held (commission.Journal).
func (r *Register) Left(ctx context.Context, p commission.Plan, f commission.Found) error {
	return r.Happened(ctx, "commission", p.ID, device.Commissioned{At: time.Now(), Left: f.Settings, Facts: f.Proven(), Certificate: f.Certificate})
}

// History reads a device's steps, oldest first.
func (r *Register) History(ctx context.Context, id int64) ([]store.Entry, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT step, "+journaled+", begun_at, outcome, detail, coalesce(ended_at, ''), in_clear FROM journal WHERE device_id=? ORDER BY id", id)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []store.Entry
	for rows.Next() {
		var e store.Entry
		var begun, ended string
		if err := rows.Scan(&e.Step, &e.Intent, &begun, &e.Outcome, &e.Detail, &ended, &e.InClear); err != nil {
			return nil, fmt.Errorf("journal: %w", err)
		}
		e.Begun, e.Ended = unstamp(begun), unstamp(ended)
		e.Intent = commission.Words(commission.Step(e.Step), e.Intent)
		e.Step, e.Intent, e.Outcome, e.Detail = shown(e.Step), shown(e.Intent), shown(e.Outcome), shown(e.Detail)
		out = append(out, e)
	}
	return out, rows.Err()
}

// MaybeKeyed tells, by ID, the devices that this job may have given their first
// password: the intent is on record and no refusal is.
func (r *Register) MaybeKeyed(ctx context.Context) (map[int64]bool, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT DISTINCT device_id FROM journal WHERE step=?1 AND outcome<>'refused' AND id > (SELECT coalesce(max(id), 0) FROM journal AS r WHERE r.device_id=journal.device_id AND r.step=?2 AND r.outcome='done')", commission.StepKey, commission.StepReset)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	out := map[int64]bool{}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, fmt.Errorf("journal: %w", err)
		}
		out[id] = true
	}
	return out, rows.Err()
}

// Progress reads, by ID, what the journal tells of how far every device is. What was sent and not refused counts as set; a user counts as made once the
// device has confirmed it.
func (r *Register) Progress(ctx context.Context) (map[int64]policy.Progress, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT device_id, step, "+journaled+", outcome, detail, in_clear, begun_at FROM journal WHERE step IN (?,?,?,?,?,?,?,?,?) AND (outcome<>'refused' OR step IN ('first', 'user', 'site certificate')) ORDER BY id",
		commission.StepKey, commission.StepFirst, commission.StepRekey, commission.StepUser, commission.StepReset, commission.StepAddress, commission.StepRestart, commission.StepName, commission.Step(certificate.Name))
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	type password struct {
		device int64
		whose  string
	}
	clear, out := map[password]bool{}, map[int64]policy.Progress{}
	for rows.Next() {
		var id int64
		var step commission.Step
		var value, outcome, detail, begun string
		var inClear bool
		if err := rows.Scan(&id, &step, &value, &outcome, &detail, &inClear, &begun); err != nil {
			return nil, fmt.Errorf("journal: %w", err)
		}
		if step == commission.Step(certificate.Name) { // whatever came of it: the device was recognised before
			k := out[id]
			k.Certified = true
			out[id] = k
			continue
		}
		if outcome == string(commission.OutcomeRefused) {
			k := out[id]
			if step == commission.StepUser { // what it has not taken is not there, whatever was before
				a, _ := commission.AccountOf(value)
				delete(k.Users, a)
			} else {
				k.HasAdministrator = true
			}
			out[id] = k
			continue
		}
		switch step {
		case commission.StepName:
			k := out[id]
			k.Moved = true
			out[id] = k
			continue
		case commission.StepAddress, commission.StepRestart:
			k := out[id]
			k.Moved = true
			switch {
			case step == commission.StepRestart && outcome != "done": // maybe it was never sent
			case step == commission.StepAddress && detail == commission.AtRestart:
				k.Pending, _ = commission.PlaceOf(value)
			default:
				k.Pending = commission.Place{}
			}
			out[id] = k
			continue
		case commission.StepReset:
			if outcome != "done" { // it may be as it was
				k := out[id]
				k.Reset = policy.Sent{At: unstamp(begun)}
				out[id] = k
				continue
			}
			maps.DeleteFunc(clear, func(p password, _ bool) bool { return p.device == id })
			out[id] = policy.Progress{Reset: policy.Sent{At: unstamp(begun), Confirmed: true}}
			continue
		case commission.StepUser:
			if outcome == "done" {
				k := out[id]
				if k.Users == nil {
					k.Users = map[commission.Account]bool{}
				}
				if a, ok := commission.AccountOf(value); ok {
					k.Users[a] = true
				}
				out[id] = k
			}
		case commission.StepRekey, commission.StepFirst:
			k := out[id]
			k.Rekey = policy.Sent{At: unstamp(begun), Confirmed: outcome == "done"}
			k.Keyed = k.Keyed || outcome == "done"
			out[id] = k
			value = ""
		default:
			k := out[id]
			k.Keyed = k.Keyed || outcome == "done"
			out[id] = k
			value = "" // the administrator's, whichever way it was set
		}
		clear[password{id, value}] = inClear
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	rows.Close() // one connection serves all: the next question waits for it
	if err := r.refusals(ctx, out); err != nil {
		return nil, err
	}
	for p, yes := range clear {
		k := out[p.device]
		k.InClear = k.InClear || yes
		switch a, ok := commission.AccountOf(p.whose); {
		case !yes:
		case p.whose == "":
			k.KeyInClear = true
		case ok:
			if k.UsersInClear == nil {
				k.UsersInClear = map[commission.Account]bool{}
			}
			k.UsersInClear[a] = true
		}
		out[p.device] = k
	}
	return out, nil
}

// refusals adds the settings that devices refused when they were last asked to take them,
// and since they were last reset.
func (r *Register) refusals(ctx context.Context, out map[int64]policy.Progress) error {
	soft := commission.Soft()
	args := make([]any, 0, len(soft)+1)
	soft = append(soft, commission.StepGateway)
	for _, s := range append(soft, commission.StepReset) {
		args = append(args, s)
	}
	rows, err := r.db.QueryContext(ctx, "SELECT device_id, step, "+journaled+", outcome FROM journal WHERE step IN (?"+strings.Repeat(",?", len(soft))+") ORDER BY id", args...)
	if err != nil {
		return fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var step commission.Step
		var value, outcome string
		if err := rows.Scan(&id, &step, &value, &outcome); err != nil {
			return fmt.Errorf("journal: %w", err)
		}
		k := out[id]
		delete(k.Answered, step)
		if outcome == string(commission.OutcomeDone) || outcome == string(commission.OutcomeRefused) {
			if k.Answered == nil {
				k.Answered = map[commission.Step]string{}
			}
			k.Answered[step] = value
		}
		switch {
		case step == commission.StepReset:
			k.Refused, k.Answered = nil, nil
		case step == commission.StepGateway:
		case outcome != string(commission.OutcomeRefused):
			delete(k.Refused, step)
		case k.Refused == nil:
			k.Refused = map[commission.Step]string{step: value}
		default:
			k.Refused[step] = value
		}
		out[id] = k
	}
	return rows.Err()
}

// pause is how long nothing was sent to a device between two runs, at least.
const pause = 5 * time.Minute

// Usual is how long a device of this job takes from the first write of a run to the last:
// the median of those that had one; zero if none had.
func (r *Register) Usual(ctx context.Context) (time.Duration, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT device_id, begun_at, ended_at FROM journal WHERE ended_at IS NOT NULL ORDER BY device_id, id")
	if err != nil {
		return 0, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	type span struct{ from, to time.Time }
	spans, longest := map[int64]span{}, map[int64]time.Duration{}
	for rows.Next() {
		var id int64
		var from, to string
		if err := rows.Scan(&id, &from, &to); err != nil {
			return 0, fmt.Errorf("register: %w", err)
		}
		begun, ended := unstamp(from), unstamp(to)
		s, ok := spans[id]
		if !ok || begun.Sub(s.to) > pause {
			s.from = begun
		}
		s.to = ended
		spans[id] = s
		longest[id] = max(longest[id], s.to.Sub(s.from))
	}
	if err := rows.Err(); err != nil || len(longest) == 0 {
		return 0, err
	}
	all := slices.Sorted(maps.Values(longest))
	return all[len(all)/2], nil
}
