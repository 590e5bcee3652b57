package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"innerladder/internal/core/incident"
)

// AddIncident adds an incident and gives it the next number, which is set in i.
func (r View) AddIncident(ctx context.Context, i *incident.Incident) error {
	var number int64
	err := r.q.row(ctx, `INSERT INTO incidents (endpoint_id, candidate_id, incumbent_id, rollout, alert, signal, author,
		why, left_split, for_split, begun_at, at, state)
		VALUES ((SELECT id FROM endpoints WHERE name = ?), ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'open') RETURNING number`,
		i.Endpoint, versionOf(i.Candidate), versionOf(i.Incumbent), i.Rollout, i.Alert, i.Signal, i.By, i.Why, i.Left,
		i.For, toMillis(i.Begun), toMillis(i.At)).
		Scan(&number)
	i.ID, i.State = incident.ID(number), "open"
	return one(err)
}

func (r View) incidents(ctx context.Context, whole bool, clause string, args ...any) ([]incident.Incident, error) {
	report := write("NULL") // a report is long, and lists do not show it
	if whole {
		report = write("i.report")
	}
	rows, err := r.q.rows(ctx, `SELECT i.number, m.project, e.name, m.name || '@' || c.number,
		m.name || '@' || n.number, i.rollout, i.alert, i.signal, i.author, i.why, i.left_split, i.for_split,
		i.begun_at, i.at, ?, i.state, i.cause, i.closed_by, i.closed_at
		FROM incidents i JOIN endpoints e ON e.id = i.endpoint_id JOIN models m ON m.id = e.model_id
		JOIN versions c ON c.id = i.candidate_id JOIN versions n ON n.id = i.incumbent_id
		WHERE ? AND ?`, report, r.sees("m.project"), write(clause, args...))
	out, err := collect(rows, err, func(rows *sql.Rows) (incident.Incident, error) {
		i := incident.Incident{Notes: []incident.Note{}, FollowUps: []incident.FollowUp{}}
		var number, begun, at int64
		var report sql.NullString
		var closed sql.NullInt64
		if err := rows.Scan(&number, &i.Project, &i.Endpoint, &i.Candidate, &i.Incumbent, &i.Rollout, &i.Alert,
			&i.Signal, &i.By, &i.Why, &i.Left, &i.For, &begun, &at, &report, &i.State, &i.Cause, &i.ClosedBy,
			&closed); err != nil {
			return i, err
		}
		i.ID, i.Begun, i.At, i.ClosedAt = incident.ID(number), fromMillis(begun), fromMillis(at), optionalTime(closed)
		if report.Valid {
			return i, json.Unmarshal([]byte(report.String), &i.Report)
		}
		return i, nil
	})
	if err != nil {
		return nil, err
	}
	for k := range out {
		if err := r.addIncidentTalk(ctx, &out[k]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// addIncidentTalk reads what people wrote about an incident.
func (r View) addIncidentTalk(ctx context.Context, i *incident.Incident) error {
	number, err := incident.ParseID("incident", i.ID)
	if err != nil {
		return err
	}
	err = r.each(ctx, write(`SELECT made_at, author, text FROM incident_notes WHERE incident = ?
		ORDER BY number`, number), func(rows *sql.Rows) error {
		var n incident.Note
		var at int64
		err := rows.Scan(&at, &n.By, &n.Text)
		n.At = fromMillis(at)
		i.Notes = append(i.Notes, n)
		return err
	})
	if err != nil {
		return err
	}
	return r.each(ctx, write(`SELECT number, text, who, due, author, made_at, done_by, done_at FROM follow_ups
		WHERE incident = ? ORDER BY number`, number), func(rows *sql.Rows) error {
		var f incident.FollowUp
		var made int64
		var done sql.NullInt64
		err := rows.Scan(&f.Number, &f.Text, &f.Who, &f.Due, &f.MadeBy, &made, &f.DoneBy, &done)
		f.MadeAt, f.DoneAt = fromMillis(made), optionalTime(done)
		i.FollowUps = append(i.FollowUps, f)
		return err
	})
}

// Incident finds an incident by number, with its report.
func (r View) Incident(ctx context.Context, number int64) (*incident.Incident, error) {
	return single(r.incidents(ctx, true, `i.number = ?`, number))
}

// IncidentAt is the incident of an endpoint whose way back is a split; empty when there is none.
func (r View) IncidentAt(ctx context.Context, endpoint string, split int) (id string, err error) {
	return r.incidentID(ctx, `e.name = ? AND i.for_split = ?`, endpoint, split)
}

// IncidentOf is the incident by which a rollout ended; empty when there is none.
func (r View) IncidentOf(ctx context.Context, rollout string) (id string, err error) {
	return r.incidentID(ctx, `i.rollout = ?`, rollout)
}

func (r View) incidentID(ctx context.Context, clause string, args ...any) (id string, err error) {
	err = r.each(ctx, write(`SELECT i.number FROM incidents i JOIN endpoints e ON e.id = i.endpoint_id
		JOIN models m ON m.id = e.model_id WHERE ? AND ? ORDER BY i.number DESC LIMIT 1`, r.sees("m.project"),
		write(clause, args...)), func(rows *sql.Rows) error {
		var number int64
		err := rows.Scan(&number)
		id = incident.ID(number)
		return err
	})
	return id, err
}

// UnwrittenIncidents lists the incidents whose report is still to be written.
func (r View) UnwrittenIncidents(ctx context.Context) ([]incident.Incident, error) {
	return r.incidents(ctx, false, `i.report IS NULL ORDER BY i.number`)
}

// Incidents lists incidents without their reports, newest first; of an endpoint, a version, or a state, when that
// is asked for.
func (r View) Incidents(ctx context.Context, endpoint, version, state string,
	p Page,
) ([]incident.Incident, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.incidents(ctx, false, `i.number < ? AND ? AND ? AND ? ORDER BY i.number DESC LIMIT ?`, before,
		orAll(endpoint != "", `e.name = ?`, endpoint),
		orAll(version != "", `? IN (i.candidate_id, i.incumbent_id)`, versionOf(version)),
		orAll(state != "", `i.state = ?`, state), p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(i incident.Incident) string { return strings.TrimPrefix(i.ID, "I-") })
	return items, next, nil
}

// WriteIncident writes the report about an incident, once.
func (r View) WriteIncident(ctx context.Context, number int64, report incident.Report) error {
	text, err := json.Marshal(report)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE incidents SET report = ? WHERE number = ? AND report IS NULL`, string(text), number)
	return err
}

// SetIncident stores what people decided about an incident: its cause and its state.
func (r View) SetIncident(ctx context.Context, number int64, i *incident.Incident) error {
	_, err := r.q.exec(ctx, `UPDATE incidents SET cause = ?, state = ?, closed_by = ?, closed_at = ? WHERE number = ?`,
		i.Cause, i.State, i.ClosedBy, millisOrNull(i.ClosedAt), number)
	return err
}

// AddIncidentNote adds what somebody wrote about an incident.
func (r View) AddIncidentNote(ctx context.Context, number int64, n incident.Note) error {
	_, err := r.q.exec(ctx, `INSERT INTO incident_notes (incident, number, made_at, author, text)
		SELECT ?, 1 + (SELECT count(*) FROM incident_notes WHERE incident = ?), ?, ?, ?`, number, number,
		toMillis(n.At), n.By, n.Text)
	return err
}

// AddFollowUp adds something to do about an incident.
func (r View) AddFollowUp(ctx context.Context, number int64, f incident.FollowUp) error {
	_, err := r.q.exec(ctx, `INSERT INTO follow_ups (incident, number, text, who, due, author, made_at)
		SELECT ?, 1 + (SELECT count(*) FROM follow_ups WHERE incident = ?), ?, ?, ?, ?, ?`, number, number, f.Text,
		f.Who, f.Due, f.MadeBy, toMillis(f.MadeAt))
	return err
}

// DoFollowUp says that something was done about an incident.
func (r View) DoFollowUp(ctx context.Context, number int64, which int, by string, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE follow_ups SET done_by = ?, done_at = ? WHERE incident = ? AND number = ?`, by,
		toMillis(now), number, which)
	return err
}
