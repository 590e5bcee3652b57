package signals

import (
	"context"
	"database/sql"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/sqlite"
)

// Called is what callers asked of an endpoint in a window that begins at a moment, by name.
type Called struct {
	Endpoint string
	At       time.Time
	Calls    map[string]request.Calls
}

// putCalled adds to what is known of a minute, and to its hour and its day.
func putCalled(ctx context.Context, tx *sql.Tx, c Called) error {
	for name, n := range c.Calls {
		for level := Minute; level <= Day; level++ {
			if _, err := tx.ExecContext(ctx, `INSERT INTO calls (endpoint, level, at, name, requests, failed, wrong)
				VALUES (?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT DO UPDATE SET requests = requests + excluded.requests, failed = failed + excluded.failed,
					wrong = wrong + excluded.wrong`, c.Endpoint, level, level.floor(c.At).Unix(), name, n.Requests,
				n.Failed, n.Wrong); err != nil {
				return err
			}
		}
	}
	return nil
}

// Calls lists what callers asked of an endpoint in windows of a level that begin in [from, to), in the order of time.
func (s *Store) Calls(ctx context.Context, endpoint string, level Level, from, to time.Time) (out []Called, err error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT at, name, requests, failed, wrong FROM calls
		WHERE endpoint = ? AND level = ? AND at >= ? AND at < ? ORDER BY at`, endpoint, level, from.Unix(), to.Unix())
	_, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (none struct{}, err error) {
		var at int64
		var name string
		var n request.Calls
		if err := rows.Scan(&at, &name, &n.Requests, &n.Failed, &n.Wrong); err != nil {
			return none, err
		}
		moment := time.Unix(at, 0).UTC()
		if len(out) == 0 || !out[len(out)-1].At.Equal(moment) {
			out = append(out, Called{Endpoint: endpoint, At: moment, Calls: map[string]request.Calls{}})
		}
		out[len(out)-1].Calls[name] = n
		return none, nil
	})
	return out, err
}

// LastCalls says in which minute each caller of an endpoint called last, of minutes that begin in [from, to).
func (s *Store) LastCalls(ctx context.Context, endpoint string, from, to time.Time) (map[string]time.Time, error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT name, max(at) FROM calls
		WHERE endpoint = ? AND level = ? AND at >= ? AND at < ? GROUP BY name`, endpoint, Minute, from.Unix(),
		to.Unix())
	out := map[string]time.Time{}
	_, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (none struct{}, err error) {
		var name string
		var at int64
		err = rows.Scan(&name, &at)
		out[name] = time.Unix(at, 0).UTC()
		return none, err
	})
	return out, err
}
