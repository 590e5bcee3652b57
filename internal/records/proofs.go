package records

import (
	"context"
	"database/sql"
	"encoding/json"

	"innerladder/internal/core/check"
	"innerladder/internal/core/job"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/standing"
)

// What every version of a model is put to.
const (
	proofStanding = "standing"
	proofCases    = "cases"
)

// putProof keeps what versions of a model are put to, and gives it the next number, which is set in number, a part of
// what is kept.
func (r View) putProof(ctx context.Context, what, model string, number *int, kept any) error {
	err := r.q.row(ctx, `INSERT INTO model_proofs (model_id, what, number, body)
		SELECT id, ?, 1, NULL FROM models WHERE name = ?
		ON CONFLICT (model_id, what) DO UPDATE SET number = number + 1 RETURNING number`, what, model).Scan(number)
	if err != nil {
		return one(err)
	}
	body, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE model_proofs SET body = ? WHERE what = ? AND
		model_id = (SELECT id FROM models WHERE name = ?)`, string(body), what, model)
	return err
}

// removeProof takes away what versions of a model are put to.
func (r View) removeProof(ctx context.Context, what, model string) error {
	_, err := r.q.exec(ctx, `UPDATE model_proofs SET body = NULL WHERE what = ? AND
		model_id = (SELECT id FROM models WHERE name = ?)`, what, model)
	return err
}

// proofs lists what versions are put to, of a model, of the models of a project, or of all. of gives where the model
// and its project stand in what is kept: both may be others by now.
func proofs[T any](ctx context.Context, r View, what, model, project string, of func(*T) (model, project *string),
) ([]T, error) {
	rows, err := r.q.rows(ctx, `SELECT s.body, m.name, m.project FROM model_proofs s JOIN models m ON m.id = s.model_id
		WHERE s.body IS NOT NULL AND s.what = ? AND ? AND (? = '' OR m.name = ?) AND (? = '' OR m.project = ?)
		ORDER BY m.name`, what, r.sees("m.project"), model, model, project, project)
	return collect(rows, err, func(rows *sql.Rows) (kept T, err error) {
		var body, name, in string
		if err := rows.Scan(&body, &name, &in); err != nil {
			return kept, err
		}
		err = json.Unmarshal([]byte(body), &kept)
		atModel, atProject := of(&kept)
		*atModel, *atProject = name, in
		return kept, err
	})
}

func standingOf(e *standing.Standing) (model, project *string) { return &e.Model, &e.Project }

func casesOf(k *check.Kept) (model, project *string) { return &k.Model, &k.Project }

// PutStanding keeps what new versions of a model are evaluated on, and gives it the next number, which is set in e.
func (r View) PutStanding(ctx context.Context, e *standing.Standing) error {
	return r.putProof(ctx, proofStanding, e.Model, &e.Number, e)
}

// RemoveStanding has new versions of a model evaluated on nothing.
func (r View) RemoveStanding(ctx context.Context, model string) error {
	return r.removeProof(ctx, proofStanding, model)
}

// Standing finds what new versions of a model are evaluated on.
func (r View) Standing(ctx context.Context, model string) (*standing.Standing, error) {
	return single(proofs(ctx, r, proofStanding, model, "", standingOf))
}

// AllStanding lists what new versions are evaluated on, of the models of a project, or of all.
func (r View) AllStanding(ctx context.Context, project string) ([]standing.Standing, error) {
	return proofs(ctx, r, proofStanding, "", project, standingOf)
}

// PutCases keeps the cases of a model, and gives them the next number, which is set in k.
func (r View) PutCases(ctx context.Context, k *check.Kept) error {
	return r.putProof(ctx, proofCases, k.Model, &k.Number, k)
}

// RemoveCases takes the cases of a model away.
func (r View) RemoveCases(ctx context.Context, model string) error {
	return r.removeProof(ctx, proofCases, model)
}

// Cases finds the cases of a model.
func (r View) Cases(ctx context.Context, model string) (*check.Kept, error) {
	return single(proofs(ctx, r, proofCases, model, "", casesOf))
}

// AllCases lists the cases of the models of a project, or of all.
func (r View) AllCases(ctx context.Context, project string) ([]check.Kept, error) {
	return proofs(ctx, r, proofCases, "", project, casesOf)
}

// CheckedBefore reports whether a job has checked a version by cases in an environment.
func (r View) CheckedBefore(ctx context.Context, version, environment string, k *check.Kept) (bool, error) {
	var n int
	err := r.q.row(ctx, `SELECT count(*) FROM jobs j WHERE j.about = ? AND j.kind = 'check'
		AND j.body ->> '$.checking.cases' = ? AND coalesce(j.body ->> '$.scoring.environment', '') = ?`, version,
		k.ID(), environment).Scan(&n)
	return n > 0, err
}

// RobustnessBefore reports whether a job has tested the robustness of a version in an environment beside an incumbent
// (empty: beside nobody), with rows and an output that nobody chose.
func (r View) RobustnessBefore(ctx context.Context, version, environment, incumbent string) (bool, error) {
	var n int
	err := r.q.row(ctx, `SELECT count(*) FROM jobs j WHERE j.about = ? AND j.kind = 'robustness'
		AND coalesce(j.body ->> '$.robustness.incumbent', '') = ? AND j.body ->> '$.robustness.named' IS NULL
		AND j.body ->> '$.robustness.output' IS NULL
		AND coalesce(j.body ->> '$.scoring.environment', '') = ?`, version, incumbent, environment).Scan(&n)
	return n > 0, err
}

// mostProved is how many versions are looked at for a standing evaluation, the newest.
const mostProved = 50

// WithoutStanding lists the versions that a standing evaluation is for and that no job was begun for, oldest first.
func (r View) WithoutStanding(ctx context.Context, e *standing.Standing) ([]string, error) {
	rows, err := r.q.rows(ctx, `SELECT v.number FROM versions v JOIN models m ON m.id = v.model_id
		WHERE m.name = ? AND v.number > ? AND v.deleted_at IS NULL AND v.rung <> 'retired' AND NOT EXISTS (
			SELECT 1 FROM jobs j WHERE j.about = m.name || '@' || v.number
			AND j.body ->> '$.evaluating.standing' = ?) ORDER BY v.number DESC LIMIT ?`, e.Model, e.After, e.ID(),
		mostProved)
	return collect(rows, err, func(rows *sql.Rows) (string, error) {
		var n int
		err := rows.Scan(&n)
		return registry.Ref{Model: e.Model, Number: n}.String(), err
	})
}

// StandingJobs lists the jobs of a standing evaluation, newest first.
func (r View) StandingJobs(ctx context.Context, e *standing.Standing) ([]job.Job, error) {
	return r.jobs(ctx, `j.kind = 'evaluate' AND j.body ->> '$.evaluating.standing' = ? ORDER BY j.number DESC LIMIT ?`,
		e.ID(), mostProved)
}
