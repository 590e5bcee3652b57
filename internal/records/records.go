// Package records keeps the records, ladder.db, in SQLite, and promises that nothing confirmed
// is ever lost. What was measured is kept by package signals.
package records

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"sync"
	"time"

	"innerladder/internal/core/record"
	"innerladder/internal/disk"
	"innerladder/internal/sqlite"
)

//go:embed ladder/*.sql
var ladderMigrations embed.FS

// ErrNone is returned when what was asked for does not exist.
var ErrNone = errors.New("no such record")

// DB holds the records, ladder.db.
type DB struct {
	db *sqlite.DB
	// signer signs the lines of the record.
	signer record.Signer
	// writing is held by the one transaction that writes, so that tail is its end.
	writing chan struct{}
	tail    tail
	// reads and writes are the statements that are prepared for reading and for changes.
	reads, writes *statements
	// words are those that are known to be in the index of the record, so that they are not
	// looked up again; only the transaction that writes touches them.
	words map[string]bool

	troubleMu sync.Mutex
	trouble   *Trouble
	past      []Trouble
}

// Trouble is a time in which nothing could be recorded.
type Trouble struct {
	Why string
	// Since is when a change failed first, Until when one did not fail any more; zero while it lasts.
	Since, Until time.Time
	// Refused is how many changes failed.
	Refused int
}

// NotWritten is why a change was not recorded that was right in itself. It is no fault of whoever made it: who decides
// what traffic does goes on without the record, and completes it later.
type NotWritten struct {
	Why string
	err error
}

// Error gives the reason with what the database said.
func (n *NotWritten) Error() string {
	return "nothing can be recorded: " + n.Why + " (" + n.err.Error() + ")"
}

// Unwrap is what the database said.
func (n *NotWritten) Unwrap() error { return n.err }

// Trouble is why nothing can be recorded now; nil when it can.
func (s *DB) Trouble() *Trouble {
	s.troubleMu.Lock()
	defer s.troubleMu.Unlock()
	if s.trouble == nil {
		return nil
	}
	now := *s.trouble
	return &now
}

// Overcome gives the troubles that are over, once.
func (s *DB) Overcome() []Trouble {
	s.troubleMu.Lock()
	defer s.troubleMu.Unlock()
	past := s.past
	s.past = nil
	return past
}

// Returned takes back troubles that could not be told of.
func (s *DB) Returned(past []Trouble) {
	s.troubleMu.Lock()
	defer s.troubleMu.Unlock()
	s.past = append(past, s.past...)
}

// Probe tries whether something can be recorded, and changes nothing.
func (s *DB) Probe(ctx context.Context) error {
	return s.Write(ctx, Everything, func(v View) error {
		_, err := v.q.exec(ctx, `UPDATE goose_db_version SET tstamp = tstamp WHERE id = 1`)
		return err
	})
}

// ByTheWay makes a change that reading brings with it. While nothing can be recorded it is left out, so that reading
// goes on.
func (s *DB) ByTheWay(change func() error) error {
	if s.Trouble() != nil {
		return nil
	}
	if err := change(); err != nil && disk.Why(err) == "" {
		return err
	}
	return nil
}

// judged remembers whether changes can be recorded, and tells whoever made one that failed why.
func (s *DB) judged(err error) error {
	why := disk.Why(err)
	if err != nil && why == "" {
		return err
	}
	s.troubleMu.Lock()
	defer s.troubleMu.Unlock()
	if err == nil {
		if s.trouble != nil {
			s.trouble.Until = time.Now().UTC()
			s.past, s.trouble = append(s.past, *s.trouble), nil
		}
		return nil
	}
	if s.trouble == nil {
		s.trouble = &Trouble{Since: time.Now().UTC()}
	}
	s.trouble.Why = why
	s.trouble.Refused++
	return &NotWritten{why, err}
}

// Open opens or creates the records at path.
func Open(ctx context.Context, path string) (*DB, error) {
	sub, err := fs.Sub(ladderMigrations, "ladder")
	if err != nil {
		return nil, err
	}
	db, err := sqlite.Open(ctx, path, sqlite.Options{Synchronous: "FULL", SecureDelete: true, Migrations: sub})
	if err != nil {
		return nil, err
	}
	return &DB{
		db: db, writing: make(chan struct{}, 1), words: map[string]bool{},
		reads: newStatements(db.Read), writes: newStatements(db.Write),
	}, nil
}

