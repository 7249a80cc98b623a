package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"janustat/core/ground"
)

// KeptGround reads the site network as it was resolved before; a zero one if never.
func (r *Register) KeptGround(ctx context.Context) (ground.Kept, error) {
	var text string
	var k ground.Kept
	err := r.db.QueryRowContext(ctx, "SELECT facts FROM ground").Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return k, nil
	}
	if err == nil {
		err = json.Unmarshal([]byte(text), &k)
	}
	if err != nil {
		return k, fmt.Errorf("register: %w", err)
	}
	k.Ground.Ranks = k.Ranks
	return k, nil
}

// KeepGround keeps the site network as it was resolved now.
func (r *Register) KeepGround(ctx context.Context, g ground.Ground) error {
	_, err := r.db.ExecContext(ctx, "INSERT INTO ground (id, at, facts) VALUES (1, ?, ?) ON CONFLICT (id) DO UPDATE SET at=excluded.at, facts=excluded.facts",
		stamp(time.Now()), asJSON(ground.Kept{Ground: g, Ranks: g.Ranks}, "{}"))
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}
