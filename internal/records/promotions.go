package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/registry"
)

// AddPromotion adds a promotion and gives it the next number, which is set in p.
func (r View) AddPromotion(ctx context.Context, p *ladder.Promotion) error {
	var number int
	err := r.q.row(ctx, `INSERT INTO promotions (version_id, from_rung, to_rung, incumbent_id, asked_by, note, state,
		emergency, ladder, opened_at)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING number`,
		versionOf(p.Version), p.From, p.To, versionOf(p.Incumbent), p.AskedBy, p.Note, p.State, p.Emergency, p.Ladder,
		toMillis(p.OpenedAt)).Scan(&number)
	p.ID = ladder.ID(number)
	return one(err)
}

// versionID selects the id of a version; its two arguments are what byRef gives.
const versionID = `SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id WHERE m.name = ? AND v.number = ?`

// versionOf is the id of the version that a ref names by its number, NULL where there is none.
func versionOf(ref string) piece { return write("(?)", write(versionID, byRef(ref)...)) }

// versionAt is the id of a version of a model, NULL where there is none.
func versionAt(model string, number int) piece { return write("(?)", write(versionID, model, number)) }

// byRef gives the arguments that find a version by its number; they find none where ref names
// no number, or is empty.
func byRef(ref string) []any {
	v, err := registry.ParseRef("version", ref)
	if err != nil {
		return []any{"", 0}
	}
	return []any{v.Model, v.Number}
}

// promotionQuery reads promotions with the refs of their versions.
const promotionQuery = `SELECT p.number, m.project, m.name || '@' || v.number, p.from_rung, p.to_rung,
	coalesce((SELECT m2.name || '@' || v2.number FROM versions v2 JOIN models m2 ON m2.id = v2.model_id
	WHERE v2.id = p.incumbent_id), ''),
	p.asked_by, p.note, p.state, p.emergency, p.ladder, p.opened_at, p.reminded_at, p.closed_at, p.findings
	FROM promotions p JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id AND ? ?`

