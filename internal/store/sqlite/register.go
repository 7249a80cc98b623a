// Package sqlite keeps a job in one file, the register (docs/register.md), and this machine's tries of
// passwords in another.
package sqlite

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the database/sql driver "sqlite"

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
	author string // of what happens to devices from now on
	copied string // the folder of the copy that is read; "" where the register itself is
}

var _ store.Store = (*Register)(nil)

// OpenRegister opens or makes a register and brings its schema up to date. One that can be read
// only is read as a copy. author is on whose account, and where, it is written to.
func OpenRegister(ctx context.Context, path, author string) (*Register, error) {
	if readOnly(path) {
		return openCopy(ctx, path, author)
	}
	db, err := openDB(ctx, path, migrations, "migrations")
	if err != nil {
		return nil, fmt.Errorf("register %w", err)
	}
	r := &Register{db: db, scribe: &scribe{db: db}, author: author}
	if err := r.adopt(ctx); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return r, nil
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
