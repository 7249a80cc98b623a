package sqlite

import (
	"context"
	"database/sql"
	"fmt"
	"math"
	"time"

	"janustat/core/device"
	"janustat/internal/store"
)

// pen writes what happens to devices in one transaction: a row of the table event each, and what the
// device's events come to in its row of device. Nothing else writes to either.
type pen struct {
	r        *Register
	tx       *sql.Tx
	at       time.Time
	cause    string
	prepared map[string]*sql.Stmt // by their texts; they end with the transaction
}

func (r *Register) pen(tx *sql.Tx, cause string) *pen {
	return &pen{r: r, tx: tx, at: time.Now(), cause: cause, prepared: map[string]*sql.Stmt{}}
}

func (p *pen) exec(ctx context.Context, query string, args ...any) (sql.Result, error) {
	s := p.prepared[query]
	if s == nil {
		var err error
		if s, err = p.tx.PrepareContext(ctx, query); err != nil {
			return nil, err
		}
		p.prepared[query] = s
	}
	return s.ExecContext(ctx, args...)
}

// row is what a device's row holds.
type row struct {
	device device.Device
	state  []byte
}

// rows reads the rows of devices, by ID: of one, or of all where that is zero.
func (p *pen) rows(ctx context.Context, id int64) (map[int64]row, error) {
	query, args := "SELECT "+deviceColumns+" FROM device", []any(nil)
	if id != 0 {
		query, args = query+" WHERE id=?", []any{id}
	}
	list, err := readDevices(ctx, p.tx, query, args...)
	if err != nil {
		return nil, err
	}
	out := make(map[int64]row, len(list))
	for _, d := range list {
		state, err := store.State(d)
		if err != nil {
			return nil, err
		}
		out[d.ID] = row{d, state}
	}
	return out, nil
}

// change changes one device as it is now.
func (p *pen) change(ctx context.Context, id int64, change func(*device.Device)) error {
	rows, err := p.rows(ctx, id)
	if err != nil {
		return err
	}
	was, ok := rows[id]
	if !ok {
		return store.ErrGone
	}
	d := was.device
	change(&d)
	return p.write(ctx, was, &d)
}

// begin writes a device that was not there.
func (p *pen) begin(ctx context.Context, d *device.Device) error {
	state, err := store.State(*d)
	if err != nil {
		return err
	}
	d.Version = 1
	res, err := p.exec(ctx, `INSERT INTO device (tag, in_job, mac, endpoint, kind, serial, name, access, condition, address,
		addresses, clashing, facts, allotted, why, asked, as_found, as_left, first_seen, seen_at, proved_at, opened_at, reset_at, changed_at, alarm, version)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`, columns(d)...)
	if err != nil {
		return err
	}
	if d.ID, err = res.LastInsertId(); err != nil {
		return err
	}
	return p.event(ctx, d, state)
}

// write carries what is new in a device into its row. Whoever has read an earlier version of it has
// changed what differs from that version: the rest is left as others have made it since.
func (p *pen) write(ctx context.Context, was row, d *device.Device) error {
	is, err := store.State(*d)
	if err != nil {
		return err
	}
	base := was.state
	if d.Version != was.device.Version {
		events, err := p.r.events(ctx, p.tx, d.ID, d.Version)
		if err != nil {
			return err
		}
		if base, err = store.Fold(events); err != nil {
			return err
		}
	}
	change, err := store.Change(base, is)
	if err != nil {
		return err
	}
	if d.Version != was.device.Version {
		if is, err = store.Changed(was.state, change); err != nil {
			return err
		}
		if err := store.Restate(d, is); err != nil {
			return err
		}
		d.NotEarlier(was.device)
		if is, err = store.State(*d); err != nil {
			return err
		}
		if change, err = store.Change(was.state, is); err != nil {
			return err
		}
	}
	if d.Version = was.device.Version; change == nil {
		return nil
	}
	d.Version++
	if err := p.update(ctx, d); err != nil {
		return err
	}
	return p.event(ctx, d, change)
}

