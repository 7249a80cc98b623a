package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"time"

	_ "modernc.org/sqlite" // the database/sql driver "sqlite"

	"janustat/core/lan"
	"janustat/internal/store"
)

// AddLease records a lease given.
func (r *Register) AddLease(ctx context.Context, l lan.Lease) error {
	_, err := r.db.ExecContext(ctx, "INSERT INTO lease (mac, address, at, until) VALUES (?,?,?,?)",
		l.MAC.String(), l.Address.String(), stamp(l.At), stamp(l.Until))
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}

// Leases reads the leases given, oldest first.
func (r *Register) Leases(ctx context.Context) ([]lan.Lease, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT mac, address, at, until FROM lease ORDER BY id")
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	var out []lan.Lease
	for rows.Next() {
		var mac, address, at, until string
		if err := rows.Scan(&mac, &address, &at, &until); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		l := lan.Lease{At: unstamp(at), Until: unstamp(until)}
		_ = l.MAC.UnmarshalText([]byte(mac)) // written by AddLease in these forms
		l.Address, _ = netip.ParseAddr(address)
		out = append(out, l)
	}
	return out, rows.Err()
}

// AddSurvey records a survey; its offers replace earlier ones where it met anybody at
// all. One with the cable out says nothing of who was there.
func (r *Register) AddSurvey(ctx context.Context, s store.SurveyRecord) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT INTO survey (at, took_ms, found, laptop, unasked) VALUES (?,?,?,?,?)",
			stamp(s.At), s.Took.Milliseconds(), s.Found, asJSON(s.Laptop, "[]"), asJSON(s.Unasked, "[]")); err != nil {
			return err
		}
		if s.Met == 0 {
			return nil
		}
		if _, err := tx.ExecContext(ctx, "DELETE FROM offer"); err != nil {
			return err
		}
		for _, o := range s.Offers {
			gateway := ""
			if o.Gateway.IsValid() {
				gateway = o.Gateway.String()
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO offer (server_mac, server, subnet, gateway, offered, at, dns, ntp, lease_s) VALUES (?,?,?,?,?,?,?,?,?)",
				o.ServerMAC.String(), o.Server.String(), o.Subnet.String(), gateway, o.Offered.String(), stamp(o.At),
				asJSON(o.DNS, "[]"), asJSON(o.NTP, "[]"), o.LeaseS); err != nil {
				return err
			}
		}
		return nil
	})
}

// LastSurvey gives the last survey without its offers; a zero At when there was none.
func (r *Register) LastSurvey(ctx context.Context) (store.SurveyRecord, error) {
	var at, laptop, unasked string
	var s store.SurveyRecord
	var ms int64
	err := r.db.QueryRowContext(ctx, "SELECT at, took_ms, found, laptop, unasked FROM survey ORDER BY id DESC LIMIT 1").Scan(&at, &ms, &s.Found, &laptop, &unasked)
	if errors.Is(err, sql.ErrNoRows) {
		return store.SurveyRecord{}, nil
	}
	if err == nil {
		err = errors.Join(json.Unmarshal([]byte(laptop), &s.Laptop), json.Unmarshal([]byte(unasked), &s.Unasked))
	}
	if err != nil {
		return store.SurveyRecord{}, fmt.Errorf("register: %w", err)
	}
	s.At, s.Took = unstamp(at), time.Duration(ms)*time.Millisecond
	return s, nil
}

// SurveySpan gives the moments of the first survey and of the last; zero where there was
// none.
func (r *Register) SurveySpan(ctx context.Context) (first, last time.Time, err error) {
	var from, to sql.NullString
	err = r.db.QueryRowContext(ctx, "SELECT (SELECT at FROM survey ORDER BY id LIMIT 1), (SELECT at FROM survey ORDER BY id DESC LIMIT 1)").Scan(&from, &to)
	if err != nil {
		return time.Time{}, time.Time{}, fmt.Errorf("register: %w", err)
	}
	return unstamp(from.String), unstamp(to.String), nil
}

// Offers reads what DHCP servers offered in the last survey.
func (r *Register) Offers(ctx context.Context) ([]lan.Offer, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT server_mac, server, subnet, gateway, offered, at, dns, ntp, lease_s FROM offer ORDER BY server, server_mac")
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	var out []lan.Offer
	for rows.Next() {
		var mac, server, subnet, gateway, offered, at, dns, ntp string
		var o lan.Offer
		if err := rows.Scan(&mac, &server, &subnet, &gateway, &offered, &at, &dns, &ntp, &o.LeaseS); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		// Written by AddSurvey in these forms; an empty gateway stays invalid.
		_ = o.ServerMAC.UnmarshalText([]byte(mac))
		o.Server, _ = netip.ParseAddr(server)
		o.Subnet, _ = netip.ParsePrefix(subnet)
		o.Gateway, _ = netip.ParseAddr(gateway)
		o.Offered, _ = netip.ParseAddr(offered)
		_ = json.Unmarshal([]byte(dns), &o.DNS)
		_ = json.Unmarshal([]byte(ntp), &o.NTP)
		o.At = unstamp(at)
		out = append(out, o)
	}
	return out, rows.Err()
}
