package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"innerladder/internal/core/answers"
)

// AddKnownAnswers adds what a version must answer.
func (r View) AddKnownAnswers(ctx context.Context, version string, k *answers.Known) error {
	cases, err := json.Marshal(k.Cases)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO known_answers (version_id, cases, tolerance, origin, author, made_at)
		VALUES (?, ?, ?, ?, ?, ?)`,
		versionOf(version), string(cases), k.Tolerance, k.Origin, k.By, toMillis(k.At))
	return err
}

// KnownAnswers reads what a version must answer; nil when nothing is known.
func (r View) KnownAnswers(ctx context.Context, version string) (*answers.Known, error) {
	var k answers.Known
	var cases string
	var at int64
	err := r.q.row(ctx, `SELECT k.cases, k.tolerance, k.origin, k.author, k.made_at FROM known_answers k
		WHERE k.version_id = ?`, versionOf(version)).Scan(&cases, &k.Tolerance, &k.Origin, &k.By, &at)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	k.At = fromMillis(at)
	return &k, json.Unmarshal([]byte(cases), &k.Cases)
}
