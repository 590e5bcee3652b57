// Package sqlite opens SQLite files as the stores need them: one writer, several readers, a
// write-ahead log, the schema brought up to date.
package sqlite

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"time"

	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver
)

// readers is how many connections read at the same time.
const readers = 4

// DB is one SQLite file with a single writer and several readers.
type DB struct {
	Write, Read *sql.DB
	// address opens the file once more, for what takes long.
	address string
}

// Options say what a file promises.
type Options struct {
	// Synchronous is FULL where nothing confirmed may ever be lost, NORMAL where a crash
	// may lose the last second.
	Synchronous string
	// SecureDelete overwrites what is deleted.
	SecureDelete bool
	// Patience is how long a lock of somebody else is waited for; 0 is ten seconds.
	Patience time.Duration
	// Migrations are numbered files that only go forward.
	Migrations fs.FS
}

// Open opens or creates the file at path and brings its schema up to date.
func Open(ctx context.Context, path string, o Options) (*DB, error) {
	patience := cmp.Or(o.Patience, 10*time.Second)
	dsn := func(pragmas ...string) string {
		pragmas = append(
			[]string{"page_size(8192)"},
			append(
				pragmas,
				fmt.Sprintf("busy_timeout(%d)", patience.Milliseconds()),
				"foreign_keys(1)",
				"journal_mode(WAL)",
				"synchronous("+o.Synchronous+")",
			)...)
		if o.SecureDelete {
			pragmas = append(pragmas, "secure_delete(1)")
		}
		q := url.Values{"_txlock": {"immediate"}, "_pragma": pragmas}
		return (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: q.Encode()}).String()
	}
	write, err := sql.Open("sqlite", dsn())
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	write.SetMaxOpenConns(1)
	if err := migrate(ctx, write, o.Migrations); err != nil {
		_ = write.Close()
		return nil, fmt.Errorf("bringing %s up to date: %w", path, err)
	}
	read, err := sql.Open("sqlite", dsn("query_only(1)"))
	if err != nil {
		_ = write.Close()
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	read.SetMaxOpenConns(readers)
	return &DB{write, read, dsn()}, nil
}

// Look opens a file that somebody else may be writing, to read it as it is.
func Look(path string) (*sql.DB, error) {
	q := url.Values{"_pragma": {"query_only(1)", "busy_timeout(5000)"}}
	address := url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: q.Encode()}
	db, err := sql.Open("sqlite", address.String())
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", path, err)
	}
	return db, nil
}

func migrate(ctx context.Context, db *sql.DB, migrations fs.FS) error {
	if current(ctx, db, migrations) {
		return nil
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, migrations)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// current says whether all migrations were applied: then none of them is read, which would take most of a start.
func current(ctx context.Context, db *sql.DB, migrations fs.FS) bool {
	names, err := fs.Glob(migrations, "*.sql")
	if err != nil {
		return false
	}
	wanted := int64(0)
	for _, name := range names {
		number, err := goose.NumericComponent(name)
		if err != nil {
			return false
		}
		wanted = max(wanted, number)
	}
	var newest, applied int64
	err = db.QueryRowContext(ctx, `
		SELECT coalesce(max(version_id), 0), count(*) FROM goose_db_version WHERE version_id > 0 AND is_applied`).
		Scan(&newest, &applied)
	return err == nil && newest == wanted && applied == int64(len(names))
}

// Close closes the file.
func (d *DB) Close() error { return errors.Join(d.Read.Close(), d.Write.Close()) }

// Snapshot writes what is there at one moment into a new file, while others read and write.
func (d *DB) Snapshot(ctx context.Context, path string) error {
	// A connection of its own, so that nobody waits for one meanwhile.
	db, err := sql.Open("sqlite", d.address)
	if err != nil {
		return fmt.Errorf("taking a snapshot: %w", err)
	}
	defer db.Close()
	// What was deleted is not in it, not even on pages that are free.
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, path); err != nil {
		return fmt.Errorf("taking a snapshot: %w", err)
	}
	return nil
}

// InOne runs fn in one transaction of the writer: all of it happens, or nothing.
func (d *DB) InOne(ctx context.Context, fn func(*sql.Tx) error) error { return inOne(ctx, d.Write, fn) }

func inOne(ctx context.Context, on interface {
	BeginTx(ctx context.Context, o *sql.TxOptions) (*sql.Tx, error)
}, fn func(*sql.Tx) error,
) error {
	tx, err := on.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := fn(tx); err != nil {
		_ = tx.Rollback()
		return err
	}
	return tx.Commit()
}

// InOneForGood is InOne whose end survives that the machine loses power, also where the file promises less.
func (d *DB) InOneForGood(ctx context.Context, fn func(*sql.Tx) error) error {
	conn, err := d.Write.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	var was int
	if err := conn.QueryRowContext(ctx, `PRAGMA synchronous`).Scan(&was); err != nil {
		return err
	}
	if _, err := conn.ExecContext(ctx, `PRAGMA synchronous = FULL`); err != nil {
		return err
	}
	defer func() { // also when ctx has ended meanwhile
		_, _ = conn.ExecContext(context.WithoutCancel(ctx), fmt.Sprintf(`PRAGMA synchronous = %d`, was))
	}()
	return inOne(ctx, conn, fn)
}

// Collect reads all rows with scan.
func Collect[T any](rows *sql.Rows, err error, scan func(*sql.Rows) (T, error)) ([]T, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		item, err := scan(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, item)
	}
	return out, rows.Err()
}
