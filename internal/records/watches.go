package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/watch"
)

// SetWatches keeps what people say about the watching of an endpoint.
func (r View) SetWatches(ctx context.Context, endpoint string, set watch.Set) error {
	raw, err := json.Marshal(set)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE endpoints SET watches = ? WHERE name = ?`, string(raw), endpoint)
	return err
}

// SetCustom keeps which signals of its own an endpoint has.
func (r View) SetCustom(ctx context.Context, endpoint string, signals []custom.Signal) error {
	raw, err := json.Marshal(append([]custom.Signal{}, signals...))
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE endpoints SET custom = ? WHERE name = ?`, string(raw), endpoint)
	return err
}

// Mutes lists what is muted of an endpoint at a moment, by subject.
func (r View) Mutes(ctx context.Context, endpoint string, at time.Time) ([]watch.Mute, error) {
	rows, err := r.q.rows(ctx, `SELECT m.subject, m.muted_by, m.muted_at, m.until, m.reason FROM mutes m
		JOIN endpoints e ON e.id = m.endpoint_id WHERE e.name = ? AND m.until > ? ORDER BY m.subject`,
		endpoint, toMillis(at))
	return collect(rows, err, func(rows *sql.Rows) (watch.Mute, error) {
		var m watch.Mute
		var from, until int64
		err := rows.Scan(&m.Subject, &m.By, &from, &until, &m.Reason)
		m.At, m.Until = fromMillis(from), fromMillis(until)
		return m, err
	})
}

// PutMute mutes a subject of an endpoint, in place of how it was muted before.
func (r View) PutMute(ctx context.Context, endpoint string, m watch.Mute) error {
	_, err := r.q.exec(ctx, `INSERT INTO mutes (endpoint_id, subject, muted_by, muted_at, until, reason)
		SELECT id, ?, ?, ?, ?, ? FROM endpoints WHERE name = ?
		ON CONFLICT (endpoint_id, subject) DO UPDATE SET muted_by = excluded.muted_by, muted_at = excluded.muted_at,
			until = excluded.until, reason = excluded.reason`,
		m.Subject, m.By, toMillis(m.At), toMillis(m.Until), m.Reason, endpoint)
	return err
}

// EndMute ends the muting of a subject.
func (r View) EndMute(ctx context.Context, endpoint, subject string) error {
	_, err := r.q.exec(ctx, `DELETE FROM mutes WHERE subject = ?
		AND endpoint_id = (SELECT id FROM endpoints WHERE name = ?)`, subject, endpoint)
	return err
}
