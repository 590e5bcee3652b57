package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/ladder"
)

// AddPromotion adds an open promotion and gives it the next number, which is set in p.
func (r Records) AddPromotion(ctx context.Context, p *ladder.Promotion) error {
	var number int
	err := r.q.QueryRowContext(ctx, `INSERT INTO promotions (version_id, from_rung, to_rung, incumbent_id, asked_by, note, state, opened_at)
		VALUES ((`+versionID+`), ?, ?, (`+versionID+`), ?, ?, 'open', ?) RETURNING number`,
		slices.Concat(byRef(p.Version), []any{p.From, p.To}, byRef(p.Incumbent), []any{p.AskedBy, p.Note, toMillis(p.OpenedAt)})...).Scan(&number)
	p.ID = ladder.ID(number)
	return one(err)
}

// versionID selects the id of a version; its two arguments are what byRef gives.
const versionID = `SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE m.name = ? AND v.number = ?`

// byRef gives the arguments that find a version by its ref; they find none when ref is
// empty.
func byRef(ref string) []any {
	model, number, _ := strings.Cut(ref, "@")
	n, _ := strconv.Atoi(number)
	return []any{model, n}
}

// promotionQuery reads promotions with the refs of their versions.
const promotionQuery = `SELECT p.number, m.project, m.name || '@' || v.number, p.from_rung, p.to_rung,
	coalesce((SELECT m2.name || '@' || v2.number FROM versions v2 JOIN models m2 ON m2.id = v2.model_id WHERE v2.id = p.incumbent_id), ''),
	p.asked_by, p.note, p.state, p.opened_at, p.closed_at, p.findings
	FROM promotions p JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id AND `

func (r Records) promotions(ctx context.Context, clause string, args ...any) ([]ladder.Promotion, error) {
	rows, err := r.q.QueryContext(ctx, promotionQuery+r.sees("m.project")+" "+clause, args...)
	out, err := collect(rows, err, func(rows *sql.Rows) (ladder.Promotion, error) {
		p := ladder.Promotion{SignOffs: []ladder.SignOff{}, Findings: []ladder.Finding{}}
		var number int
		var opened int64
		var closed sql.NullInt64
		var findings sql.NullString
		if err := rows.Scan(&number, &p.Project, &p.Version, &p.From, &p.To, &p.Incumbent, &p.AskedBy, &p.Note, &p.State, &opened, &closed, &findings); err != nil {
			return p, err
		}
		p.ID, p.OpenedAt, p.ClosedAt = ladder.ID(number), fromMillis(opened), optionalTime(closed)
		if findings.Valid {
			return p, json.Unmarshal([]byte(findings.String), &p.Findings)
		}
		return p, nil
	})
	if err != nil {
		return nil, err
	}
	for i := range out {
		if out[i].SignOffs, err = r.signOffs(ctx, out[i].ID); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (r Records) signOffs(ctx context.Context, promotion string) ([]ladder.SignOff, error) {
	number, err := ladder.ParseID("promotion", promotion)
	if err != nil {
		return nil, err
	}
	rows, err := r.q.QueryContext(ctx, `SELECT by, answer, note, at, candidate_digest, incumbent FROM sign_offs WHERE promotion = ? ORDER BY at, by`, number)
	return collect(rows, err, func(rows *sql.Rows) (ladder.SignOff, error) {
		var s ladder.SignOff
		var at int64
		err := rows.Scan(&s.By, &s.Answer, &s.Note, &at, &s.CandidateDigest, &s.Incumbent)
		s.At = fromMillis(at)
		return s, err
	})
}

// Promotion finds a promotion by number.
func (r Records) Promotion(ctx context.Context, number int) (*ladder.Promotion, error) {
	return single(r.promotions(ctx, `WHERE p.number = ?`, number))
}

// OpenPromotion finds the open promotion of a version to a rung.
func (r Records) OpenPromotion(ctx context.Context, version, to string) (*ladder.Promotion, error) {
	return single(r.promotions(ctx, `WHERE p.state = 'open' AND p.to_rung = ? AND v.id = (`+versionID+`)`, append([]any{to}, byRef(version)...)...))
}

// Promotions lists promotions, newest first; state and model narrow it down when given.
func (r Records) Promotions(ctx context.Context, state, model string, p Page) ([]ladder.Promotion, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.promotions(ctx, `WHERE p.number < ? AND (? = '' OR p.state = ?) AND (? = '' OR m.name = ?) ORDER BY p.number DESC LIMIT ?`,
		before, state, state, model, model, p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(p ladder.Promotion) string { return p.ID[len("P-"):] })
	return items, next, nil
}

// beforeNumber reads a cursor that is a number; every number is before the empty one.
func beforeNumber(after string) (int64, error) {
	if after == "" {
		return 1 << 62, nil
	}
	n, err := strconv.ParseInt(after, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("reading a cursor: %w", err)
	}
	return n, nil
}

// PutSignOff adds a person's answer or replaces an earlier one.
func (r Records) PutSignOff(ctx context.Context, promotion int, s ladder.SignOff) error {
	_, err := r.q.ExecContext(ctx, `INSERT INTO sign_offs (promotion, by, answer, note, at, candidate_digest, incumbent) VALUES (?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (promotion, by) DO UPDATE SET answer = excluded.answer, note = excluded.note, at = excluded.at,
		candidate_digest = excluded.candidate_digest, incumbent = excluded.incumbent`,
		promotion, s.By, s.Answer, s.Note, toMillis(s.At), s.CandidateDigest, s.Incumbent)
	return err
}

// ClosePromotion sets the state in which an open promotion ends, with what the gate
// said then.
func (r Records) ClosePromotion(ctx context.Context, number int, p *ladder.Promotion) error {
	findings, err := json.Marshal(p.Findings)
	if err != nil {
		return err
	}
	_, err = r.q.ExecContext(ctx, `UPDATE promotions SET state = ?, closed_at = ?, findings = ? WHERE number = ? AND state = 'open'`,
		p.State, toMillis(*p.ClosedAt), string(findings), number)
	return err
}
