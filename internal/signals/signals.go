// Package signals keeps what was measured, in a database of its own: signals.db. Counts
// are integers, each summary is a binary blob in a row of its own and is read only when it
// is asked for. Minutes are rolled up to hours, and hours to days; each is kept for as long
// as is asked.
//
// Its promise is weaker than that of the records: a crash may lose the last second, and
// when the file is lost the service goes on without it and begins anew.
package signals

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/sqlite"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNone is returned when what was asked for does not exist.
var ErrNone = errors.New("no such signal")

// patience is how long a lock is waited for: what cannot be written now is written in a
// second.
const patience = 2 * time.Second

// Store holds what was measured. It is safe for use by several goroutines at once.
type Store struct {
	db   *sqlite.DB
	path string
	// file is what was opened, to notice when another takes its place.
	file os.FileInfo

	mu sync.Mutex
	// lanes and columns are the numbers of those that were written or read.
	lanes   map[Key]int64
	columns map[Column]int64
}

// Open opens or creates the signals at path.
func Open(ctx context.Context, path string) (*Store, error) {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	db, err := sqlite.Open(ctx, path, sqlite.Options{Synchronous: "NORMAL", Patience: patience, Migrations: sub})
	if err != nil {
		return nil, err
	}
	file, err := os.Stat(path)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("opening the signals: %w", err), db.Close())
	}
	return &Store{db: db, path: path, file: file, lanes: map[Key]int64{}, columns: map[Column]int64{}}, nil
}

// Close closes the file.
func (s *Store) Close() error { return s.db.Close() }

// Snapshot writes the signals as they are at one moment into a new file.
func (s *Store) Snapshot(ctx context.Context, path string) error { return s.db.Snapshot(ctx, path) }

// Check says whether the file is still the one that was opened, and can be read.
func (s *Store) Check(ctx context.Context) error {
	now, err := os.Stat(s.path)
	if err != nil {
		return fmt.Errorf("the file of the signals is gone: %w", err)
	}
	if !os.SameFile(now, s.file) {
		return errors.New("another file has taken the place of the signals")
	}
	// What is cached hides for long that the file below it is broken.
	if err := checkHeader(s.path); err != nil {
		return err
	}
	var n int
	return s.db.Read.QueryRowContext(ctx, `SELECT count(*) FROM rolled`).Scan(&n)
}

// errDamaged says that the file does not begin as a database does.
var errDamaged = errors.New("the file of the signals does not begin as a database does")

func checkHeader(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("the file of the signals cannot be opened: %w", err)
	}
	defer f.Close()
	var begin [16]byte
	n, err := f.Read(begin[:])
	if n == 0 && (err == nil || errors.Is(err, io.EOF)) {
		return nil // nothing has been moved into it from its log yet
	}
	if string(begin[:n]) != "SQLite format 3\x00" {
		return errDamaged
	}
	return nil
}

// Key names whose traffic a summary is of.
type Key struct {
	Endpoint string
	Split    int
	Lane     string
	Version  string
}

// Lanes beside those of callers who are dealt by share or rule: Shadow got copies, Pinned was asked for by name.
const (
	Shadow = "shadow"
	Pinned = "pinned"
)

// Dealt reports whether callers got the answers of a lane without asking for it by name.
func (k Key) Dealt() bool { return k.Lane != Shadow && k.Lane != Pinned }

// Column names a column of an endpoint's requests.
type Column struct{ Endpoint, Side, Name string }

// The sides of a column.
const (
	Input  = "input"
	Output = "output"
)

// FixedBins are the bins of a column and where they came from.
type FixedBins struct {
	Column
	Source string
	Bins   sketch.Bins
}

// The summaries that are no column.
const (
	whatLatency  = 1
	whatBackend  = 2
	whatDistinct = 3
	whatCounts   = 4
	whatForms    = 5
	whatPaired   = 6
	whatCallers  = 7
	firstColumn  = 16
)

// Level is how long a window is.
type Level int

// The levels.
const (
	Minute Level = iota
	Hour
	Day
)

// Length is how long a window of the level is.
func (l Level) Length() time.Duration {
	return [...]time.Duration{time.Minute, time.Hour, 24 * time.Hour}[l]
}

// floor is the start of the window that a moment lies in.
func (l Level) floor(t time.Time) time.Time { return t.Truncate(l.Length()) }

// Window is what one lane did in one minute, hour or day.
type Window struct {
	Key
	Level   Level
	At      time.Time
	Summary *sketch.Summary
}

// Evidence is what one version did in a trial since that began.
type Evidence struct {
	Endpoint string
	Trial    guard.TrialPair
	Version  string
	Counts   sketch.Counts
	Latency  sketch.Quantiles
	Content  sketch.Content
}

// Batch is what is written at once.
type Batch struct {
	Bins     []FixedBins
	Windows  []Window
	Evidence []Evidence
	// Refused and Called are added to what is there.
	Refused []Refused
	Called  []Called
}