// Close closes the file.
func (s *DB) Close() error {
	s.reads.close()
	s.writes.close()
	return s.db.Close()
}

// Snapshot writes the records as they are at one moment into a new file, while others
// read and write.
func (s *DB) Snapshot(ctx context.Context, path string) error { return s.db.Snapshot(ctx, path) }

// Ready says whether the records can be read.
func (s *DB) Ready(ctx context.Context) error { return s.db.Read.PingContext(ctx) }

// Sight is what someone may see: what is out of it is not found, as if it did not exist.
type Sight struct {
	// All is set for those who see every project.
	All      bool
	Projects []string
}

// Everything is the sight of what the service does by itself. Whoever uses it says so.
var Everything = Sight{All: true}

func (s Sight) sees(project string) bool {
	return s.All || (project != "" && slices.Contains(s.Projects, project))
}

// View is the queries that someone with a sight may ask; they read, or read and write inside of one transaction.
type View struct {
	q     asker
	sight Sight
	db    *DB
	// tail is the end of the record in this transaction; nil outside of one.
	tail *tail
}

// sees is the condition that a column names a project in sight.
func (r View) sees(column string) piece {
	if r.sight.All {
		return write("1")
	}
	return write(column+" IN ?", listOf(r.sight.Projects))
}

// Within are the same queries with another sight: with Everything, for what must be right
// whoever asks, such as whether a name is free.
func (v View) Within(sight Sight) View {
	v.sight = sight
	return v
}

// Read gives the queries of someone with a sight outside of a transaction, for reading only.
func (s *DB) Read(sight Sight) View { return View{asker{q: s.db.Read, known: s.reads}, sight, s, nil} }

// Write runs fn in one transaction of someone with a sight: all of it happens, or nothing.
func (s *DB) Write(ctx context.Context, sight Sight, fn func(View) error) error {
	return s.judged(s.change(ctx, sight, fn))
}

func (s *DB) change(ctx context.Context, sight Sight, fn func(View) error) error {
	select {
	case s.writing <- struct{}{}:
		defer func() { <-s.writing }()
	case <-ctx.Done():
		return fmt.Errorf("beginning a change: %w", ctx.Err())
	}
	tx, err := s.db.Write.BeginTx(ctx, nil)
	if err != nil {
		return fmt.Errorf("beginning a change: %w", err)
	}
	end := s.tail
	forget := func() {
		if end.indexed { // words that this transaction added are not in the index after all
			clear(s.words)
		}
	}
	if err := fn(View{asker{q: tx, known: s.writes, tx: tx}, sight, s, &end}); err != nil {
		_ = tx.Rollback()
		forget()
		return err
	}
	if err := tx.Commit(); err != nil {
		s.tail = tail{} // it is read again
		forget()
		return fmt.Errorf("confirming a change: %w", err)
	}
	end.indexed = false
	s.tail = end
	s.writes.learn(ctx)
	return nil
}

// Page asks for a part of a list: at most Limit items after the one with key After,
// from the start when it is empty.
type Page struct {
	Limit int
	After string
}

// collect reads all rows with scan.
func collect[T any](rows *sql.Rows, err error, scan func(*sql.Rows) (T, error)) ([]T, error) {
	return sqlite.Collect(rows, err, scan)
}

// cut keeps the first limit of items, of which one more was asked for, and returns the
// key of the last one kept when there are more.
func cut[T any](items []T, limit int, key func(T) string) ([]T, string) {
	if len(items) <= limit {
		return items, ""
	}
	items = items[:limit]
	return items, key(items[limit-1])
}

// one turns the missing row into ErrNone.
func one(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNone
	}
	return err
}

// Times are stored as milliseconds since 1970, UTC.
func toMillis(t time.Time) int64    { return t.UnixMilli() }
func fromMillis(ms int64) time.Time { return time.UnixMilli(ms).UTC() }
func optionalTime(ms sql.NullInt64) *time.Time {
	if !ms.Valid {
		return nil
	}
	t := fromMillis(ms.Int64)
	return &t
}
