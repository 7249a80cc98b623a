// Package sqlite keeps a job in one file, the register (docs/register.md), and this machine's tries of
// passwords in another.
package sqlite

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database/sql driver "sqlite"

	"janustat/core/device"
	"janustat/core/text"
	"janustat/internal/disk"
	"janustat/internal/store"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Register is the durable record of every device, in SQLite. Decisions and intents are on the disk
// before their writing returns; results and readings are with the system, and on the disk with the
// next intent.
type Register struct {
	db     *sql.DB
	scribe *scribe
	copied string // the folder of the copy that is read; "" where the register itself is
}

var _ store.Store = (*Register)(nil)

// OpenRegister opens or makes a register and brings its schema up to date. One that can be read
// only is read as a copy.
func OpenRegister(ctx context.Context, path string) (*Register, error) {
	if readOnly(path) {
		return openCopy(ctx, path)
	}
	db, err := openDB(ctx, path, migrations, "migrations")
	if err != nil {
		return nil, fmt.Errorf("register %w", err)
	}
	return &Register{db: db, scribe: &scribe{db: db}}, nil
}

// openDB opens or makes a database for its owner alone, and brings its schema up to
// date. It follows no link, and does not touch what a newer version has written.
func openDB(ctx context.Context, path string, schema embed.FS, folder string) (*sql.DB, error) {
	if err := disk.OwnFile(path); err != nil {
		return nil, err
	}
	for _, beside := range []string{"-wal", "-shm", "-journal"} {
		if _, err := disk.NoLink(path + beside); err != nil {
			return nil, err
		}
	}
	dsn := url.URL{Scheme: "file", Opaque: url.PathEscape(path), RawQuery: url.Values{"_pragma": {
		"journal_mode(WAL)", "synchronous(FULL)",
		// A small write-ahead log: what a long run left in it must not fill a small disk.
		"wal_autocheckpoint(64)", "journal_size_limit(262144)", "busy_timeout(5000)", "foreign_keys(1)",
	}, "_txlock": {"immediate"}}.Encode()}
	db, err := sql.Open("sqlite", dsn.String())
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	// One connection: writers queue here rather than meet SQLITE_BUSY.
	db.SetMaxOpenConns(1)
	files, err := fs.Sub(schema, folder)
	if err == nil {
		err = migrate(ctx, db, files)
	}
	if err != nil {
		db.Close()
		if errors.Is(err, store.ErrNewer) {
			return nil, fmt.Errorf("%s: %w: use that version for it", path, err)
		}
		return nil, fmt.Errorf("%s cannot be opened (is the disk full, or is it no register?): %w", path, err)
	}
	return db, nil
}

// schemaTable tells which version a schema has.
const schemaTable = "schema_version"

func migrate(ctx context.Context, db *sql.DB, files fs.FS) error {
	// Databases of earlier versions have it by the name that the library gave it.
	var was string
	err := db.QueryRowContext(ctx, "SELECT name FROM sqlite_schema WHERE type='table' AND name='goose_db_version'").Scan(&was)
	if err == nil {
		_, err = db.ExecContext(ctx, "ALTER TABLE goose_db_version RENAME TO "+schemaTable)
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, files, goose.WithTableName(schemaTable))
	if err != nil {
		return err
	}
	has, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	sources := p.ListSources()
	if newest := sources[len(sources)-1].Version; has > newest {
		return fmt.Errorf("%w (its schema is %d, this one knows %d)", store.ErrNewer, has, newest)
	}
	_, err = p.Up(ctx)
	return err
}

// Copied reports whether a copy is read, since the register itself can only be read.
func (r *Register) Copied() bool { return r.copied != "" }

// Close closes the register.
func (r *Register) Close() error {
	err := r.db.Close()
	if r.copied != "" {
		err = errors.Join(err, os.RemoveAll(r.copied))
	}
	return err
}

// tx runs f in one transaction.
func (r *Register) tx(ctx context.Context, f func(*sql.Tx) error) error {
	tx, err := r.db.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return fmt.Errorf("register: %w", err)
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}

