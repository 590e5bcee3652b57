package signals

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/sqlite"
)

// Query says which windows to read.
type Query struct {
	Endpoint string
	// Versions narrows it down when there are any, Lane to a single lane.
	Versions []string
	Lane     *Key
	// From and To bound the time: windows that begin in [From, To).
	From, To time.Time
	// Longest is the longest window that may be given: where minutes are wanted, hours do
	// not serve. Where only longer ones are kept, they are not given.
	Longest Level
	// Latency, Backend, Callers and Content say which summaries are read besides the counts; Content has Callers.
	Latency, Backend, Callers, Content bool
}

// whats is the condition on the summaries that are read; empty for none.
func (q Query) whats() string {
	var or []string
	if q.Latency {
		or = append(or, fmt.Sprint("what = ", whatLatency))
	}
	if q.Backend {
		or = append(or, fmt.Sprint("what = ", whatBackend))
	}
	if q.Callers {
		or = append(or, fmt.Sprint("what = ", whatCallers))
	}
	if q.Content {
		or = append(or, fmt.Sprint("what >= ", whatDistinct))
	}
	return strings.Join(or, " OR ")
}

// segment is a part of a span of time that windows of one level cover.
type segment struct {
	level    Level
	from, to time.Time
}

// cover says which windows cover [from, to): the longest that there are, and that lie in
// it whole.
func cover(from, to time.Time, longest Level, rolled [3]time.Time) []segment {
	if !from.Before(to) {
		return nil
	}
	if longest == Minute {
		return []segment{{Minute, from, to}}
	}
	first := longest.floor(from.Add(longest.Length() - 1))
	last := longest.floor(to)
	if rolled[longest].Before(last) {
		last = rolled[longest]
	}
	if !first.Before(last) {
		return cover(from, to, longest-1, rolled)
	}
	return slices.Concat(
		cover(from, first, longest-1, rolled),
		[]segment{{longest, first, last}},
		cover(last, to, longest-1, rolled),
	)
}

// rolled reads up to when each level is rolled up; minutes are not.
func rolled(ctx context.Context, q querier) (until [3]time.Time, err error) {
	rows, err := q.QueryContext(ctx, `SELECT level, until FROM rolled`)
	_, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (struct{}, error) {
		var level Level
		var at int64
		err := rows.Scan(&level, &at)
		if err == nil && level >= Hour && level <= Day {
			until[level] = time.Unix(at, 0).UTC()
		}
		return struct{}{}, err
	})
	return until, err
}

// Windows reads windows in the order of their time.
func (s *Store) Windows(ctx context.Context, q Query) ([]Window, error) {
	// Up to when is read first: what is rolled up meanwhile is also still there by the
	// minute, so that lanes may be read beside each other.
	until, err := rolled(ctx, s.db.Read)
	if err != nil {
		return nil, err
	}
	lanes, err := lanesOf(ctx, s.db.Read, q)
	if err != nil || len(lanes) == 0 {
		return nil, err
	}
	var columns map[int64]numbered
	if q.Content {
		if columns, err = s.allColumns(ctx, s.db.Read, q.Endpoint); err != nil {
			return nil, err
		}
	}
	segments := cover(q.From.UTC(), q.To.UTC(), q.Longest, until)
	found, errs := make([][]Window, len(lanes)), make([]error, len(lanes))
	var all sync.WaitGroup
	for i, l := range lanes {
		all.Go(func() { found[i], errs[i] = s.readLane(ctx, q, segments, l, columns) })
	}
	all.Wait()
	if err := errors.Join(errs...); err != nil {
		return nil, fmt.Errorf("reading windows of %s: %w", q.Endpoint, err)
	}
	out := slices.Concat(found...)
	slices.SortStableFunc(out, func(a, b Window) int { return a.At.Compare(b.At) })
	return out, nil
}

// readLane reads the windows of one lane, as they are at one moment.
func (s *Store) readLane(ctx context.Context, q Query, segments []segment, l lane,
	columns map[int64]numbered,
) ([]Window, error) {
	tx, err := s.db.Read.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	var out []Window
	for _, seg := range segments {
		windows, err := readSegment(ctx, tx, q, seg, l, columns)
		if err != nil {
			return nil, err
		}
		out = append(out, windows...)
	}
	return out, nil
}

// lane is a lane with its number.
type lane struct {
	id int64
	Key
}

// lanesOf reads the lanes that a query is about.
func lanesOf(ctx context.Context, q querier, query Query) ([]lane, error) {
	where, args := `endpoint = ?`, []any{query.Endpoint}
	if len(query.Versions) > 0 {
		where += ` AND version IN (?` + strings.Repeat(",?", len(query.Versions)-1) + `)`
		for _, v := range query.Versions {
			args = append(args, v)
		}
	}
	if k := query.Lane; k != nil {
		where, args = `endpoint = ? AND version = ? AND split = ? AND lane = ?`, []any{
			k.Endpoint,
			k.Version,
			k.Split,
			k.Lane,
		}
	}
	rows, err := q.QueryContext(ctx, `SELECT id, endpoint, split, lane, version FROM lanes WHERE `+where, args...)
	return sqlite.Collect(rows, err, func(rows *sql.Rows) (l lane, err error) {
		return l, rows.Scan(&l.id, &l.Endpoint, &l.Split, &l.Lane, &l.Version)
	})
}

