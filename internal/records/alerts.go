package records

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"innerladder/internal/core/incident"
	"innerladder/internal/core/watch"
)

// AddAlert adds an open alert and gives it the next number, which is set in a.
func (r View) AddAlert(ctx context.Context, a *watch.Alert) error {
	var number int
	err := r.q.row(ctx,
		`INSERT INTO alerts (kind, endpoint, subject, signal, sentence, state, raised_at)
			VALUES (?, ?, ?, ?, ?, 'open', ?) RETURNING number`,
		a.Kind, a.Endpoint, a.Subject, a.Signal, a.Sentence, toMillis(a.RaisedAt)).Scan(&number)
	a.ID, a.State = watch.ID(number), "open"
	return err
}

func (r View) alerts(ctx context.Context, clause string, args ...any) ([]watch.Alert, error) {
	// Who sees everything sees what is about the service itself too.
	rows, err := r.q.rows(ctx, `SELECT a.number, a.kind, coalesce(m.project, ''), a.endpoint, a.subject, a.signal,
		a.sentence, a.state, a.raised_at, a.handled_by, a.handled_at, a.note,
		coalesce((SELECT max(i.number) FROM incidents i WHERE i.alert = 'A-' || a.number), 0),
		coalesce(e.watches ->> 'owner', ''), coalesce(e.watches ->> 'runbook', '')
		FROM alerts a LEFT JOIN endpoints e ON e.name = a.endpoint LEFT JOIN models m ON m.id = e.model_id
		WHERE ? AND ?`,
		r.sees("m.project"), write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (watch.Alert, error) {
		var a watch.Alert
		var number int
		var raised int64
		var handled sql.NullInt64
		var incidentNumber int64
		err := rows.Scan(&number, &a.Kind, &a.Project, &a.Endpoint, &a.Subject, &a.Signal, &a.Sentence, &a.State,
			&raised, &a.HandledBy, &handled, &a.Note, &incidentNumber,
			&a.Owner, &a.Runbook)
		if incidentNumber > 0 {
			a.Incident = incident.ID(incidentNumber)
		}
		a.ID, a.RaisedAt, a.HandledAt = watch.ID(number), fromMillis(raised), optionalTime(handled)
		return a, err
	})
}

// Alert finds an alert by number.
func (r View) Alert(ctx context.Context, number int) (*watch.Alert, error) {
	return single(r.alerts(ctx, `a.number = ?`, number))
}

// Alerts lists alerts, newest first; state and endpoint narrow it down when given.
func (r View) Alerts(ctx context.Context, state, endpoint string, p Page) ([]watch.Alert, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.alerts(ctx, `a.number < ? AND (? = '' OR a.state = ? OR ? = 'unresolved' AND a.state <> 'resolved')
		AND (? = '' OR a.endpoint = ?)
		ORDER BY a.number DESC LIMIT ?`, before, state, state, state,
		endpoint, endpoint, p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(a watch.Alert) string { return strings.TrimPrefix(a.ID, "A-") })
	return items, next, nil
}

// UnresolvedAlerts lists the alerts of a kind about a subject that nobody has resolved.
func (r View) UnresolvedAlerts(ctx context.Context, kind watch.AlertKind, subject string) ([]watch.Alert, error) {
	return r.alerts(ctx, `a.kind = ? AND a.subject = ? AND a.state <> 'resolved' ORDER BY a.number`, kind, subject)
}

// SetAlert sets the state of an alert, by whom and why.
func (r View) SetAlert(ctx context.Context, number int, state, by, note string, now time.Time) error {
	_, err := r.q.exec(ctx,
		`UPDATE alerts SET state = ?, handled_by = ?, handled_at = ?, note = ? WHERE number = ?`, state, by,
		toMillis(now), note, number)
	return err
}
