package sqlite

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"janustat/core/device"
	"janustat/core/text"
)

const deviceColumns = `id, tag, in_job, mac, endpoint, condition, addresses, clashing, facts, allotted, why, asked,
	as_found, as_left, first_seen, seen_at, coalesce(proved_at, ''), opened_at, reset_at, changed_at, alarm, version`

// Devices reads every device, in the order of device.Sort.
func (r *Register) Devices(ctx context.Context) ([]device.Device, error) {
	devices, err := readDevices(ctx, r.db, "SELECT "+deviceColumns+" FROM device ORDER BY mac, id")
	device.Sort(devices)
	return devices, err
}

// Called reads every device by what it is called alone, in the order of device.Sort.
func (r *Register) Called(ctx context.Context) ([]device.Device, error) {
	var many int
	if err := r.db.QueryRowContext(ctx, "SELECT count(*) FROM device").Scan(&many); err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	rows, err := r.db.QueryContext(ctx, "SELECT id, tag, in_job, mac, kind, serial, name FROM device ORDER BY mac")
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	out := make([]device.Device, 0, many)
	for rows.Next() {
		out = append(out, device.Device{})
		d := &out[len(out)-1]
		var mac string
		if err := rows.Scan(&d.ID, &d.Tag, &d.InJob, &mac, &d.Kind, &d.Serial, &d.Name); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		if err := d.MAC.UnmarshalText([]byte(mac)); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		d.Tag, d.Serial, d.Name = shown(d.Tag), shown(d.Serial), shown(d.Name)
	}
	device.Sort(out)
	return out, rows.Err()
}

// Happened carries events into what is known of one device, in one transaction.
func (r *Register) Happened(ctx context.Context, cause string, id int64, events ...device.Event) error {
	return r.Change(ctx, cause, id, func(d *device.Device) { d.Apply(events...) })
}

// Change changes what is known of one device, in one transaction.
func (r *Register) Change(ctx context.Context, cause string, id int64, change func(*device.Device)) error {
	return r.note(ctx, func(ctx context.Context, tx *sql.Tx) error { return r.pen(tx, cause).change(ctx, id, change) })
}

func readDevices(ctx context.Context, db querier, query string, args ...any) ([]device.Device, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	var out []device.Device
	for rows.Next() {
		d, err := scanDevice(rows)
		if err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		out = append(out, d)
	}
	return out, rows.Err()
}

func scanDevice(rows *sql.Rows) (device.Device, error) {
	var d device.Device
	var mac, addresses, clashing, facts, first, seen, proved, opened, reset, changed string
	var allotted, found, left sql.NullString
	err := rows.Scan(&d.ID, &d.Tag, &d.InJob, &mac, &d.Endpoint, &d.Condition, &addresses, &clashing, &facts,
		&allotted, &d.Why, &d.Asked, &found, &left, &first, &seen, &proved, &opened, &reset, &changed, &d.Alarm, &d.Version)
	if err != nil {
		return d, err
	}
	if err := d.MAC.UnmarshalText([]byte(mac)); err != nil {
		return d, err
	}
	for _, part := range []struct {
		text string
		into any
	}{{addresses, &d.Addresses}, {clashing, &d.Clashing}, {facts, &d.Facts}, {allotted.String, &d.Allotted}, {found.String, &d.AsFound}, {left.String, &d.AsLeft}} {
		if part.text == "" {
			continue
		}
		if err := json.Unmarshal([]byte(part.text), part.into); err != nil {
			return d, fmt.Errorf("device %s: %w", d.MAC, err)
		}
	}
	d.FirstSeen, d.SeenAt, d.Proved = unstamp(first), unstamp(seen), unstamp(proved)
	d.OpenedAt, d.ResetAt, d.ChangedAt = unstamp(opened), unstamp(reset), unstamp(changed)
	// A register may come from somebody else, as every file: what is in it is shown and exported.
	text.Each(&d, shown)
	return d, nil
}

// shown makes a text of a register fit to be shown.
func shown(s string) string { return text.Harmless(s, maxShown, nil) }

// maxShown bounds one text of a register, in characters; the checks of a device are one.
const maxShown = 16 << 10

func asJSON(v any, empty string) string {
	b, err := json.Marshal(v)
	if err != nil || string(b) == "null" {
		return empty
	}
	return string(b)
}

func settingsJSON(s *device.Settings) any {
	if s == nil {
		return nil
	}
	return asJSON(s, "{}")
}

func nullable(s string) any {
	if s == "" {
		return nil
	}
	return s
}