// update has a device's row hold what the device is by now.
func (p *pen) update(ctx context.Context, d *device.Device) error {
	_, err := p.exec(ctx, `UPDATE device SET tag=?, in_job=?, mac=?, endpoint=?, kind=?, serial=?, name=?, access=?, condition=?, address=?,
		addresses=?, clashing=?, facts=?, allotted=?, why=?, asked=?, as_found=?, as_left=?, first_seen=?, seen_at=?, proved_at=?, opened_at=?, reset_at=?, changed_at=?, alarm=?, version=? WHERE id=?`,
		append(columns(d), d.ID)...)
	return err
}

func (p *pen) event(ctx context.Context, d *device.Device, change []byte) error {
	_, err := p.exec(ctx, "INSERT INTO event (device_id, version, at, author, cause, change) VALUES (?,?,?,?,?,?)",
		d.ID, d.Version, stamp(p.at), p.r.author, p.cause, string(change))
	return err
}

// record writes devices, new ones (ID 0) and known ones. Of one that is no more there is nothing to write.
func (p *pen) record(ctx context.Context, devices []device.Device, was map[int64]row) error {
	for i := range devices {
		d := &devices[i]
		var err error
		if d.ID == 0 {
			err = p.begin(ctx, d)
		} else if row, ok := was[d.ID]; ok {
			err = p.write(ctx, row, d)
		}
		if err != nil {
			return fmt.Errorf("device %s: %w", d.Label(), err)
		}
	}
	return nil
}

// columns are the values of a device's row, but its ID.
func columns(d *device.Device) []any {
	address := ""
	if a := d.Address(); a.IsValid() {
		address = a.String()
	}
	return []any{
		d.Tag, d.InJob, d.MAC.String(), d.Endpoint, d.Kind, d.Serial, d.Name, d.Access, d.Condition, address,
		asJSON(d.Addresses, "[]"), asJSON(d.Clashing, "[]"), asJSON(d.Facts, "{}"),
		settingsJSON(d.Allotted), d.Why, d.Asked, settingsJSON(d.AsFound), settingsJSON(d.AsLeft),
		stamp(d.FirstSeen), stamp(d.SeenAt), nullable(stamp(d.Proved)),
		stamp(d.OpenedAt), stamp(d.ResetAt), stamp(d.ChangedAt), d.Alarm, d.Version,
	}
}

// Record writes what is new in devices, all or none. New devices (ID 0) get their ID, and all of them
// the version that they have now.
func (r *Register) Record(ctx context.Context, cause string, devices []device.Device) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		p := r.pen(tx, cause)
		was, err := p.rows(ctx, 0)
		if err != nil {
			return err
		}
		return p.record(ctx, devices, was)
	})
}

// Events reads what has happened to one device, in the order of its versions.
func (r *Register) Events(ctx context.Context, id int64) ([]store.Event, error) {
	return r.events(ctx, r.db, id, newest)
}

// newest is beyond any version.
const newest = math.MaxInt64

// events reads those up to a version.
func (r *Register) events(ctx context.Context, db querier, id, to int64) (out []store.Event, err error) {
	rows, err := db.QueryContext(ctx, "SELECT version, at, author, cause, change FROM event WHERE device_id=? AND version<=? ORDER BY version", id, to)
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		e := store.Event{Device: id}
		var at, change string
		if err := rows.Scan(&e.Version, &at, &e.Author, &e.Cause, &change); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		e.At, e.Author, e.Cause, e.Change = unstamp(at), shown(e.Author), shown(e.Cause), []byte(change)
		out = append(out, e)
	}
	return out, rows.Err()
}

// adopt begins the events of devices that a version without them has written.
func (r *Register) adopt(ctx context.Context) error {
	var some bool
	if err := r.db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM device WHERE version=0)").Scan(&some); err != nil || !some {
		return err
	}
	return r.tx(ctx, func(tx *sql.Tx) error {
		p := r.pen(tx, "earlier version")
		all, err := p.rows(ctx, 0)
		if err != nil {
			return err
		}
		for id, was := range all {
			if was.device.Version != 0 {
				continue
			}
			if _, err := p.exec(ctx, "UPDATE device SET version=1 WHERE id=?", id); err != nil {
				return err
			}
			was.device.Version = 1
			if err := p.event(ctx, &was.device, was.state); err != nil {
				return err
			}
		}
		return nil
	})
}
