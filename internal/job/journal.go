package job

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"janustat/core/commission"
	"janustat/core/secret"
)

// Entry is one step of a device's history.
type Entry struct {
	Step    string    `json:"step"`
	Intent  string    `json:"intent"`
	Begun   time.Time `json:"begun_at"`
	Outcome string    `json:"outcome"` // done, refused, unknown; empty when cut short
	Detail  string    `json:"detail,omitempty"`
	Ended   time.Time `json:"ended_at,omitzero"`
}

// Begin records the intent of a write before it is sent (commission.Journal).
func (r *Register) Begin(ctx context.Context, p commission.Plan, s commission.Step, intent string) (int64, error) {
	res, err := r.db.ExecContext(ctx, "INSERT INTO journal (device_id, step, intent, begun_at) VALUES (?,?,?,?)",
		p.ID, s, intent, stamp(time.Now()))
	if err != nil {
		return 0, fmt.Errorf("journal: %w", err)
	}
	return res.LastInsertId()
}

// End records the outcome of a write (commission.Journal).
func (r *Register) End(ctx context.Context, id int64, outcome, detail string) error {
	_, err := r.db.ExecContext(ctx, "UPDATE journal SET outcome=?, detail=?, ended_at=? WHERE id=?", outcome, detail, stamp(time.Now()), id)
	if err != nil {
		return fmt.Errorf("journal: %w", err)
	}
	return nil
}

// Found keeps a device's settings from before the job touched it: the first
// reading stands (commission.Journal).
func (r *Register) Found(ctx context.Context, p commission.Plan, f commission.Found) error {
	_, err := r.db.ExecContext(ctx, "UPDATE device SET as_found=? WHERE id=? AND as_found IS NULL", asJSON(f.Settings, "{}"), p.ID)
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}

// Left records a device's settings after every step held (commission.Journal).
func (r *Register) Left(ctx context.Context, p commission.Plan, f commission.Found) error {
	_, err := r.db.ExecContext(ctx, "UPDATE device SET as_left=? WHERE id=?", asJSON(f.Settings, "{}"), p.ID)
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}

// History reads a device's steps, oldest first.
func (r *Register) History(ctx context.Context, id int64) ([]Entry, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT step, intent, begun_at, outcome, detail, coalesce(ended_at, '') FROM journal WHERE device_id=? ORDER BY id", id)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []Entry
	for rows.Next() {
		var e Entry
		var begun, ended string
		if err := rows.Scan(&e.Step, &e.Intent, &begun, &e.Outcome, &e.Detail, &ended); err != nil {
			return nil, fmt.Errorf("journal: %w", err)
		}
		e.Begun, e.Ended = unstamp(begun), unstamp(ended)
		out = append(out, e)
	}
	return out, rows.Err()
}

// MaybeKeyed tells, by ID, the devices that this job may have given their first
// password: the intent is on record and no refusal is.
func (r *Register) MaybeKeyed(ctx context.Context) (map[int64]bool, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT DISTINCT device_id FROM journal WHERE step=? AND outcome<>'refused'", commission.StepKey)
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

// Attempts keeps the budget of password tries in the register, so that it
// holds across runs.
type Attempts struct {
	Register *Register
	Budget   secret.Budget
}

// Spend records a try before it is made, or says how long to wait
// (commission.Attempts).
func (a Attempts) Spend(ctx context.Context, p commission.Plan) (wait time.Duration, err error) {
	now := time.Now()
	err = a.Register.tx(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, "SELECT at FROM attempt WHERE device_id=? AND at>?", p.ID, stamp(now.Add(-secret.BudgetWindow)))
		if err != nil {
			return err
		}
		defer rows.Close()
		var spent []time.Time
		for rows.Next() {
			var at string
			if err := rows.Scan(&at); err != nil {
				return err
			}
			spent = append(spent, unstamp(at))
		}
		if err := rows.Err(); err != nil {
			return err
		}
		if wait = a.Budget.Wait(spent, now); wait > 0 {
			return nil
		}
		_, err = tx.ExecContext(ctx, "INSERT INTO attempt (device_id, at) VALUES (?,?)", p.ID, stamp(now))
		return err
	})
	return wait, err
}

// Opened gives the last try back: the password fitted, which clears the
// device's own count of wrong ones too (commission.Attempts).
func (a Attempts) Opened(ctx context.Context, p commission.Plan) error {
	_, err := a.Register.db.ExecContext(ctx, "DELETE FROM attempt WHERE device_id=?", p.ID)
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}
