package records

import (
	"context"
	"database/sql"
	"encoding/json"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
)

// GateNeeds says what must be read of versions to judge them by a ladder.
type GateNeeds struct {
	// Metrics are those that matter.
	Metrics                                                     []string
	Signature, Card, Lineage, Needs, Evidence, Places, Trainers bool
}

// Judged is a version with everything that gates look at.
type Judged struct {
	registry.Version
	Evidence []evidence.Evidence
	Places   []rule.Place
	// Trainers are those who registered it or ran its training.
	Trainers []string
	// Stored lists the digests of its artifacts that are kept here.
	Stored []string
	// MetricCount is how many metrics it has, read or not, MeasuredCount how many of them a report
	// measured.
	MetricCount, MeasuredCount int
}

// JudgedVersions reads the versions of a project that stand on the ladder, oldest first,
// with what gates look at and nothing else. It reads all of them in a few queries: ten
// thousand take a second.
func (r View) JudgedVersions(ctx context.Context, project string, need GateNeeds) ([]Judged, error) {
	j := judging{
		of: write(`SELECT v.id FROM versions v JOIN models m ON m.id = v.model_id
			WHERE m.project = ? AND v.deleted_at IS NULL AND v.rung <> 'retired'`, project),
		index: map[int64]int{}, signatures: map[string]*signature.Signature{},
	}
	if err := r.each(ctx, write(`SELECT v.id, m.name, v.number, v.digest, v.code, v.rung, v.rung_since, v.created_by,
			v.profile_rows, (SELECT count(*) FROM metrics x WHERE x.version_id = v.id),
			(SELECT count(x.evidence_id) FROM metrics x WHERE x.version_id = v.id)
		FROM versions v JOIN models m ON m.id = v.model_id
		WHERE m.project = ? AND ? AND v.deleted_at IS NULL AND v.rung <> 'retired' ORDER BY m.name, v.number`,
		project, r.sees("m.project")), func(rows *sql.Rows) error {
		return j.add(rows, project, need.Lineage)
	}); err != nil || len(j.out) == 0 {
		return j.out, err
	}
	for _, part := range j.parts(need) {
		if part.needed {
			if err := r.each(ctx, part.query, part.scan); err != nil {
				return nil, err
			}
		}
	}
	return j.out, nil
}

// judging is versions that are being read to be judged.
type judging struct {
	// of selects the ids of the versions.
	of    piece
	out   []Judged
	index map[int64]int
	// signatures are those that were read: most versions of a model have the same.
	signatures map[string]*signature.Signature
}

// judgedPart reads one table for all versions.
type judgedPart struct {
	needed bool
	query  piece
	scan   func(*sql.Rows) error
}

func (j *judging) at(id int64) *Judged { return &j.out[j.index[id]] }

// add takes a version that was read.
func (j *judging) add(rows *sql.Rows, project string, withCode bool) error {
	v := Judged{Version: registry.Version{Project: project, Metrics: map[string]float64{}}}
	var id, since int64
	var code sql.NullString
	if err := rows.Scan(&id, &v.Model, &v.Number, &v.Digest, &code, &v.Rung, &since, &v.CreatedBy, &v.ProfileRows,
		&v.MetricCount, &v.MeasuredCount); err != nil {
		return err
	}
	v.Ref, v.RungSince = registry.Ref{Model: v.Model, Number: v.Number}.String(), fromMillis(since)
	v.Trainers = []string{v.CreatedBy}
	j.index[id] = len(j.out)
	j.out = append(j.out, v)
	if withCode {
		return fromJSON(code, &j.at(id).Code)
	}
	return nil
}

