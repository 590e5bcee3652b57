package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"innerladder/internal/core/rollout"
)

// AddRollout adds a rollout and gives it the next number, which is set in o.
func (r View) AddRollout(ctx context.Context, o *rollout.Rollout) error {
	plan, err := json.Marshal(o.Plan)
	if err != nil {
		return err
	}
	state, err := json.Marshal(o.State)
	if err != nil {
		return err
	}
	var number int64
	err = r.q.row(ctx, `INSERT INTO rollouts (endpoint_id, incumbent_id, candidate_id, plan, reason, author, asked_at,
		starts_at, phase, state)
		VALUES ((SELECT id FROM endpoints WHERE name = ?), ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING number`,
		o.Endpoint, versionOf(o.Incumbent), versionOf(o.Candidate), string(plan), o.Reason, o.By, toMillis(o.AskedAt),
		millisOrNull(o.StartsAt), o.Phase, string(state)).Scan(&number)
	o.ID = rollout.ID(number)
	return one(err)
}

// millisOrNull is a time as it is stored, NULL for none.
func millisOrNull(t *time.Time) any {
	if t == nil {
		return nil
	}
	return toMillis(*t)
}

// SetRollout stores where a rollout stands.
func (r View) SetRollout(ctx context.Context, o *rollout.Rollout) error {
	state, err := json.Marshal(o.State)
	if err != nil {
		return err
	}
	number, err := rollout.ParseID("rollout", o.ID)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE rollouts SET phase = ?, state = ?, ended_at = ? WHERE number = ?`, o.Phase,
		string(state), millisOrNull(o.EndedAt), number)
	return err
}

func (r View) rollouts(ctx context.Context, clause string, args ...any) ([]rollout.Rollout, error) {
	rows, err := r.q.rows(ctx, `SELECT o.number, m.project, e.name, m.name || '@' || i.number,
		m.name || '@' || c.number, o.plan, o.reason, o.author, o.asked_at, o.starts_at, o.state, o.ended_at
		FROM rollouts o JOIN endpoints e ON e.id = o.endpoint_id JOIN models m ON m.id = e.model_id
		JOIN versions i ON i.id = o.incumbent_id JOIN versions c ON c.id = o.candidate_id
		WHERE ? AND ?`, r.sees("m.project"), write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (rollout.Rollout, error) {
		var o rollout.Rollout
		var number, asked int64
		var starts, ended sql.NullInt64
		var plan, state string
		if err := rows.Scan(&number, &o.Project, &o.Endpoint, &o.Incumbent, &o.Candidate, &plan, &o.Reason, &o.By,
			&asked, &starts, &state, &ended); err != nil {
			return o, err
		}
		o.ID, o.AskedAt, o.StartsAt, o.EndedAt = rollout.ID(number), fromMillis(asked), optionalTime(starts),
			optionalTime(ended)
		if err := json.Unmarshal([]byte(plan), &o.Plan); err != nil {
			return o, err
		}
		return o, json.Unmarshal([]byte(state), &o.State)
	})
}

// Rollout finds a rollout by number.
func (r View) Rollout(ctx context.Context, number int64) (*rollout.Rollout, error) {
	return single(r.rollouts(ctx, `o.number = ?`, number))
}

// RolloutOf finds the rollout that moves an endpoint now.
func (r View) RolloutOf(ctx context.Context, endpoint string) (*rollout.Rollout, error) {
	return single(r.rollouts(ctx, `e.name = ? AND o.ended_at IS NULL`, endpoint))
}

// OpenRollouts lists the rollouts that are not over.
func (r View) OpenRollouts(ctx context.Context) ([]rollout.Rollout, error) {
	return r.rollouts(ctx, `o.ended_at IS NULL ORDER BY o.number`)
}

// Rollouts lists rollouts, newest first; of an endpoint, a candidate, or only those that are not over, when
// that is asked for.
func (r View) Rollouts(ctx context.Context, endpoint, candidate string, open bool,
	p Page,
) ([]rollout.Rollout, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.rollouts(ctx, `o.number < ? AND ? AND ? AND ? ORDER BY o.number DESC LIMIT ?`, before,
		orAll(endpoint != "", `e.name = ?`, endpoint),
		orAll(candidate != "", `o.candidate_id = ?`, versionOf(candidate)), orAll(open, `o.ended_at IS NULL`),
		p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(o rollout.Rollout) string { return strings.TrimPrefix(o.ID, "R-") })
	return items, next, nil
}

// AddDecision adds a line to the decision log of a rollout, whose number is set in d.
func (r View) AddDecision(ctx context.Context, id string, d *rollout.Decision) error {
	number, err := rollout.ParseID("rollout", id)
	if err != nil {
		return err
	}
	if err := r.q.row(ctx, `SELECT 1 + coalesce(max(number), 0) FROM decisions WHERE rollout = ?`,
		number).Scan(&d.Number); err != nil {
		return err
	}
	text, err := json.Marshal(d)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO decisions (rollout, number, made_at, decision) VALUES (?, ?, ?, ?)`, number,
		d.Number, toMillis(d.At), string(text))
	return err
}

