package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"innerladder/internal/core/rollout"
	"innerladder/internal/core/sketch"
)

// Signals holds what was measured, signals.db.
type Signals struct{ db *database }

// OpenSignals opens or creates the signals at path.
func OpenSignals(ctx context.Context, path string) (*Signals, error) {
	sub, err := fs.Sub(signalsMigrations, "signals")
	if err != nil {
		return nil, err
	}
	db, err := open(ctx, path, "NORMAL", sub)
	if err != nil {
		return nil, err
	}
	return &Signals{db}, nil
}

// Close closes the file.
func (s *Signals) Close() error { return s.db.close() }

// Snapshot writes the signals as they are at one moment into a new file.
func (s *Signals) Snapshot(ctx context.Context, path string) error { return s.db.snapshot(ctx, path) }

// LaneKey names whose traffic a summary is of.
type LaneKey struct {
	Endpoint string
	Split    int
	Lane     string
	Version  string
}

// Window is what one lane did in one minute.
type Window struct {
	LaneKey
	Minute  time.Time
	Summary *sketch.Summary
}

// PutWindows writes windows, replacing earlier states of the same minutes, all or none.
func (s *Signals) PutWindows(ctx context.Context, windows []Window) error {
	return s.inOne(ctx, func(tx *sql.Tx) error {
		for _, w := range windows {
			b, err := json.Marshal(w.Summary)
			if err != nil {
				return fmt.Errorf("encoding a window of %s: %w", w.Endpoint, err)
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO windows (endpoint, minute, split, lane, version, requests, failed, summary) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT DO UPDATE SET requests = excluded.requests, failed = excluded.failed, summary = excluded.summary`,
				w.Endpoint, w.Minute.Unix()/60, w.Split, w.Lane, w.Version, w.Summary.Counts.Requests, w.Summary.Counts.Failed(), string(b)); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *Signals) inOne(ctx context.Context, fn func(*sql.Tx) error) error {
	tx, err := s.db.write.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := fn(tx); err != nil {
		_ = tx.Rollback()
		return err
	}
	return tx.Commit()
}

// Windows lists the windows of an endpoint whose minute lies in [from, to].
func (s *Signals) Windows(ctx context.Context, endpoint string, from, to time.Time) ([]Window, error) {
	rows, err := s.db.read.QueryContext(ctx, `SELECT minute, split, lane, version, summary FROM windows WHERE endpoint = ? AND minute BETWEEN ? AND ? ORDER BY minute`,
		endpoint, from.Unix()/60, to.Unix()/60)
	return collect(rows, err, func(rows *sql.Rows) (Window, error) {
		w := Window{LaneKey: LaneKey{Endpoint: endpoint}, Summary: &sketch.Summary{}}
		var minute int64
		var raw string
		if err := rows.Scan(&minute, &w.Split, &w.Lane, &w.Version, &raw); err != nil {
			return w, err
		}
		w.Minute = time.Unix(minute*60, 0).UTC()
		return w, json.Unmarshal([]byte(raw), w.Summary)
	})
}

// Counted sums what a lane did since a time: requests and, of them, failures.
func (s *Signals) Counted(ctx context.Context, k LaneKey, since time.Time) (requests, failed uint64, err error) {
	err = s.db.read.QueryRowContext(ctx, `SELECT coalesce(sum(requests), 0), coalesce(sum(failed), 0) FROM windows
		WHERE endpoint = ? AND minute >= ? AND split = ? AND lane = ? AND version = ?`, k.Endpoint, since.Unix()/60, k.Split, k.Lane, k.Version).Scan(&requests, &failed)
	return requests, failed, err
}

// Column names a column of an endpoint's requests.
type Column struct{ Endpoint, Side, Name string }

// The sides of a column.
const (
	Input  = "input"
	Output = "output"
)

// PutBins fixes the bins of a column, unless they are fixed already; source says where
// they came from.
func (s *Signals) PutBins(ctx context.Context, c Column, source string, b sketch.Bins) error {
	raw, err := json.Marshal(b)
	if err != nil {
		return err
	}
	_, err = s.db.write.ExecContext(ctx, `INSERT INTO bins (endpoint, side, name, source, bins) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING`,
		c.Endpoint, c.Side, c.Name, source, string(raw))
	return err
}

// FixedBins are the bins of a column and where they came from.
type FixedBins struct {
	Column
	Source string
	Bins   sketch.Bins
}

// AllBins lists the bins of all columns of all endpoints.
func (s *Signals) AllBins(ctx context.Context) ([]FixedBins, error) {
	rows, err := s.db.read.QueryContext(ctx, `SELECT endpoint, side, name, source, bins FROM bins`)
	return collect(rows, err, func(rows *sql.Rows) (FixedBins, error) {
		var f FixedBins
		var raw string
		if err := rows.Scan(&f.Endpoint, &f.Side, &f.Name, &f.Source, &raw); err != nil {
			return f, err
		}
		return f, json.Unmarshal([]byte(raw), &f.Bins)
	})
}

// Watching returns where the watching of an endpoint stands, ErrNone when it never
// began.
func (s *Signals) Watching(ctx context.Context, endpoint string) (rollout.State, error) {
	var raw string
	var state rollout.State
	err := s.db.read.QueryRowContext(ctx, `SELECT state FROM watching WHERE endpoint = ?`, endpoint).Scan(&raw)
	if errors.Is(err, sql.ErrNoRows) {
		return state, ErrNone
	}
	if err != nil {
		return state, err
	}
	return state, json.Unmarshal([]byte(raw), &state)
}

// PutWatching keeps where the watching of an endpoint stands, with its readings.
func (s *Signals) PutWatching(ctx context.Context, endpoint string, state rollout.State) error {
	raw, err := json.Marshal(state)
	if err != nil {
		return err
	}
	return s.inOne(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO watching (endpoint, state) VALUES (?, ?) ON CONFLICT DO UPDATE SET state = excluded.state`, endpoint, string(raw)); err != nil {
			return err
		}
		for _, t := range state.Trials {
			for _, r := range t.Readings {
				if _, err := tx.ExecContext(ctx, `INSERT INTO readings (endpoint, at, split, version, signal, progress) VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET progress = excluded.progress`,
					endpoint, toMillis(state.At), state.Split, t.Version, r.Signal, r.Progress); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Progress is one reading of a guard in time.
type Progress struct {
	At       time.Time `json:"at"`
	Split    int       `json:"split"`
	Version  string    `json:"version"`
	Signal   string    `json:"signal"`
	Progress float64   `json:"progress" description:"1 fires"`
}

// Readings lists what the guards of an endpoint said since a time.
func (s *Signals) Readings(ctx context.Context, endpoint string, since time.Time) ([]Progress, error) {
	rows, err := s.db.read.QueryContext(ctx, `SELECT at, split, version, signal, progress FROM readings WHERE endpoint = ? AND at >= ? ORDER BY at`, endpoint, toMillis(since))
	return collect(rows, err, func(rows *sql.Rows) (Progress, error) {
		var p Progress
		var at int64
		err := rows.Scan(&at, &p.Split, &p.Version, &p.Signal, &p.Progress)
		p.At = fromMillis(at)
		return p, err
	})
}

// Forget removes windows and readings from before a moment each.
func (s *Signals) Forget(ctx context.Context, windows, readings time.Time) error {
	return s.inOne(ctx, func(tx *sql.Tx) error {
		// Windows are found by endpoint first, so that the index serves.
		if _, err := tx.ExecContext(ctx, `DELETE FROM windows WHERE endpoint IN (SELECT DISTINCT endpoint FROM windows) AND minute < ?`, windows.Unix()/60); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM readings WHERE endpoint IN (SELECT DISTINCT endpoint FROM readings) AND at < ?`, toMillis(readings))
		return err
	})
}
