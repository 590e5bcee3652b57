package signals

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/core/elsewhere"
	"innerladder/internal/sqlite"
)

// Reported is a batch of an agent, with windows by the minute that are added to what is there.
type Reported struct {
	Endpoint string
	elsewhere.Agent
	Windows []Window
	// Ages say how old what is kept may be: what is older is added to longer windows only.
	Ages Ages
}

// Report takes a batch of an agent, all of it or nothing, and for good. A batch whose number was taken before changes
// nothing but when the agent was heard; taken says which it was.
func (s *Store) Report(ctx context.Context, r Reported) (taken bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	err = s.db.InOneForGood(ctx, func(tx *sql.Tx) error {
		var last int64
		err := tx.QueryRowContext(ctx, `SELECT number FROM agents WHERE endpoint = ? AND id = ?`, r.Endpoint, r.ID).
			Scan(&last)
		if errors.Is(err, sql.ErrNoRows) {
			err = roomForAgent(ctx, tx, r.Endpoint)
		}
		if err != nil {
			return err
		}
		if taken = r.Number > last; !taken {
			_, err := tx.ExecContext(ctx, `UPDATE agents SET heard_at = ? WHERE endpoint = ? AND id = ?`,
				r.HeardAt.UnixMilli(), r.Endpoint, r.ID)
			return err
		}
		if err := s.addAll(ctx, tx, r); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO agents (endpoint, id, name, number, heard_at, until, requests,
				waiting, aside)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT DO UPDATE SET name = excluded.name, number = excluded.number, heard_at = excluded.heard_at,
				until = max(until, excluded.until), requests = requests + excluded.requests,
				waiting = excluded.waiting, aside = excluded.aside`,
			r.Endpoint, r.ID, r.Name, r.Number, r.HeardAt.UnixMilli(), max(0, r.Until.Unix()), r.Requests, r.Waiting,
			r.Aside)
		return err
	})
	if err != nil { // what was numbered in it is not there
		clear(s.lanes)
		clear(s.columns)
		return false, fmt.Errorf("taking a batch of %s: %w", r.Name, err)
	}
	return taken, nil
}

// MostAgents is how many agents report of an endpoint at most.
const MostAgents = 1000

// ErrManyAgents says that so many report of an endpoint already.
var ErrManyAgents = fmt.Errorf("%d agents report of the endpoint already", MostAgents)

func roomForAgent(ctx context.Context, tx *sql.Tx, endpoint string) error {
	var n int
	err := tx.QueryRowContext(ctx, `SELECT count(*) FROM agents WHERE endpoint = ?`, endpoint).Scan(&n)
	if err == nil && n >= MostAgents {
		return ErrManyAgents
	}
	return err
}

// addAll adds the windows of a batch to what is there.
func (s *Store) addAll(ctx context.Context, tx *sql.Tx, r Reported) error {
	w, err := s.newWriter(ctx, tx)
	if err != nil {
		return err
	}
	defer w.close()
	columns, err := s.allColumns(ctx, tx, r.Endpoint)
	if err != nil {
		return err
	}
	before := forgotten(w.rolled, r.HeardAt, r.Ages)
	for _, x := range r.Windows {
		if err := w.add(ctx, x, before, columns); err != nil {
			return fmt.Errorf("adding a window of %s: %w", x.Endpoint, err)
		}
	}
	return nil
}

// add adds a minute to the windows that it lies in: its own, and those above that were rolled up already. What of a
// level is forgotten stays so, so that a part of an hour is never taken for all of it.
func (w *writer) add(ctx context.Context, x Window, before [3]time.Time, columns map[int64]numbered) error {
	id, err := w.lane(ctx, x.Key)
	if err != nil {
		return err
	}
	for level := Minute; level <= Day; level++ {
		at := level.floor(x.At)
		if level > Minute && !at.Before(w.rolled[level]) {
			return nil // it will be made of those below
		}
		if at.Before(before[level]) {
			continue
		}
		there, err := readSegment(ctx, w.tx, Query{Latency: true, Backend: true, Content: true},
			segment{level, at, at.Add(level.Length())}, lane{id, x.Key}, columns)
		if err != nil {
			return err
		}
		sum := x.Summary.Clone()
		for _, t := range there {
			sum.Merge(t.Summary)
		}
		if err := w.span(ctx, span{id, level, at.Unix()}, x.Endpoint, sum); err != nil {
			return err
		}
	}
	return nil
}

// Agents lists those that report of an endpoint, by name.
func (s *Store) Agents(ctx context.Context, endpoint string) ([]elsewhere.Agent, error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT id, name, number, heard_at, until, requests, waiting, aside
		FROM agents WHERE endpoint = ? ORDER BY name, id`, endpoint)
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (a elsewhere.Agent, err error) {
		var heard, until int64
		err = rows.Scan(&a.ID, &a.Name, &a.Number, &heard, &until, &a.Requests, &a.Waiting, &a.Aside)
		a.HeardAt, a.Until = time.UnixMilli(heard).UTC(), time.Unix(until, 0).UTC()
		return a, err
	})
}
