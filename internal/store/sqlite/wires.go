package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Broadcasts gives how many questions to everyone a second a wire has shown to bear, by its name; 0 is
// without a limit that is known.
func (r *Register) Broadcasts(ctx context.Context, wire string) (rate float64, err error) {
	err = r.db.QueryRowContext(ctx, "SELECT broadcasts FROM wire WHERE name=?", wire).Scan(&rate)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("register: %w", err)
	}
	return rate, nil
}

// KeepBroadcasts keeps it; 0 is that the wire bears all that is asked by now.
func (r *Register) KeepBroadcasts(ctx context.Context, wire string, rate float64) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		if rate == 0 {
			_, err := tx.ExecContext(ctx, "DELETE FROM wire WHERE name=?", wire)
			return err
		}
		_, err := tx.ExecContext(ctx, "INSERT INTO wire (name, broadcasts, at) VALUES (?,?,?) ON CONFLICT (name) DO UPDATE SET broadcasts=excluded.broadcasts, at=excluded.at", wire, rate, stamp(time.Now()))
		return err
	})
}
