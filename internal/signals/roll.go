package signals

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/sqlite"
)

// settled is how long after its end a window is taken to be whole.
const settled = 2 * time.Minute

// Roll rolls minutes that are over up to hours, and hours to days. It does a day's worth
// of hours at most, so it is called until it has nothing more to do, which it reports.
func (s *Store) Roll(ctx context.Context, now time.Time) (more bool, err error) {
	for _, level := range []Level{Hour, Day} {
		again, err := s.rollLevel(ctx, level, now)
		if err != nil {
			return false, fmt.Errorf("rolling windows up: %w", err)
		}
		more = more || again
	}
	return more, nil
}

// atOnce is how many windows of a level are rolled up in one transaction.
const atOnce = 24

func (s *Store) rollLevel(ctx context.Context, level Level, now time.Time) (more bool, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	err = s.db.InOne(ctx, func(tx *sql.Tx) error {
		until, err := rolled(ctx, tx)
		if err != nil {
			return err
		}
		end := level.floor(now.UTC().Add(-settled))
		if level == Day && until[Hour].Before(end) {
			end = level.floor(until[Hour])
		}
		begin := until[level]
		if begin.IsZero() {
			var first sql.NullInt64
			if err := tx.QueryRowContext(ctx, `SELECT min(at) FROM traffic WHERE level = ?`, level-1).
				Scan(&first); err != nil {
				return err
			}
			if !first.Valid {
				return nil
			}
			begin = level.floor(time.Unix(first.Int64, 0).UTC())
		}
		if limit := begin.Add(atOnce * level.Length()); limit.Before(end) {
			end, more = limit, true
		}
		if !begin.Before(end) {
			return nil
		}
		return s.rollSpan(ctx, tx, level, begin, end)
	})
	return more, err
}