// Write writes a batch, all of it or nothing. Windows replace earlier states of the same
// minutes; bins that are fixed already stay.
func (s *Store) Write(ctx context.Context, b Batch) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	err := s.db.InOne(ctx, func(tx *sql.Tx) error {
		for _, f := range b.Bins {
			if err := s.putBins(ctx, tx, f); err != nil {
				return fmt.Errorf("writing the bins of %s: %w", f.Name, err)
			}
		}
		w, err := s.newWriter(ctx, tx)
		if err != nil {
			return err
		}
		defer w.close()
		for _, window := range b.Windows {
			if err := w.window(ctx, window); err != nil {
				return fmt.Errorf("writing a window of %s: %w", window.Endpoint, err)
			}
		}
		for _, e := range b.Evidence {
			if err := w.evidence(ctx, e); err != nil {
				return fmt.Errorf("writing the evidence of %s: %w", e.Endpoint, err)
			}
		}
		for _, n := range b.Refused {
			if err := putRefused(ctx, tx, n); err != nil {
				return fmt.Errorf("writing the refusals of %s: %w", n.Endpoint, err)
			}
		}
		for _, n := range b.Called {
			if err := putCalled(ctx, tx, n); err != nil {
				return fmt.Errorf("writing the calls of %s: %w", n.Endpoint, err)
			}
		}
		return w.late(ctx)
	})
	if err != nil { // what was numbered in it is not there
		clear(s.lanes)
		clear(s.columns)
	}
	return err
}

func (s *Store) putBins(ctx context.Context, tx *sql.Tx, f FixedBins) error {
	raw, err := json.Marshal(f.Bins)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO columns (id, endpoint, side, name, source, bins)
		SELECT max(coalesce(max(id), 0) + 1, ?), ?, ?, ?, ?, ? FROM columns WHERE true ON CONFLICT DO NOTHING`,
		firstColumn, f.Endpoint, f.Side, f.Name, f.Source, string(raw))
	return err
}

// AllBins lists the bins of all columns of all endpoints.
func (s *Store) AllBins(ctx context.Context) ([]FixedBins, error) {
	columns, err := s.allColumns(ctx, s.db.Read, "")
	out := make([]FixedBins, 0, len(columns))
	for _, c := range columns {
		out = append(out, c.FixedBins)
	}
	return out, err
}

// numbered are bins with the number of their column.
type numbered struct {
	id int64
	FixedBins
}

type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// allColumns reads the columns of an endpoint, of all when it is empty.
func (s *Store) allColumns(ctx context.Context, q querier, endpoint string) (map[int64]numbered, error) {
	rows, err := q.QueryContext(
		ctx,
		`SELECT id, endpoint, side, name, source, bins FROM columns WHERE ? IN ('', endpoint)`,
		endpoint,
	)
	list, err := sqlite.Collect(rows, err, func(rows *sql.Rows) (numbered, error) {
		var c numbered
		var raw string
		if err := rows.Scan(&c.id, &c.Endpoint, &c.Side, &c.Name, &c.Source, &raw); err != nil {
			return c, err
		}
		return c, json.Unmarshal([]byte(raw), &c.Bins)
	})
	if err != nil {
		return nil, fmt.Errorf("reading the bins: %w", err)
	}
	out := make(map[int64]numbered, len(list))
	for _, c := range list {
		out[c.id] = c
	}
	return out, nil
}

// Watching returns where the watching of an endpoint stands, ErrNone when it never
// began.
func (s *Store) Watching(ctx context.Context, endpoint string) (guard.State, error) {
	var raw string
	var state guard.State
	err := s.db.Read.QueryRowContext(ctx, `SELECT state FROM watching WHERE endpoint = ?`, endpoint).Scan(&raw)
	if errors.Is(err, sql.ErrNoRows) {
		return state, ErrNone
	}
	if err != nil {
		return state, err
	}
	return state, json.Unmarshal([]byte(raw), &state)
}

// PutWatching keeps where the watching of an endpoint stands, with its readings.
func (s *Store) PutWatching(ctx context.Context, endpoint string, state guard.State) error {
	raw, err := json.Marshal(state)
	if err != nil {
		return err
	}
	return s.db.InOne(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO watching (endpoint, state) VALUES (?, ?) ON CONFLICT DO UPDATE SET state = excluded.state`,
			endpoint, string(raw)); err != nil {
			return err
		}
		return putReadings(ctx, tx, endpoint, state)
	})
}

// PutReadings keeps what the guards of an endpoint said, and not where they stand.
func (s *Store) PutReadings(ctx context.Context, endpoint string, state guard.State) error {
	return s.db.InOne(ctx, func(tx *sql.Tx) error { return putReadings(ctx, tx, endpoint, state) })
}

func putReadings(ctx context.Context, tx *sql.Tx, endpoint string, state guard.State) error {
	for _, t := range state.Trials {
		for _, r := range t.Readings {
			if _, err := tx.ExecContext(ctx, `INSERT INTO readings (endpoint, at, split, version, signal,
					progress, enough)
				VALUES (?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT DO UPDATE SET progress = excluded.progress, enough = excluded.enough`,
				endpoint, state.At.UnixMilli(), state.Split, t.Candidate, r.Signal, r.Progress,
				r.Enough); err != nil {
				return err
			}
		}
	}
	return nil
}

// Readings lists what the guards of an endpoint said in a span of time, in steps, of which each has the most that
// spoke against a trial in it, and the most that spoke for it.
func (s *Store) Readings(ctx context.Context, endpoint string, from, to time.Time,
	step time.Duration,
) ([]guard.Progress, error) {
	rows, err := s.db.Read.QueryContext(
		ctx,
		`SELECT max(at), max(split), version, signal, max(progress), max(enough) FROM readings
			WHERE endpoint = ? AND at BETWEEN ? AND ? GROUP BY at / ?, version, signal ORDER BY max(at)`,
		endpoint, from.UnixMilli(), to.UnixMilli(), max(1, step.Milliseconds()),
	)
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (guard.Progress, error) {
		var p guard.Progress
		var at int64
		err := rows.Scan(&at, &p.Split, &p.Version, &p.Signal, &p.Progress, &p.Enough)
		p.At = time.UnixMilli(at).UTC()
		return p, err
	})
}
