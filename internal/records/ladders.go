package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/people"
	"innerladder/internal/core/registry"
)

func (r View) ladders(ctx context.Context, clause string, args ...any) ([]ladder.Revision, error) {
	rows, err := r.q.rows(ctx, `SELECT project, number, ladder, author, reason, made_at FROM ladders ?`,
		write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (ladder.Revision, error) {
		var l ladder.Revision
		var text string
		var at int64
		if err := rows.Scan(&l.Project, &l.Number, &text, &l.Author, &l.Reason, &at); err != nil {
			return l, err
		}
		l.MadeAt = fromMillis(at)
		return l, json.Unmarshal([]byte(text), &l.Ladder)
	})
}

// Ladder is the ladder of a project as it is now; the default one where nobody made
// another.
func (r View) Ladder(ctx context.Context, project string) (ladder.Revision, error) {
	found, err := single(r.ladders(ctx, `WHERE project = ? ORDER BY number DESC LIMIT 1`, project))
	if errors.Is(err, ErrNone) {
		return ladder.Revision{Project: project, Ladder: ladder.Default()}, nil
	}
	if err != nil {
		return ladder.Revision{}, err
	}
	return *found, nil
}

// Ladders lists the ladders of all projects in sight that have one of their own, as they
// are now.
func (r View) Ladders(ctx context.Context) ([]ladder.Revision, error) {
	return r.ladders(ctx, `WHERE ? AND number = (SELECT max(number) FROM ladders l WHERE l.project = ladders.project)
		ORDER BY project`, r.sees("project"))
}

// LadderRevisions lists the revisions of a project's ladder, newest first.
func (r View) LadderRevisions(ctx context.Context, project string, p Page) ([]ladder.Revision, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.ladders(ctx, `WHERE ? AND project = ? AND number < ?
		ORDER BY number DESC LIMIT ?`, r.sees("project"), project,
		before, p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(l ladder.Revision) string { return strconv.Itoa(l.Number) })
	return items, next, nil
}

// AddLadder adds the next revision of a project's ladder and sets its number.
func (r View) AddLadder(ctx context.Context, l *ladder.Revision) error {
	text, err := json.Marshal(l.Ladder)
	if err != nil {
		return err
	}
	return r.q.row(ctx, `INSERT INTO ladders (project, number, ladder, author, reason, made_at)
		VALUES (?, (SELECT 1 + coalesce(max(number), 0) FROM ladders WHERE project = ?), ?, ?, ?, ?) RETURNING number`,
		l.Project, l.Project, string(text), l.Author, l.Reason, toMillis(l.MadeAt)).Scan(&l.Number)
}

// RungUse is what a rung of a project is in use for.
type RungUse struct {
	Rung string
	// Most is how many versions of one model stand on it at most; Versions how many in
	// all, Example one of them.
	Most, Versions int
	Example        string
	Endpoints      []string
	Promotions     []string
	Labels         []string
}

