package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"janustat/core/device"
	"janustat/internal/store"
)

// besides are the tables that belong to devices, with the column that says to which.
var besides = []struct{ table, column string }{{"journal", "device_id"}, {"proof", "device_id"}, {"note", "device_id"}, {"event", "device_id"}}

// Before gives what is there now of some devices, by ID.
func (r *Register) Before(ctx context.Context, what string, ids []int64) (store.Before, error) {
	b := store.Before{What: what, At: time.Now(), Rows: map[string][]map[string]any{}}
	err := r.tx(ctx, func(tx *sql.Tx) error {
		all, err := readDevices(ctx, tx, "SELECT "+deviceColumns+" FROM device ORDER BY id")
		if err != nil {
			return err
		}
		b.Devices = slices.DeleteFunc(all, func(d device.Device) bool { return !slices.Contains(ids, d.ID) })
		for _, t := range besides {
			for _, id := range ids {
				rows, err := dump(ctx, tx, "SELECT * FROM "+t.table+" WHERE "+t.column+"=?", id)
				if err != nil {
					return err
				}
				b.Rows[t.table] = append(b.Rows[t.table], rows...)
			}
		}
		b.Rows["ground"], err = dump(ctx, tx, "SELECT * FROM ground")
		return err
	})
	return b, err
}