const deviceColumns = `id, tag, in_job, mac, endpoint, condition, addresses, clashing, facts, allotted, why, asked,
	as_found, as_left, first_seen, seen_at, coalesce(proved_at, ''), opened_at, reset_at, changed_at, alarm`

// Devices reads every device, in the order of device.Sort.
func (r *Register) Devices(ctx context.Context) ([]device.Device, error) {
	devices, err := readDevices(ctx, r.db, "SELECT "+deviceColumns+" FROM device ORDER BY mac, id")
	device.Sort(devices)
	return devices, err
}

// Happened carries events into what is known of one device, in one transaction.
func (r *Register) Happened(ctx context.Context, id int64, events ...device.Event) error {
	return r.Change(ctx, id, func(d *device.Device) { d.Apply(events...) })
}

// Change changes what is known of one device, in one transaction.
func (r *Register) Change(ctx context.Context, id int64, change func(*device.Device)) error {
	return r.note(ctx, func(ctx context.Context, tx *sql.Tx) error { return changeDevice(ctx, tx, id, change) })
}

func changeDevice(ctx context.Context, tx *sql.Tx, id int64, change func(*device.Device)) error {
	list, err := readDevices(ctx, tx, "SELECT "+deviceColumns+" FROM device WHERE id=?", id)
	switch {
	case err != nil:
		return err
	case len(list) == 0:
		return store.ErrGone
	}
	change(&list[0])
	return saveDevice(ctx, tx, &list[0])
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
		&allotted, &d.Why, &d.Asked, &found, &left, &first, &seen, &proved, &opened, &reset, &changed, &d.Alarm)
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

// Save writes devices, new ones (ID 0) and known ones, in one transaction. New
// devices get their ID.
func (r *Register) Save(ctx context.Context, devices []device.Device) error {
	return r.tx(ctx, func(tx *sql.Tx) error {
		for i := range devices {
			if err := saveDevice(ctx, tx, &devices[i]); err != nil {
				return fmt.Errorf("device %s: %w", devices[i].Label(), err)
			}
		}
		return nil
	})
}

func saveDevice(ctx context.Context, tx *sql.Tx, d *device.Device) error {
	address := ""
	if a := d.Address(); a.IsValid() {
		address = a.String()
	}
	values := []any{
		d.Tag, d.InJob, d.MAC.String(), d.Endpoint, d.Kind, d.Serial, d.Access, d.Condition, address,
		asJSON(d.Addresses, "[]"), asJSON(d.Clashing, "[]"), asJSON(d.Facts, "{}"),
		settingsJSON(d.Allotted), d.Why, d.Asked, settingsJSON(d.AsFound), settingsJSON(d.AsLeft),
		stamp(d.FirstSeen), stamp(d.SeenAt), nullable(stamp(d.Proved)),
		stamp(d.OpenedAt), stamp(d.ResetAt), stamp(d.ChangedAt), d.Alarm,
	}
	if d.ID == 0 {
		res, err := tx.ExecContext(ctx, `INSERT INTO device (tag, in_job, mac, endpoint, kind, serial, access, condition, address,
			addresses, clashing, facts, allotted, why, asked, as_found, as_left, first_seen, seen_at, proved_at, opened_at, reset_at, changed_at, alarm)
			VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`, values...)
		if err != nil {
			return err
		}
		d.ID, err = res.LastInsertId()
		return err
	}
	_, err := tx.ExecContext(ctx, `UPDATE device SET tag=?, in_job=?, mac=?, endpoint=?, kind=?, serial=?, access=?, condition=?, address=?,
		addresses=?, clashing=?, facts=?, allotted=?, why=?, asked=?, as_found=?, as_left=?, first_seen=?, seen_at=?, proved_at=?, opened_at=?, reset_at=?, changed_at=?, alarm=? WHERE id=?`,
		append(values, d.ID)...)
	return err
}

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
