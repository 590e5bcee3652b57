package signals

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"time"

	"innerladder/internal/core/sketch"
)

// writer writes windows and evidence in one transaction.
type writer struct {
	s                           *Store
	tx                          *sql.Tx
	traffic, summary, evidences *sql.Stmt
	// rolled says up to when each level is rolled up; stale are the lanes and spans above
	// minutes that must be made anew, because a minute of theirs came late.
	rolled [3]time.Time
	stale  map[span]bool
	buffer []byte
}

// span is one window of one lane.
type span struct {
	lane  int64
	level Level
	at    int64
}

func (s *Store) newWriter(ctx context.Context, tx *sql.Tx) (*writer, error) {
	w := &writer{s: s, tx: tx, stale: map[span]bool{}}
	var err error
	if w.rolled, err = rolled(ctx, tx); err != nil {
		return nil, err
	}
	for into, query := range map[**sql.Stmt]string{
		&w.traffic: `INSERT OR REPLACE INTO traffic (lane, level, at, probability, ` + countColumns + `)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		&w.summary: `INSERT OR REPLACE INTO summaries (lane, level, what, at, summary) VALUES (?, ?, ?, ?, ?)`,
		&w.evidences: `INSERT OR REPLACE INTO evidence (endpoint, incumbent, candidate, begun, version, what, summary)
			VALUES (?, ?, ?, ?, ?, ?, ?)`,
	} {
		if *into, err = tx.PrepareContext(ctx, query); err != nil {
			w.close()
			return nil, err
		}
	}
	return w, nil
}

func (w *writer) close() {
	for _, s := range []*sql.Stmt{w.traffic, w.summary, w.evidences} {
		if s != nil {
			_ = s.Close()
		}
	}
}

// lane gives the number of a lane.
func (w *writer) lane(ctx context.Context, k Key) (int64, error) {
	if id, ok := w.s.lanes[k]; ok {
		return id, nil
	}
	key := []any{k.Endpoint, k.Split, k.Lane, k.Version}
	_, err := w.tx.ExecContext(ctx,
		`INSERT INTO lanes (endpoint, split, lane, version) VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING`, key...)
	if err != nil {
		return 0, err
	}
	var id int64
	err = w.tx.QueryRowContext(ctx,
		`SELECT id FROM lanes WHERE endpoint = ? AND split = ? AND lane = ? AND version = ?`, key...).Scan(&id)
	if err == nil {
		w.s.lanes[k] = id
	}
	return id, err
}

// column gives the number of a column, 0 when its bins are not fixed.
func (w *writer) column(ctx context.Context, c Column) (int64, error) {
	if id, ok := w.s.columns[c]; ok {
		return id, nil
	}
	var id int64
	err := w.tx.QueryRowContext(ctx, `SELECT id FROM columns WHERE endpoint = ? AND side = ? AND name = ?`,
		c.Endpoint, c.Side, c.Name).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	if err == nil {
		w.s.columns[c] = id
	}
	return id, err
}

func (w *writer) window(ctx context.Context, x Window) error {
	lane, err := w.lane(ctx, x.Key)
	if err != nil {
		return err
	}
	if err := w.span(ctx, span{lane, x.Level, x.At.Unix()}, x.Endpoint, x.Summary); err != nil {
		return err
	}
	for level := x.Level + 1; level <= Day; level++ {
		if at := level.floor(x.At); at.Before(w.rolled[level]) {
			w.stale[span{lane, level, at.Unix()}] = true
		}
	}
	return nil
}

// span writes a window of a lane.
func (w *writer) span(ctx context.Context, at span, endpoint string, sum *sketch.Summary) error {
	args := []any{at.lane, at.level, at.at, sum.Probability()}
	counts, content := sum.Counts, sum.Content
	for _, n := range countFields(&counts, &content) {
		args = append(args, *n)
	}
	if _, err := w.traffic.ExecContext(ctx, args...); err != nil {
		return err
	}
	put := func(what int64) error {
		_, err := w.summary.ExecContext(ctx, at.lane, at.level, what, at.at, w.buffer)
		return err
	}
	if sum.Latency.Count() > 0 {
		w.buffer = sum.Latency.AppendBinary(w.buffer[:0])
		if err := put(whatLatency); err != nil {
			return err
		}
		w.buffer = sum.Backend.AppendBinary(w.buffer[:0])
		if err := put(whatBackend); err != nil {
			return err
		}
	}
	if sum.Callers.Count() > 0 {
		w.buffer = sum.Callers.AppendBinary(w.buffer[:0])
		if err := put(whatCallers); err != nil {
			return err
		}
	}
	return w.content(ctx, endpoint, &sum.Content, put)
}

// content writes the summaries of bodies, each with put, which takes it from the buffer.
func (w *writer) content(ctx context.Context, endpoint string, c *sketch.Content, put func(what int64) error) error {
	if c.Rows > 0 {
		w.buffer = c.Distinct.AppendBinary(w.buffer[:0])
		if err := put(whatDistinct); err != nil {
			return err
		}
	}
	if c.Forms.Answers > 0 {
		w.buffer = c.Forms.AppendBinary(w.buffer[:0])
		if err := put(whatForms); err != nil {
			return err
		}
	}
	if !c.Paired.Empty() {
		w.buffer = c.Paired.AppendBinary(w.buffer[:0])
		if err := put(whatPaired); err != nil {
			return err
		}
	}
	for side, columns := range map[string]map[string]*sketch.Column{Input: c.Inputs, Output: c.Outputs} {
		for name, column := range columns {
			id, err := w.column(ctx, Column{endpoint, side, name})
			if err != nil {
				return err
			}
			if id == 0 || column.Total() == 0 {
				continue
			}
			w.buffer = column.AppendBinary(w.buffer[:0])
			if err := put(id); err != nil {
				return err
			}
		}
	}
	return nil
}

// evidence writes what one version did in a trial.
func (w *writer) evidence(ctx context.Context, e Evidence) error {
	put := func(what int64) error {
		_, err := w.evidences.ExecContext(
			ctx,
			e.Endpoint,
			e.Trial.Incumbent,
			e.Trial.Candidate,
			e.Trial.Begun,
			e.Version,
			what,
			w.buffer,
		)
		return err
	}
	w.buffer = appendCounts(w.buffer[:0], e.Counts, &e.Content)
	if err := put(whatCounts); err != nil {
		return err
	}
	if e.Latency.Count() > 0 {
		w.buffer = e.Latency.AppendBinary(w.buffer[:0])
		if err := put(whatLatency); err != nil {
			return err
		}
	}
	return w.content(ctx, e.Endpoint, &e.Content, put)
}

// countColumns are the columns of counts, in the order of countFields.
const countColumns = `requests, caller_errors, server_errors, timed_out, not_reached, malformed, abandoned,
	unavailable, fallback, drawn, bodies, rows, unread, lost, repeated`

// countFields lists the counts in the order in which they are stored, in the columns of a
// window and in evidence; it only grows at its end.
func countFields(c *sketch.Counts, o *sketch.Content) []*uint64 {
	return []*uint64{
		&c.Requests,
		&c.CallerErrors,
		&c.ServerErrors,
		&c.TimedOut,
		&c.NotReached,
		&c.Malformed,
		&c.Abandoned,
		&c.Unavailable,
		&c.Fallback,
		&c.Drawn,
		&o.Bodies,
		&o.Rows,
		&o.Unread,
		&c.Lost,
		&c.Repeated,
	}
}

func appendCounts(b []byte, c sketch.Counts, o *sketch.Content) []byte {
	content := *o
	for _, n := range countFields(&c, &content) {
		b = binary.AppendUvarint(b, *n)
	}
	return b
}

func readCounts(b []byte, c *sketch.Counts, o *sketch.Content) error {
	for _, n := range countFields(c, o) {
		if len(b) == 0 {
			return nil // written before there were more
		}
		v, size := binary.Uvarint(b)
		if size <= 0 {
			return errors.New("the counts of a trial are cut short")
		}
		*n, b = v, b[size:]
	}
	return nil
}