// rollSpan rolls everything in [begin, end) up to a level.
func (s *Store) rollSpan(ctx context.Context, tx *sql.Tx, level Level, begin, end time.Time) error {
	w, err := s.newWriter(ctx, tx)
	if err != nil {
		return err
	}
	defer w.close()
	rows, err := tx.QueryContext(
		ctx,
		`SELECT DISTINCT lane, at / ? FROM traffic WHERE level = ? AND at >= ? AND at < ?`,
		int64(level.Length().Seconds()),
		level-1,
		begin.Unix(),
		end.Unix(),
	)
	spans, err := sqlite.Collect(rows, err, func(rows *sql.Rows) (span, error) {
		x := span{level: level}
		err := rows.Scan(&x.lane, &x.at)
		x.at *= int64(level.Length().Seconds())
		return x, err
	})
	if err != nil {
		return err
	}
	for _, x := range spans {
		if err := w.roll(ctx, x); err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO rolled (level, until) VALUES (?, ?)`, level, end.Unix())
	return err
}

// roll makes one window out of those a level below it.
func (w *writer) roll(ctx context.Context, x span) error {
	var k Key
	err := w.tx.QueryRowContext(ctx, `SELECT endpoint, split, lane, version FROM lanes WHERE id = ?`, x.lane).
		Scan(&k.Endpoint, &k.Split, &k.Lane, &k.Version)
	if err != nil {
		return err
	}
	columns, err := w.s.allColumns(ctx, w.tx, k.Endpoint)
	if err != nil {
		return err
	}
	at := time.Unix(x.at, 0).UTC()
	windows, err := readSegment(
		ctx,
		w.tx,
		Query{Latency: true, Backend: true, Content: true},
		segment{x.level - 1, at, at.Add(x.level.Length())},
		lane{x.lane, k},
		columns,
	)
	if err != nil || len(windows) == 0 {
		return err
	}
	sum := &sketch.Summary{}
	for _, win := range windows {
		sum.Merge(win.Summary)
	}
	return w.span(ctx, x, k.Endpoint, sum)
}

// late makes the hours and days anew whose minutes came late, hours first.
func (w *writer) late(ctx context.Context) error {
	for _, level := range []Level{Hour, Day} {
		for x := range w.stale {
			if x.level == level {
				if err := w.roll(ctx, x); err != nil {
					return fmt.Errorf("rolling up a late window: %w", err)
				}
			}
		}
	}
	return nil
}

// Ages say how old what is kept may be.
type Ages struct{ Minutes, Hours, Days, Readings time.Duration }

// forgotten says before when each level is not kept any more. Only whole windows of the level above go, and only when
// those are there, so that what is left of one is never taken for all of it.
func forgotten(until [3]time.Time, now time.Time, ages Ages) (before [3]time.Time) {
	for level, age := range []time.Duration{ages.Minutes, ages.Hours, ages.Days} {
		before[level] = now.Add(-age)
		if above := Level(level) + 1; above <= Day {
			before[level] = above.floor(before[level].UTC())
			if until[above].Before(before[level]) {
				before[level] = until[above]
			}
		}
	}
	return before
}

// Forget removes what is older than it is kept for. What has not been rolled up yet stays.
func (s *Store) Forget(ctx context.Context, now time.Time, ages Ages) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.lanes)
	return s.db.InOne(ctx, func(tx *sql.Tx) error {
		until, err := rolled(ctx, tx)
		if err != nil {
			return err
		}
		for level, before := range forgotten(until, now, ages) {
			for _, table := range []string{"summaries", "traffic", "refusals", "calls"} {
				if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE level = ? AND at < ?`, level,
					before.Unix()); err != nil {
					return err
				}
			}
		}
		for _, f := range []struct {
			statement string
			before    int64
		}{
			{`DELETE FROM agents WHERE heard_at < ?`, now.Add(-ages.Days).UnixMilli()},
			{`DELETE FROM readings WHERE at < ?`, now.Add(-ages.Readings).UnixMilli()},
			{`DELETE FROM outcomes WHERE at < ?`, now.Add(-ages.Hours).UnixMilli()},
			{`DELETE FROM outcome_hours WHERE at < ?`, now.Add(-ages.Days).Unix()},
			{`DELETE FROM custom WHERE at < ?`, now.Add(-ages.Hours).UnixMilli()},
			{`DELETE FROM custom_hours WHERE at < ?`, now.Add(-ages.Days).Unix()},
		} {
			if _, err := tx.ExecContext(ctx, f.statement, f.before); err != nil {
				return err
			}
		}
		_, err = tx.ExecContext(
			ctx,
			`DELETE FROM lanes WHERE NOT EXISTS (SELECT 1 FROM traffic WHERE traffic.lane = lanes.id)`,
		)
		return err
	})
}

// ForgetTrials removes the evidence of all trials of an endpoint but those that go on.
func (s *Store) ForgetTrials(ctx context.Context, endpoint string, begun []int) error {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT DISTINCT begun FROM evidence WHERE endpoint = ?`, endpoint)
	there, err := sqlite.Collect(rows, err, func(rows *sql.Rows) (n int, err error) { return n, rows.Scan(&n) })
	if err != nil {
		return err
	}
	for _, n := range there {
		goes := true
		for _, b := range begun {
			goes = goes && b != n
		}
		if goes {
			_, err := s.db.Write.ExecContext(
				ctx,
				`DELETE FROM evidence WHERE endpoint = ? AND begun = ?`,
				endpoint,
				n,
			)
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// Damaged reports whether an error means that the file itself is broken, so that opening
// it again will not help.
func Damaged(err error) bool {
	if errors.Is(err, errDamaged) {
		return true
	}
	var coded interface{ Code() int }
	if !errors.As(err, &coded) {
		return false
	}
	const corrupt, noDatabase = 11, 26 // SQLITE_CORRUPT, SQLITE_NOTADB
	return coded.Code()&0xff == corrupt || coded.Code()&0xff == noDatabase
}