// readSegment reads the windows of one level.
func readSegment(ctx context.Context, tx *sql.Tx, q Query, seg segment, l lane,
	columns map[int64]numbered,
) ([]Window, error) {
	rows, err := tx.QueryContext(
		ctx,
		`SELECT at, probability, `+countColumns+
			` FROM traffic WHERE lane = ? AND level = ? AND at >= ? AND at < ? ORDER BY at`,
		l.id,
		seg.level,
		seg.from.Unix(),
		seg.to.Unix(),
	)
	windows, err := sqlite.Collect(
		rows,
		err,
		func(rows *sql.Rows) (Window, error) { return scanTraffic(rows, l.Key, seg.level) },
	)
	whats := q.whats()
	if err != nil || len(windows) == 0 || whats == "" {
		return windows, err
	}
	rows, err = tx.QueryContext(
		ctx,
		`SELECT what, at, summary FROM summaries WHERE lane = ? AND level = ? AND at >= ? AND at < ? AND (`+whats+`)`,
		l.id,
		seg.level,
		seg.from.Unix(),
		seg.to.Unix(),
	)
	return windows, readSummaries(rows, err, windows, columns)
}

func scanTraffic(rows *sql.Rows, k Key, level Level) (Window, error) {
	w := Window{Key: k, Level: level, Summary: &sketch.Summary{}}
	var at int64
	var p float64
	into := []any{&at, &p}
	for _, n := range countFields(&w.Summary.Counts, &w.Summary.Content) {
		into = append(into, n)
	}
	err := rows.Scan(into...)
	w.At = time.Unix(at, 0).UTC()
	w.Summary.SetProbability(p)
	return w, err
}

// readSummaries reads summaries into the windows that they belong to, which are in the
// order of their time.
func readSummaries(rows *sql.Rows, err error, windows []Window, columns map[int64]numbered) error {
	if err != nil {
		return err
	}
	defer rows.Close()
	var raw sql.RawBytes
	for rows.Next() {
		var what, at int64
		if err := rows.Scan(&what, &at, &raw); err != nil {
			return err
		}
		i, there := slices.BinarySearchFunc(
			windows,
			at,
			func(w Window, at int64) int { return int(w.At.Unix() - at) },
		)
		if !there {
			continue
		}
		if err := readSummary(windows[i].Summary, what, raw, columns); err != nil {
			return err
		}
	}
	return rows.Err()
}

func readSummary(sum *sketch.Summary, what int64, raw []byte, columns map[int64]numbered) error {
	switch what {
	case whatLatency:
		return sum.Latency.MergeBinary(raw)
	case whatBackend:
		return sum.Backend.MergeBinary(raw)
	case whatCallers:
		return sum.Callers.MergeBinary(raw)
	}
	return readContent(&sum.Content, what, raw, columns)
}

func readContent(c *sketch.Content, what int64, raw []byte, columns map[int64]numbered) error {
	switch what {
	case whatDistinct:
		return c.Distinct.MergeBinary(raw)
	case whatPaired:
		return c.Paired.MergeBinary(raw)
	case whatForms:
		return c.Forms.MergeBinary(raw)
	}
	column, ok := columns[what]
	if !ok {
		return nil
	}
	read, err := sketch.ReadColumn(column.Bins, raw)
	if err != nil {
		return err
	}
	into := &c.Inputs
	if column.Side == Output {
		into = &c.Outputs
	}
	if *into == nil {
		*into = map[string]*sketch.Column{}
	}
	(*into)[column.Name] = read
	return nil
}

// Window reads the minute of a lane; ErrNone when there is none.
func (s *Store) Window(ctx context.Context, k Key, at time.Time) (*Window, error) {
	windows, err := s.Windows(
		ctx,
		Query{
			Endpoint: k.Endpoint,
			Lane:     &k,
			From:     at,
			To:       at.Add(time.Minute),
			Longest:  Minute,
			Latency:  true,
			Backend:  true,
			Content:  true,
		},
	)
	if err != nil {
		return nil, err
	}
	if len(windows) == 0 {
		return nil, ErrNone
	}
	return &windows[0], nil
}

// Counted sums the counts of a lane since it has been there.
func (s *Store) Counted(ctx context.Context, k Key, now time.Time) (sketch.Counts, error) {
	var sum sketch.Counts
	windows, err := s.Windows(
		ctx,
		Query{Endpoint: k.Endpoint, Lane: &k, From: time.Unix(0, 0), To: now.Add(24 * time.Hour), Longest: Day},
	)
	for _, w := range windows {
		sum = sum.Plus(w.Summary.Counts)
	}
	return sum, err
}

// Evidence reads what both versions of a trial did since it began.
func (s *Store) Evidence(ctx context.Context, endpoint string, t guard.TrialPair) ([]Evidence, error) {
	columns, err := s.allColumns(ctx, s.db.Read, endpoint)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Read.QueryContext(
		ctx,
		`SELECT version, what, summary FROM evidence
			WHERE endpoint = ? AND candidate = ? AND incumbent = ? AND begun = ?`,
		endpoint,
		t.Candidate,
		t.Incumbent,
		t.Begun,
	)
	found := map[string]*Evidence{}
	_, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (struct{}, error) {
		var version string
		var what int64
		var raw sql.RawBytes
		if err := rows.Scan(&version, &what, &raw); err != nil {
			return struct{}{}, err
		}
		e := found[version]
		if e == nil {
			e = &Evidence{Endpoint: endpoint, Trial: t, Version: version}
			found[version] = e
		}
		switch what {
		case whatCounts:
			return struct{}{}, readCounts(raw, &e.Counts, &e.Content)
		case whatLatency:
			return struct{}{}, e.Latency.MergeBinary(raw)
		}
		return struct{}{}, readContent(&e.Content, what, raw, columns)
	})
	if err != nil {
		return nil, fmt.Errorf("reading the evidence of %s: %w", endpoint, err)
	}
	var out []Evidence
	for _, e := range found {
		out = append(out, *e)
	}
	return out, nil
}
