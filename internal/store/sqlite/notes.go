package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/store"
)

// Notes reads all notes, by the IDs of devices.
func (r *Register) Notes(ctx context.Context) (map[int64]store.Notes, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT device_id, field, value FROM note ORDER BY device_id, field")
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	out := map[int64]store.Notes{}
	for rows.Next() {
		var id int64
		var field, value string
		if err := rows.Scan(&id, &field, &value); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		if out[id] == nil {
			out[id] = store.Notes{}
		}
		out[id][shown(field)] = shown(value)
	}
	return out, rows.Err()
}

// SetNotes keeps notes of devices, by their IDs; an empty value takes a field away. All are
// kept, or none.
func (r *Register) SetNotes(ctx context.Context, notes map[int64]store.Notes) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		p := r.pen(tx, "note")
		for id, fields := range notes {
			for field, value := range fields {
				value = text.Harmless(value, text.Long, nil)
				var err error
				if value == "" {
					_, err = tx.ExecContext(ctx, "DELETE FROM note WHERE device_id=? AND field=?", id, field)
				} else {
					_, err = tx.ExecContext(ctx, "INSERT INTO note (device_id, field, value) VALUES (?,?,?) ON CONFLICT (device_id, field) DO UPDATE SET value=excluded.value", id, field, value)
				}
				if err != nil {
					return err
				}
			}
			if err := p.change(ctx, id, func(d *device.Device) { d.Apply(device.Noted{At: time.Now()}) }); err != nil {
				return err
			}
		}
		return nil
	})
}
