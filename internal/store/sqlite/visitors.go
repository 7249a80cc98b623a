package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"net/netip"
	"time"
)

// visitorsLast is for how long a temporary address is asked for again. Hosts forget
// within minutes where it was (RFC 4861, 10, and what kernels do with ARP).
const visitorsLast = 10 * time.Minute

// Visitors gives the temporary addresses taken within the last minutes, by subnet.
func (r *Register) Visitors(ctx context.Context) (map[netip.Prefix]netip.Addr, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT subnet, address FROM visitor WHERE at > ?", stamp(time.Now().Add(-visitorsLast)))
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	out := map[netip.Prefix]netip.Addr{}
	for rows.Next() {
		var subnet, address string
		if err := rows.Scan(&subnet, &address); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		p, err := netip.ParsePrefix(subnet)
		if err != nil {
			continue // an address of no subnet helps nobody
		}
		if a, err := netip.ParseAddr(address); err == nil {
			out[p] = a
		}
	}
	return out, rows.Err()
}

// KeepVisitors keeps the temporary addresses that were taken.
func (r *Register) KeepVisitors(ctx context.Context, taken map[netip.Prefix]netip.Addr) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		for subnet, address := range taken {
			_, err := tx.ExecContext(ctx, "INSERT INTO visitor (subnet, address, at) VALUES (?,?,?) ON CONFLICT (subnet) DO UPDATE SET address=excluded.address, at=excluded.at",
				subnet.String(), address.String(), stamp(time.Now()))
			if err != nil {
				return err
			}
		}
		return nil
	})
}