func (r View) promotions(ctx context.Context, clause string, args ...any) ([]ladder.Promotion, error) {
	rows, err := r.q.rows(ctx, promotionQuery, r.sees("m.project"), write(clause, args...))
	var numbers []int
	out, err := collect(rows, err, func(rows *sql.Rows) (ladder.Promotion, error) {
		p := ladder.Promotion{SignOffs: []rule.SignOff{}, Findings: []rule.Finding{}}
		var number int
		var opened int64
		var reminded, closed sql.NullInt64
		var findings sql.NullString
		if err := rows.Scan(&number, &p.Project, &p.Version, &p.From, &p.To, &p.Incumbent, &p.AskedBy, &p.Note,
			&p.State, &p.Emergency, &p.Ladder, &opened, &reminded, &closed, &findings); err != nil {
			return p, err
		}
		numbers = append(numbers, number)
		p.ID, p.OpenedAt, p.RemindedAt, p.ClosedAt = ladder.ID(number), fromMillis(opened), optionalTime(reminded),
			optionalTime(closed)
		if findings.Valid {
			return p, json.Unmarshal([]byte(findings.String), &p.Findings)
		}
		return p, nil
	})
	if err != nil {
		return nil, err
	}
	for i := range out {
		answers, err := r.answers(ctx,
			`WHERE promotion = ? AND id = (SELECT max(id) FROM answers l WHERE l.promotion = answers.promotion
				AND l.by = answers.by)
				ORDER BY id`, numbers[i])
		if err != nil {
			return nil, err
		}
		for _, a := range answers {
			out[i].SignOffs = append(out[i].SignOffs, a.SignOff)
		}
		if out[i].Ticks, err = r.ticks(ctx, numbers[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// SignedAnswer is an answer with the envelope in which it was signed.
type SignedAnswer struct {
	rule.SignOff
	Promotion string
	Envelope  json.RawMessage
}

func (r View) answers(ctx context.Context, clause string, args ...any) ([]SignedAnswer, error) {
	rows, err := r.q.rows(ctx,
		`SELECT promotion, by, answer, note, at, roles, until, handed_to, candidate_digest, incumbent, void,
			signed_with, envelope FROM answers ?`,
		write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (SignedAnswer, error) {
		var s SignedAnswer
		var promotion int
		var at int64
		var until sql.NullInt64
		var roles, envelope string
		if err := rows.Scan(&promotion, &s.By, &s.Answer, &s.Note, &at, &roles, &until, &s.To, &s.CandidateDigest,
			&s.Incumbent, &s.Void, &s.Key, &envelope); err != nil {
			return s, err
		}
		s.Promotion, s.At, s.Until, s.Envelope = ladder.ID(promotion), fromMillis(at), optionalTime(until),
			json.RawMessage(envelope)
		return s, json.Unmarshal([]byte(roles), &s.Roles)
	})
}

// AnswersAbout lists all answers about a version, the oldest first, also those that their
// givers replaced.
func (r View) AnswersAbout(ctx context.Context, version string) ([]SignedAnswer, error) {
	return r.answers(ctx, `WHERE promotion IN (SELECT number FROM promotions WHERE version_id = ?) ORDER BY id`,
		versionOf(version))
}

func (r View) ticks(ctx context.Context, promotion int) ([]rule.Tick, error) {
	rows, err := r.q.rows(ctx,
		`SELECT rung, item, note, link, by, at, candidate_digest, incumbent FROM ticks WHERE promotion = ?
			ORDER BY at, rung, item`, promotion)
	return collect(rows, err, func(rows *sql.Rows) (rule.Tick, error) {
		var t rule.Tick
		var at int64
		err := rows.Scan(&t.Rung, &t.Item, &t.Note, &t.Link, &t.By, &at, &t.CandidateDigest, &t.Incumbent)
		t.At = fromMillis(at)
		return t, err
	})
}

// Promotion finds a promotion by number.
func (r View) Promotion(ctx context.Context, number int) (*ladder.Promotion, error) {
	return single(r.promotions(ctx, `WHERE p.number = ?`, number))
}

// OpenPromotion finds the promotion of a version to a rung that can still be answered.
func (r View) OpenPromotion(ctx context.Context, version, to string) (*ladder.Promotion, error) {
	return single(r.promotions(ctx,
		`WHERE p.state IN ('open', 'to_review') AND p.to_rung = ? AND v.id = ?`, to, versionOf(version)))
}

// PromotionFilter narrows promotions down; zero members do not.
type PromotionFilter struct {
	// State is one of the states, or "waiting" for those that can still be answered.
	State, Model, AskedBy, Project string
	// Version is a ref by number.
	Version string
}

func (f PromotionFilter) state() piece {
	if f.State == "waiting" {
		return write(`AND p.state IN ('open', 'to_review')`)
	}
	return when(f.State != "", `AND p.state = ?`, f.State)
}

// Promotions lists promotions, newest first.
func (r View) Promotions(ctx context.Context, f PromotionFilter, p Page) ([]ladder.Promotion, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.promotions(ctx, `WHERE p.number < ? ? ? ? ? ? ORDER BY p.number DESC LIMIT ?`, before, f.state(),
		when(f.Model != "", `AND m.name = ?`, f.Model), when(f.AskedBy != "", `AND p.asked_by = ?`, f.AskedBy),
		when(f.Project != "", `AND m.project = ?`, f.Project),
		when(f.Version != "", `AND p.version_id = ?`, versionOf(f.Version)), p.Limit+1)
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

// AddAnswer adds a person's answer with its envelope.
func (r View) AddAnswer(ctx context.Context, promotion int, s rule.SignOff, envelope json.RawMessage) error {
	roles, err := json.Marshal(append([]string{}, s.Roles...))
	if err != nil {
		return err
	}
	var until any
	if s.Until != nil {
		until = toMillis(*s.Until)
	}
	_, err = r.q.exec(ctx, `INSERT INTO answers (promotion, by, answer, note, at, roles, until, handed_to,
		candidate_digest, incumbent, signed_with, envelope) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		promotion, s.By, s.Answer, s.Note, toMillis(s.At), string(roles), until, s.To, s.CandidateDigest, s.Incumbent,
		s.Key, string(envelope))
	return err
}

// VoidAnswers says why the answers about a version do not count any more.
func (r View) VoidAnswers(ctx context.Context, version, why string) (int64, error) {
	res, err := r.q.exec(ctx,
		`UPDATE answers SET void = ? WHERE void = '' AND promotion IN (SELECT number FROM promotions
			WHERE version_id = ?)`, why,
		versionOf(version))
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}

// PutTick adds that someone looked at an item of the checklist, in place of an earlier
// tick.
func (r View) PutTick(ctx context.Context, promotion int, t rule.Tick) error {
	_, err := r.q.exec(ctx,
		`INSERT OR REPLACE INTO ticks (promotion, rung, item, note, link, by, at, candidate_digest, incumbent)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		promotion, t.Rung, t.Item, t.Note, t.Link, t.By, toMillis(t.At), t.CandidateDigest, t.Incumbent)
	return err
}

// SetReminded writes down when the reviewers of a promotion were reminded.
func (r View) SetReminded(ctx context.Context, number int, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE promotions SET reminded_at = ? WHERE number = ?`, toMillis(now), number)
	return err
}

// SetPromotion writes the state that a promotion has come to, with what the gate said
// then; one that ended stays as it is.
func (r View) SetPromotion(ctx context.Context, number int, p *ladder.Promotion) error {
	findings, err := json.Marshal(p.Findings)
	if err != nil {
		return err
	}
	var closed any
	if p.ClosedAt != nil {
		closed = toMillis(*p.ClosedAt)
	}
	_, err = r.q.exec(ctx, `UPDATE promotions SET state = ?, closed_at = ?, findings = ?, ladder = ?
		WHERE number = ? AND closed_at IS NULL`,
		p.State, closed, string(findings), p.Ladder, number)
	return err
}