// Decisions is the decision log of a rollout, oldest first.
func (r View) Decisions(ctx context.Context, id string) ([]rollout.Decision, error) {
	number, err := rollout.ParseID("rollout", id)
	if err != nil {
		return nil, err
	}
	rows, err := r.q.rows(ctx, `SELECT decision FROM decisions WHERE rollout = ? ORDER BY number`, number)
	return collect(rows, err, func(rows *sql.Rows) (rollout.Decision, error) {
		var d rollout.Decision
		var text string
		if err := rows.Scan(&text); err != nil {
			return d, err
		}
		return d, json.Unmarshal([]byte(text), &d)
	})
}

// StoredPlan is a numbered revision of a plan, as it was written.
type StoredPlan struct {
	Project string
	Plan    rollout.Plan
	Text    string
	Reason  string
	Author  string
	MadeAt  time.Time
}

// AddPlan adds the next revision of a plan, whose number is set in p.
func (r View) AddPlan(ctx context.Context, p *StoredPlan) error {
	if err := r.q.row(ctx, `SELECT 1 + coalesce(max(revision), 0) FROM plans WHERE project = ? AND name = ?`, p.Project,
		p.Plan.Name).Scan(&p.Plan.Revision); err != nil {
		return err
	}
	plan, err := json.Marshal(p.Plan)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO plans (project, name, revision, text, plan, reason, author, made_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, p.Project, p.Plan.Name, p.Plan.Revision, p.Text, string(plan), p.Reason,
		p.Author, toMillis(p.MadeAt))
	return err
}

func (r View) plans(ctx context.Context, clause string, args ...any) ([]StoredPlan, error) {
	rows, err := r.q.rows(ctx, `SELECT p.project, p.text, p.plan, p.reason, p.author, p.made_at FROM plans p
		WHERE ? AND ?`, r.sees("p.project"), write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (StoredPlan, error) {
		var p StoredPlan
		var plan string
		var at int64
		if err := rows.Scan(&p.Project, &p.Text, &plan, &p.Reason, &p.Author, &at); err != nil {
			return p, err
		}
		p.MadeAt = fromMillis(at)
		return p, json.Unmarshal([]byte(plan), &p.Plan)
	})
}

// Plans lists the newest revision of every plan.
func (r View) Plans(ctx context.Context) ([]StoredPlan, error) {
	return r.plans(ctx, `p.revision = (SELECT max(n.revision) FROM plans n
		WHERE n.project = p.project AND n.name = p.name) ORDER BY p.name, p.project`)
}

// Plan finds a plan of a project by name, its newest revision for 0.
func (r View) Plan(ctx context.Context, project, name string, revision int) (*StoredPlan, error) {
	return single(r.plans(ctx, `p.project = ? AND p.name = ? AND (p.revision = ? OR ? = 0)
		ORDER BY p.revision DESC LIMIT 1`, project, name, revision, revision))
}