// dump reads rows by the names of their columns.
func dump(ctx context.Context, tx *sql.Tx, query string, args ...any) ([]map[string]any, error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out []map[string]any
	for rows.Next() {
		cells := make([]any, len(names))
		at := make([]any, len(names))
		for i := range cells {
			at[i] = &cells[i]
		}
		if err := rows.Scan(at...); err != nil {
			return nil, err
		}
		row := map[string]any{}
		for i, n := range names {
			row[n] = cells[i]
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

// refill writes rows that dump has read, in their order. Those with an id of their own get another: the
// one that they had may be somebody else's by now.
func refill(ctx context.Context, tx *sql.Tx, table string, rows []map[string]any) error {
	for _, row := range rows {
		var names, marks []string
		var cells []any
		for n, c := range row {
			if n == "id" {
				continue
			}
			names, marks, cells = append(names, n), append(marks, "?"), append(cells, c)
		}
		if _, err := tx.ExecContext(ctx, "INSERT INTO "+table+" ("+strings.Join(names, ",")+") VALUES ("+strings.Join(marks, ",")+")", cells...); err != nil {
			return err
		}
	}
	return nil
}

// KeepBefore keeps what was there before the last change; one before that is forgotten.
func (r *Register) KeepBefore(ctx context.Context, b store.Before) error {
	state, err := json.Marshal(b)
	if err != nil {
		return err
	}
	_, err = r.db.ExecContext(ctx, "INSERT INTO undo (id, at, state) VALUES (1,?,?) ON CONFLICT (id) DO UPDATE SET at=excluded.at, state=excluded.state", stamp(b.At), string(state))
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}

// LastChange gives what was there before the last change.
func (r *Register) LastChange(ctx context.Context) (store.Before, error) {
	var state string
	err := r.db.QueryRowContext(ctx, "SELECT state FROM undo").Scan(&state)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return store.Before{}, store.ErrNothingToUndo
	case err != nil:
		return store.Before{}, fmt.Errorf("register: %w", err)
	}
	var b store.Before
	d := json.NewDecoder(strings.NewReader(state))
	d.UseNumber() // IDs are whole numbers
	if err := d.Decode(&b); err != nil {
		return store.Before{}, fmt.Errorf("register: %w", err)
	}
	return b, nil
}

// TakeBack takes a change back, whole or not at all. What surveys and readings have told of
// the devices since then stays.
func (r *Register) TakeBack(ctx context.Context, b store.Before) error {
	at := time.Now()
	return r.tx(ctx, func(tx *sql.Tx) error {
		p := r.pen(tx, "undo")
		now, err := p.rows(ctx, 0)
		if err != nil {
			return err
		}
		if err := untag(ctx, tx, b.Devices); err != nil {
			return err
		}
		gone := map[int64]bool{}
		for _, was := range b.Devices {
			if _, there := now[was.ID]; there {
				continue
			}
			gone[was.ID] = true
			// One that came back meanwhile by itself gives its place to what is known of it.
			if _, err := p.exec(ctx, "DELETE FROM device WHERE mac=? AND mac<>''", was.MAC.String()); err != nil {
				return err
			}
			if _, err := p.exec(ctx, "INSERT INTO device (id, first_seen, seen_at) VALUES (?,'','')", was.ID); err != nil {
				return err
			}
		}
		for _, was := range b.Devices {
			if _, err := p.exec(ctx, "DELETE FROM note WHERE device_id=?", was.ID); err != nil {
				return err
			}
		}
		for table, rows := range b.Rows {
			switch table {
			case "note":
			case "ground":
				if _, err := p.exec(ctx, "DELETE FROM ground"); err != nil {
					return err
				}
			default: // what was done to devices that are still there is there as well
				rows = slices.DeleteFunc(rows, func(row map[string]any) bool {
					id, _ := row["device_id"].(json.Number)
					n, err := id.Int64()
					return err != nil || !gone[n]
				})
			}
			if err := refill(ctx, tx, table, rows); err != nil {
				return err
			}
		}
		for _, was := range b.Devices {
			err := p.takeBack(ctx, now, was, at)
			if err != nil {
				return err
			}
		}
		_, err = p.exec(ctx, "DELETE FROM undo")
		return err
	})
}

// takeBack writes one device as it was decided before; one that was forgotten goes on from its own events.
func (p *pen) takeBack(ctx context.Context, now map[int64]row, was device.Device, at time.Time) error {
	if there, ok := now[was.ID]; ok {
		d := there.device
		d.Apply(device.TakenBack{At: at, Was: was})
		return p.write(ctx, there, &d)
	}
	events, err := p.r.events(ctx, p.tx, was.ID, newest)
	if err != nil {
		return err
	}
	var blank row
	if blank.state, err = store.Fold(events); err != nil {
		return err
	}
	if n := len(events); n > 0 {
		blank.device.Version = events[n-1].Version
	}
	was.Version = blank.device.Version
	if err := p.update(ctx, &was); err != nil {
		return err
	}
	return p.write(ctx, blank, &was)
}

// untag takes the tags of devices away: while they change among each other, no two have one, not even
// for a moment.
func untag(ctx context.Context, tx *sql.Tx, devices []device.Device) error {
	for i := range devices {
		if _, err := tx.ExecContext(ctx, "UPDATE device SET tag='' WHERE id=?", devices[i].ID); err != nil {
			return err
		}
	}
	return nil
}

// WrittenSince gives the IDs of devices that something was sent to after a moment.
func (r *Register) WrittenSince(ctx context.Context, at time.Time) (map[int64]bool, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT DISTINCT device_id FROM journal WHERE begun_at > ?", stamp(at))
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	out := map[int64]bool{}
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		out[id] = true
	}
	return out, rows.Err()
}

// Forget takes devices out of the register, with all that is told of them there.
func (r *Register) Forget(ctx context.Context, ids []int64) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		for _, id := range ids {
			for _, t := range besides {
				if _, err := tx.ExecContext(ctx, "DELETE FROM "+t.table+" WHERE "+t.column+"=?", id); err != nil {
					return err
				}
			}
			if _, err := tx.ExecContext(ctx, "DELETE FROM device WHERE id=?", id); err != nil {
				return err
			}
		}
		return nil
	})
}

// Retag saves devices whose tags have changed among each other.
func (r *Register) Retag(ctx context.Context, devices []device.Device) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		p := r.pen(tx, "retag")
		was, err := p.rows(ctx, 0)
		if err != nil {
			return err
		}
		if err := untag(ctx, tx, devices); err != nil {
			return err
		}
		return p.record(ctx, devices, was)
	})
}
