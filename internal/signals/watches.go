package signals

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"innerladder/internal/core/watch"
)

// Watches returns where the watches of an endpoint stand, ErrNone when they never began.
func (s *Store) Watches(ctx context.Context, endpoint string) (watch.Watched, error) {
	var raw string
	var w watch.Watched
	err := s.db.Read.QueryRowContext(ctx, `SELECT state FROM watches WHERE endpoint = ?`, endpoint).Scan(&raw)
	if errors.Is(err, sql.ErrNoRows) {
		return w, ErrNone
	}
	if err != nil {
		return w, err
	}
	return w, json.Unmarshal([]byte(raw), &w)
}

// PutWatches keeps where the watches of an endpoint stand.
func (s *Store) PutWatches(ctx context.Context, endpoint string, w watch.Watched) error {
	raw, err := json.Marshal(w)
	if err != nil {
		return err
	}
	_, err = s.db.Write.ExecContext(ctx, `INSERT INTO watches (endpoint, state) VALUES (?, ?)
		ON CONFLICT DO UPDATE SET state = excluded.state`, endpoint, string(raw))
	return err
}