// parts lists what is read of versions besides themselves.
func (j *judging) parts(need GateNeeds) []judgedPart {
	return []judgedPart{
		{
			true, write(`SELECT version_id, name, digest, stored FROM artifacts WHERE version_id IN (?)`, j.of),
			j.artifact,
		},
		{
			len(need.Metrics) > 0, write(`SELECT `+metricColumns+` FROM metrics x
				WHERE x.version_id IN (?) AND x.name IN ?`, j.of, listOf(need.Metrics)), j.metric,
		},
		{
			len(need.Metrics) > 0, write(meaningsOf+`(?)`, j.of), func(rows *sql.Rows) error {
				return scanMeaning(rows, func(id int64) *metric.Meanings { return &j.at(id).Meanings })
			},
		},
		{
			need.Signature, write(`SELECT version_id, signature FROM version_texts
				WHERE signature IS NOT NULL AND version_id IN (?)`, j.of), j.signature,
		},
		{
			need.Card, write(`SELECT version_id, card FROM version_texts
				WHERE card IS NOT NULL AND version_id IN (?)`, j.of),
			j.card,
		},
		{
			need.Lineage, write(`SELECT l.from_id, l.relation, d.name, d.number
				FROM links l JOIN data_sets d ON d.id = l.to_id
				WHERE l.from_kind = 1 AND l.to_kind = 2 AND l.from_id IN (?)`, j.of), j.data,
		},
		{
			need.Lineage || need.Trainers, write(`SELECT l.from_id, n.number, n.by FROM links l
				JOIN runs n ON n.number = l.to_id
				WHERE l.from_kind = 1 AND l.to_kind = 3 AND l.from_id IN (?)`, j.of), j.run,
		},
		{
			need.Needs, write(`SELECT version_id, name, want, extra FROM dependencies WHERE version_id IN (?)`, j.of),
			j.dependency,
		},
		{
			need.Evidence, write(`SELECT version_id, `+evidenceColumns+` FROM evidence e
				WHERE (e.id = (SELECT max(n.id) FROM evidence n WHERE n.version_id = e.version_id AND n.kind = e.kind)
					OR e.kind = 'evaluation' AND e.id = (SELECT max(n.id) FROM evidence n
						WHERE n.version_id = e.version_id AND n.kind = e.kind AND n.added_by = ?
						AND n.findings ->> '$.evaluation.judged.standing' IS NOT NULL)
					OR e.kind IN ('replay', 'check', 'robustness') AND e.id = (SELECT max(n.id) FROM evidence n
						WHERE n.version_id = e.version_id AND n.kind = e.kind AND n.added_by = ?))
				AND version_id IN (?) ORDER BY e.id DESC`, naming.Service, naming.Service, j.of), j.evidence,
		},
		{
			need.Places, write(`SELECT p.version_id, e.name, coalesce(max(a.healthy), 1),
				coalesce(max(a.reason), ''), p.declared
				FROM placements p JOIN environments e ON e.id = p.environment_id
				LEFT JOIN addresses a ON a.placement_id = p.id
				WHERE p.removed_at IS NULL AND p.version_id IN (?) GROUP BY p.id`, j.of), j.place,
		},
	}
}

func (j *judging) artifact(rows *sql.Rows) error {
	var id int64
	var a registry.Artifact
	err := rows.Scan(&id, &a.Name, &a.Digest, &a.Stored)
	v := j.at(id)
	v.Artifacts = append(v.Artifacts, a)
	if a.Stored {
		v.Stored = append(v.Stored, a.Digest)
	}
	return err
}

func (j *judging) metric(rows *sql.Rows) error {
	return scanMetric(rows, func(id int64, name string, x float64, m *metric.Measured) {
		v := j.at(id)
		v.Metrics[name] = x
		if m != nil {
			put(&v.Measured, name, *m)
		}
	})
}

func (j *judging) signature(rows *sql.Rows) error {
	var id int64
	var text string
	if err := rows.Scan(&id, &text); err != nil {
		return err
	}
	s, known := j.signatures[text]
	if !known {
		s = new(signature.Signature)
		if err := json.Unmarshal([]byte(text), s); err != nil {
			return err
		}
		j.signatures[text] = s
	}
	j.at(id).Signature = s
	return nil
}

func (j *judging) card(rows *sql.Rows) error {
	var id int64
	var text sql.NullString
	if err := rows.Scan(&id, &text); err != nil {
		return err
	}
	return fromJSON(text, &j.at(id).Card)
}

func (j *judging) data(rows *sql.Rows) error {
	var id int64
	var use lineage.DataUse
	var ref lineage.DataRef
	err := rows.Scan(&id, &use.Role, &ref.Name, &ref.Number)
	use.Data = ref.String()
	j.at(id).Data = append(j.at(id).Data, use)
	return err
}

func (j *judging) run(rows *sql.Rows) error {
	var id, run int64
	var by string
	err := rows.Scan(&id, &run, &by)
	j.at(id).Run = lineage.RunRef(run)
	j.at(id).Trainers = append(j.at(id).Trainers, by)
	return err
}

func (j *judging) dependency(rows *sql.Rows) error {
	var id int64
	var d registry.Dependency
	err := rows.Scan(&id, &d.Name, &d.Want, &d.Extra)
	j.at(id).Dependencies = append(j.at(id).Dependencies, d)
	return err
}

func (j *judging) evidence(rows *sql.Rows) error {
	var id int64
	e, err := scanEvidence(rows, &id)
	j.at(id).Evidence = append(j.at(id).Evidence, e)
	return err
}

func (j *judging) place(rows *sql.Rows) error {
	var id int64
	var p rule.Place
	var declared sql.NullString
	if err := rows.Scan(&id, &p.Environment, &p.Healthy, &p.Reason, &declared); err != nil {
		return err
	}
	err := fromJSON(declared, &p.Declared)
	j.at(id).Places = append(j.at(id).Places, p)
	return err
}
