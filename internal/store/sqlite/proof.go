package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"regexp"

	"janustat/core/device"
	"janustat/internal/store"
)

// AddProofs records one proving of several devices, by their IDs, and what it changes in
// what is known of each.
func (r *Register) AddProofs(ctx context.Context, proofs map[int64]store.Proof, change func(*device.Device)) error {
	return r.note(ctx, func(ctx context.Context, tx *sql.Tx) error {
		pen := r.pen(tx, "prove")
		for id, p := range proofs {
			if err := pen.change(ctx, id, change); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO proof (device_id, at, ok, checks) VALUES (?,?,?,?)", id, stamp(p.At), p.OK, string(p.Checks)); err != nil {
				return err
			}
		}
		return nil
	})
}

// LastProofs reads the last proving of each device that has one, by ID.
func (r *Register) LastProofs(ctx context.Context) (map[int64]store.Proof, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT device_id, at, ok, checks FROM proof WHERE id IN (SELECT MAX(id) FROM proof GROUP BY device_id)")
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	out := map[int64]store.Proof{}
	for rows.Next() {
		var id int64
		var p store.Proof
		var at, checks string
		if err := rows.Scan(&id, &at, &p.OK, &checks); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		p.At, p.Checks = unstamp(at), json.RawMessage(escapes.ReplaceAllString(shown(checks), " "))
		out[id] = p
	}
	return out, rows.Err()
}

// Proofs reads the provings of a device, oldest first.
func (r *Register) Proofs(ctx context.Context, id int64) ([]store.Proof, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT at, ok, checks FROM proof WHERE device_id=? ORDER BY id", id)
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	var out []store.Proof
	for rows.Next() {
		var p store.Proof
		var at, checks string
		if err := rows.Scan(&at, &p.OK, &checks); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		p.At, p.Checks = unstamp(at), json.RawMessage(escapes.ReplaceAllString(shown(checks), " "))
		out = append(out, p)
	}
	return out, rows.Err()
}

// escapes are those by which JSON writes what no terminal is to see.
var escapes = regexp.MustCompile(`\\u(00[01][0-9a-fA-F]|00[7-9][0-9a-fA-F]|20[0-2][0-9a-fA-F]|206[0-9a-fA-F])`)

// Replace writes a device whose unit has changed: the row that the new unit had
// of its own goes, and what was counted against the old one is forgotten.
func (r *Register) Replace(ctx context.Context, d device.Device, unit device.MAC) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		for _, q := range []string{
			"DELETE FROM journal WHERE device_id IN (SELECT id FROM device WHERE mac=?2 AND id<>?1)",
			"DELETE FROM proof WHERE device_id IN (SELECT id FROM device WHERE mac=?2 AND id<>?1)",
			"DELETE FROM device WHERE mac=?2 AND id<>?1",
		} {
			if _, err := tx.ExecContext(ctx, q, d.ID, unit.String()); err != nil {
				return err
			}
		}
		p := r.pen(tx, "restore")
		was, err := p.rows(ctx, d.ID)
		if err != nil {
			return err
		}
		return p.record(ctx, []device.Device{d}, was)
	})
}
