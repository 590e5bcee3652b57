package signals

import (
	"context"
	"database/sql"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/sqlite"
)

// Refused is how many requests were turned away at an endpoint in a window that begins at a moment. The empty
// endpoint stands for requests that found none.
type Refused struct {
	Endpoint string
	At       time.Time
	request.Refusals
}

// putRefused adds to what is known of a minute, and to its hour and its day.
func putRefused(ctx context.Context, tx *sql.Tx, r Refused) error {
	for why, n := range r.Refusals {
		if n == 0 {
			continue
		}
		for level := Minute; level <= Day; level++ {
			if _, err := tx.ExecContext(ctx, `INSERT INTO refusals (endpoint, level, at, reason, n)
				VALUES (?, ?, ?, ?, ?)
				ON CONFLICT DO UPDATE SET n = n + excluded.n`, r.Endpoint, level, level.floor(r.At).Unix(),
				request.Reason(why).Code(), n); err != nil {
				return err
			}
		}
	}
	return nil
}

// Refused lists what was turned away at an endpoint in windows of a level that begin in [from, to), in the order of
// time.
func (s *Store) Refused(ctx context.Context, endpoint string, level Level, from, to time.Time) ([]Refused, error) {
	rows, err := s.db.Read.QueryContext(ctx, `SELECT at, reason, n FROM refusals
		WHERE endpoint = ? AND level = ? AND at >= ? AND at < ? ORDER BY at`, endpoint, level, from.Unix(), to.Unix())
	var out []Refused
	_, err = sqlite.Collect(rows, err, func(rows *sql.Rows) (none struct{}, err error) {
		var at int64
		var code string
		var n uint64
		if err := rows.Scan(&at, &code, &n); err != nil {
			return none, err
		}
		why, known := request.ReasonOf(code)
		if !known {
			return none, nil // of a later version of the service
		}
		moment := time.Unix(at, 0).UTC()
		if len(out) == 0 || !out[len(out)-1].At.Equal(moment) {
			out = append(out, Refused{Endpoint: endpoint, At: moment})
		}
		out[len(out)-1].Refusals[why] += n
		return none, nil
	})
	return out, err
}
