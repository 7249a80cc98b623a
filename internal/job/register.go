package job

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"net/url"
	"os"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database/sql driver "sqlite"

	"janustat/core/device"
	"janustat/core/text"
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

// ErrNewer is wrapped when a newer version of the program has written a file.
var ErrNewer = errors.New("written by a newer version of janustat")

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
	if err := ownFile(path); err != nil {
		return nil, err
	}
	for _, beside := range []string{"-wal", "-shm", "-journal"} {
		if _, err := noLink(path + beside); err != nil {
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
		if errors.Is(err, ErrNewer) {
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
		return fmt.Errorf("%w (its schema is %d, this one knows %d)", ErrNewer, has, newest)
	}
	_, err = p.Up(ctx)
	return err
}

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

const deviceColumns = `id, tag, in_job, mac, endpoint, condition, addresses, clashing, facts, allotted, why,
	as_found, as_left, first_seen, seen_at, coalesce(proved_at, ''), opened_at, reset_at, changed_at, alarm`

// Devices reads every device, in the order of device.Sort.
func (r *Register) Devices(ctx context.Context) ([]device.Device, error) {
	devices, err := readDevices(ctx, r.db, "SELECT "+deviceColumns+" FROM device ORDER BY mac, id")
	device.Sort(devices)
	return devices, err
}

// ErrGone is returned for a device that is not in the register any more.
var ErrGone = errors.New("it is gone from the register")

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
		return ErrGone
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
		&allotted, &d.Why, &found, &left, &first, &seen, &proved, &opened, &reset, &changed, &d.Alarm)
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
		settingsJSON(d.Allotted), d.Why, settingsJSON(d.AsFound), settingsJSON(d.AsLeft),
		stamp(d.FirstSeen), stamp(d.SeenAt), nullable(stamp(d.Proved)),
		stamp(d.OpenedAt), stamp(d.ResetAt), stamp(d.ChangedAt), d.Alarm,
	}
	if d.ID == 0 {
		res, err := tx.ExecContext(ctx, `INSERT INTO device (tag, in_job, mac, endpoint, kind, serial, access, condition, address,
			addresses, clashing, facts, allotted, why, as_found, as_left, first_seen, seen_at, proved_at, opened_at, reset_at, changed_at, alarm)
			VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`, values...)
		if err != nil {
			return err
		}
		d.ID, err = res.LastInsertId()
		return err
	}
	_, err := tx.ExecContext(ctx, `UPDATE device SET tag=?, in_job=?, mac=?, endpoint=?, kind=?, serial=?, access=?, condition=?, address=?,
		addresses=?, clashing=?, facts=?, allotted=?, why=?, as_found=?, as_left=?, first_seen=?, seen_at=?, proved_at=?, opened_at=?, reset_at=?, changed_at=?, alarm=? WHERE id=?`,
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

// Offer is what a DHCP server offered when asked; no lease was taken.
type Offer struct {
	ServerMAC device.MAC   `json:"server_mac"`
	Server    netip.Addr   `json:"server"`
	Subnet    netip.Prefix `json:"subnet"`
	Gateway   netip.Addr   `json:"gateway,omitzero"`
	Offered   netip.Addr   `json:"offered"`
	DNS       []netip.Addr `json:"dns,omitempty"`
	NTP       []netip.Addr `json:"ntp,omitempty"`
	LeaseS    int64        `json:"lease_s,omitempty"` // seconds
	At        time.Time    `json:"at"`
}

// LeaseRecord is one address given by `janustat lease`.
type LeaseRecord struct {
	MAC     device.MAC `json:"mac"`
	Address netip.Addr `json:"address"`
	At      time.Time  `json:"at"`
	Until   time.Time  `json:"until"`
}

// AddLease records a lease given.
func (r *Register) AddLease(ctx context.Context, l LeaseRecord) error {
	_, err := r.db.ExecContext(ctx, "INSERT INTO lease (mac, address, at, until) VALUES (?,?,?,?)",
		l.MAC.String(), l.Address.String(), stamp(l.At), stamp(l.Until))
	if err != nil {
		return fmt.Errorf("register: %w", err)
	}
	return nil
}

// Leases reads the leases given, oldest first.
func (r *Register) Leases(ctx context.Context) ([]LeaseRecord, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT mac, address, at, until FROM lease ORDER BY id")
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	var out []LeaseRecord
	for rows.Next() {
		var mac, address, at, until string
		if err := rows.Scan(&mac, &address, &at, &until); err != nil {
			return nil, fmt.Errorf("register: %w", err)
		}
		l := LeaseRecord{At: unstamp(at), Until: unstamp(until)}
		_ = l.MAC.UnmarshalText([]byte(mac)) // written by AddLease in these forms
		l.Address, _ = netip.ParseAddr(address)
		out = append(out, l)
	}
	return out, rows.Err()
}

// SurveyRecord is what a survey saw beside devices.
type SurveyRecord struct {
	At     time.Time
	Took   time.Duration
	Found  int            // devices in the register
	Met    int            // that answered
	Laptop []netip.Prefix // the laptop's own addresses on the wire
	Offers []Offer
	// Unasked are the subnets in which not every address was asked for.
	Unasked []Unasked
}

// Unasked is a subnet in which addresses were not asked for.
type Unasked struct {
	Subnet    netip.Prefix `json:"subnet"`
	Addresses int          `json:"addresses"`
}

// AddSurvey records a survey; its offers replace earlier ones where it met anybody at
// all. One with the cable out says nothing of who was there.
func (r *Register) AddSurvey(ctx context.Context, s SurveyRecord) error {
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
func (r *Register) LastSurvey(ctx context.Context) (SurveyRecord, error) {
	var at, laptop, unasked string
	var s SurveyRecord
	var ms int64
	err := r.db.QueryRowContext(ctx, "SELECT at, took_ms, found, laptop, unasked FROM survey ORDER BY id DESC LIMIT 1").Scan(&at, &ms, &s.Found, &laptop, &unasked)
	if errors.Is(err, sql.ErrNoRows) {
		return SurveyRecord{}, nil
	}
	if err == nil {
		err = errors.Join(json.Unmarshal([]byte(laptop), &s.Laptop), json.Unmarshal([]byte(unasked), &s.Unasked))
	}
	if err != nil {
		return SurveyRecord{}, fmt.Errorf("register: %w", err)
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
func (r *Register) Offers(ctx context.Context) ([]Offer, error) {
	rows, err := r.db.QueryContext(ctx, "SELECT server_mac, server, subnet, gateway, offered, at, dns, ntp, lease_s FROM offer ORDER BY server, server_mac")
	if err != nil {
		return nil, fmt.Errorf("register: %w", err)
	}
	defer rows.Close()
	var out []Offer
	for rows.Next() {
		var mac, server, subnet, gateway, offered, at, dns, ntp string
		var o Offer
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