// RungUses lists the rungs of a project that are in use, whether its ladder has them or
// not, and the labels of its models, as names that rungs cannot have.
func (r View) RungUses(ctx context.Context, project string) (map[string]*RungUse, error) {
	out := map[string]*RungUse{}
	at := func(rung string) *RungUse {
		if out[rung] == nil {
			out[rung] = &RungUse{Rung: rung}
		}
		return out[rung]
	}
	if err := r.each(ctx, write(`SELECT v.rung, m.name, count(*), max(v.number) FROM versions v
		JOIN models m ON m.id = v.model_id WHERE m.project = ? AND v.deleted_at IS NULL
		GROUP BY m.id, v.rung`, project), func(rows *sql.Rows) error {
		var rung, model string
		var n, newest int
		err := rows.Scan(&rung, &model, &n, &newest)
		u := at(rung)
		if n > u.Most {
			u.Most, u.Example = n, registry.Ref{Model: model, Number: newest}.String()
		}
		u.Versions += n
		return err
	}); err != nil {
		return nil, err
	}
	for _, use := range []struct {
		query string
		add   func(u *RungUse, name string)
	}{
		{
			`SELECT e.rung, e.name FROM endpoints e JOIN models m ON m.id = e.model_id
				WHERE m.project = ? AND e.removed_at IS NULL ORDER BY 2`,
			func(u *RungUse, name string) { u.Endpoints = append(u.Endpoints, name) },
		},
		{
			`SELECT p.to_rung, 'P-' || p.number FROM promotions p JOIN versions v ON v.id = p.version_id
				JOIN models m ON m.id = v.model_id
				WHERE m.project = ? AND p.state IN ('open', 'to_review') ORDER BY p.number`,
			func(u *RungUse, name string) { u.Promotions = append(u.Promotions, name) },
		},
		{
			`SELECT l.name, m.name || '@' || l.name FROM labels l JOIN models m ON m.id = l.model_id
				WHERE m.project = ? ORDER BY 2`,
			func(u *RungUse, name string) { u.Labels = append(u.Labels, name) },
		},
	} {
		if err := r.each(ctx, write(use.query, project), func(rows *sql.Rows) error {
			var rung, name string
			err := rows.Scan(&rung, &name)
			use.add(at(rung), name)
			return err
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

const evidenceColumns = `e.id, e.kind, e.name, e.digest, e.size, e.media, e.verdict, e.findings, e.added_by, e.added_at`

// scanEvidence reads evidenceColumns, after what comes before them.
func scanEvidence(rows *sql.Rows, before ...any) (evidence.Evidence, error) {
	var e evidence.Evidence
	var id, at int64
	var findings string
	if err := rows.Scan(append(before, &id, &e.Kind, &e.Name, &e.Digest, &e.Size, &e.Media, &e.Verdict, &findings,
		&e.AddedBy, &at)...); err != nil {
		return e, err
	}
	e.ID, e.AddedAt = evidence.ID(id), fromMillis(at)
	return e, json.Unmarshal([]byte(findings), &e.Findings)
}

// AddEvidence attaches a report to a version and gives it the next number.
func (r View) AddEvidence(ctx context.Context, e *evidence.Evidence) error {
	findings, err := json.Marshal(e.Findings)
	if err != nil {
		return err
	}
	var id int64
	err = r.q.row(ctx,
		`INSERT INTO evidence (version_id, kind, name, digest, size, media, verdict, findings, added_by, added_at)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
		versionOf(e.Version), e.Kind, e.Name, e.Digest, e.Size, e.Media, e.Verdict, string(findings), e.AddedBy,
		toMillis(e.AddedAt)).Scan(&id)
	if err != nil {
		return one(err)
	}
	e.ID = evidence.ID(id)
	return r.measured(ctx, id, e)
}

func (r View) evidence(ctx context.Context, clause string, args ...any) ([]evidence.Evidence, error) {
	rows, err := r.q.rows(ctx,
		`SELECT m.name, v.number, m.project, `+evidenceColumns+
			` FROM evidence e JOIN versions v ON v.id = e.version_id JOIN models m ON m.id = v.model_id AND ? ?`,
		r.sees("m.project"), write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (evidence.Evidence, error) {
		var ref registry.Ref
		var project string
		e, err := scanEvidence(rows, &ref.Model, &ref.Number, &project)
		e.Version, e.Project = ref.String(), project
		return e, err
	})
}

// EvidenceOf lists the reports of a version, newest first.
func (r View) EvidenceOf(ctx context.Context, version string) ([]evidence.Evidence, error) {
	return r.evidence(ctx, `WHERE m.name = ? AND v.number = ? ORDER BY e.id DESC`, byRef(version)...)
}

// Evidence finds a report by number.
func (r View) Evidence(ctx context.Context, id int64) (*evidence.Evidence, error) {
	return single(r.evidence(ctx, `WHERE e.id = ?`, id))
}

// AddSigningKey adds a key of a person.
func (r View) AddSigningKey(ctx context.Context, person int64, k people.SigningKey) error {
	_, err := r.q.exec(ctx,
		`INSERT INTO signing_keys (fingerprint, person_id, title, public, added_at) VALUES (?, ?, ?, ?, ?)`,
		k.Fingerprint, person, k.Title, k.Public, toMillis(k.AddedAt))
	return err
}

// SigningKeys lists the keys of everyone, or of one person when one is named.
func (r View) SigningKeys(ctx context.Context, owner string) ([]people.SigningKey, error) {
	rows, err := r.q.rows(ctx,
		`SELECT k.fingerprint, p.name, k.title, k.public, k.added_at, k.ended_at FROM signing_keys k
			JOIN people p ON p.id = k.person_id WHERE ?
			ORDER BY k.added_at, k.fingerprint`, orAll(owner != "", `p.name = ?`, owner))
	return collect(rows, err, func(rows *sql.Rows) (people.SigningKey, error) {
		var k people.SigningKey
		var at int64
		var ended sql.NullInt64
		err := rows.Scan(&k.Fingerprint, &k.Owner, &k.Title, &k.Public, &at, &ended)
		k.AddedAt, k.EndedAt = fromMillis(at), optionalTime(ended)
		return k, err
	})
}

// EndSigningKey says that a key signs nothing any more.
func (r View) EndSigningKey(ctx context.Context, fingerprint string, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE signing_keys SET ended_at = ? WHERE fingerprint = ? AND ended_at IS NULL`,
		toMillis(now), fingerprint)
	return err
}
