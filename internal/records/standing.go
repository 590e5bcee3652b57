package records

import (
	"context"
	"database/sql"
	"encoding/json"

	"innerladder/internal/core/job"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/standing"
)

// PutStanding keeps what new versions of a model are evaluated on, and gives it the next number, which is set in e.
func (r View) PutStanding(ctx context.Context, e *standing.Standing) error {
	err := r.q.row(ctx, `INSERT INTO standing (model, project, number, body) VALUES (?, ?, 1, NULL)
		ON CONFLICT (model) DO UPDATE SET project = excluded.project, number = number + 1 RETURNING number`, e.Model,
		e.Project).Scan(&e.Number)
	if err != nil {
		return err
	}
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE standing SET body = ? WHERE model = ?`, string(body), e.Model)
	return err
}

// RemoveStanding has new versions of a model evaluated on nothing.
func (r View) RemoveStanding(ctx context.Context, model string) error {
	_, err := r.q.exec(ctx, `UPDATE standing SET body = NULL WHERE model = ?`, model)
	return err
}

func (r View) standing(ctx context.Context, clause string, args ...any) ([]standing.Standing, error) {
	rows, err := r.q.rows(ctx, `SELECT s.body FROM standing s WHERE s.body IS NOT NULL AND ? AND ?`,
		r.sees("s.project"), write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (standing.Standing, error) {
		var e standing.Standing
		var body string
		if err := rows.Scan(&body); err != nil {
			return e, err
		}
		return e, json.Unmarshal([]byte(body), &e)
	})
}

// Standing finds what new versions of a model are evaluated on.
func (r View) Standing(ctx context.Context, model string) (*standing.Standing, error) {
	return single(r.standing(ctx, `s.model = ?`, model))
}

// AllStanding lists what new versions are evaluated on, of the models of a project, or of all.
func (r View) AllStanding(ctx context.Context, project string) ([]standing.Standing, error) {
	return r.standing(ctx, `(? = '' OR s.project = ?) ORDER BY s.model`, project, project)
}

// mostStanding is how many versions are looked at for a standing evaluation, the newest.
const mostStanding = 50

// WithoutStanding lists the versions that a standing evaluation is for and that no job was begun for, oldest first.
func (r View) WithoutStanding(ctx context.Context, e *standing.Standing) ([]string, error) {
	rows, err := r.q.rows(ctx, `SELECT v.number FROM versions v JOIN models m ON m.id = v.model_id
		WHERE m.name = ? AND v.number > ? AND v.deleted_at IS NULL AND v.rung <> 'retired' AND NOT EXISTS (
			SELECT 1 FROM jobs j WHERE j.about = m.name || '@' || v.number
			AND j.body ->> '$.evaluating.standing' = ?) ORDER BY v.number DESC LIMIT ?`, e.Model, e.After, e.ID(),
		mostStanding)
	return collect(rows, err, func(rows *sql.Rows) (string, error) {
		var n int
		err := rows.Scan(&n)
		return registry.Ref{Model: e.Model, Number: n}.String(), err
	})
}

// StandingJobs lists the jobs of a standing evaluation, newest first.
func (r View) StandingJobs(ctx context.Context, e *standing.Standing) ([]job.Job, error) {
	return r.jobs(ctx, `j.kind = 'evaluate' AND j.body ->> '$.evaluating.standing' = ? ORDER BY j.number DESC LIMIT ?`,
		e.ID(), mostStanding)
}
