package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/incident"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/watch"
)

// AddVersion adds a version of an existing model and gives it the next number, which is
// set in v together with its ref. Data sets, parents and the run that v names must
// exist.
func (r View) AddVersion(ctx context.Context, v *registry.Version) error {
	code, err := optionalJSON(v.Code)
	if err != nil {
		return err
	}
	licence := ""
	if v.Card != nil {
		licence = v.Card.Licence
	}
	row := r.q.row(ctx, `INSERT INTO versions (model_id, number, digest, note, code, licence, profile_rows, rung,
		rung_since, created_by, created_at)
		SELECT m.id, 1 + (SELECT coalesce(max(number), 0) FROM versions
		WHERE model_id = m.id), ?, ?, ?, ?, ?, ?, ?, ?, ? FROM models m WHERE m.name = ?
		RETURNING id, number`,
		v.Digest, v.Note, code, licence, v.ProfileRows, v.Rung, toMillis(v.RungSince), v.CreatedBy,
		toMillis(v.CreatedAt), v.Model)
	var id int64
	if err := row.Scan(&id, &v.Number); err != nil {
		return one(err)
	}
	v.Ref = registry.Ref{Model: v.Model, Number: v.Number}.String()
	if err := r.addTexts(ctx, id, v); err != nil {
		return err
	}
	for _, a := range v.Artifacts {
		if _, err := r.q.exec(ctx,
			`INSERT INTO artifacts (version_id, name, digest, size, stored, address, format)
				VALUES (?, ?, ?, ?, ?, ?, ?)`,
			id, a.Name, a.Digest, a.Size, a.Stored, a.Address, a.Contents.Format); err != nil {
			return err
		}
		contents, err := json.Marshal(a.Contents)
		if err != nil {
			return err
		}
		if _, err := r.q.exec(ctx, `INSERT INTO artifact_contents (version_id, name, contents) VALUES (?, ?, ?)`,
			id, a.Name, string(contents)); err != nil {
			return err
		}
	}
	for name, value := range v.Metrics {
		if _, err := r.q.exec(ctx, `INSERT INTO metrics (version_id, name, value, claimed) VALUES (?, ?, ?, ?)`,
			id, name, value, value); err != nil {
			return err
		}
	}
	for name, value := range v.Params {
		if _, err := r.q.exec(ctx, `INSERT INTO params (version_id, name, value) VALUES (?, ?, ?)`, id, name,
			value); err != nil {
			return err
		}
	}
	for _, d := range v.Dependencies {
		if _, err := r.q.exec(ctx,
			`INSERT INTO dependencies (version_id, name, want, extra) VALUES (?, ?, ?, ?)`, id, d.Name, d.Want,
			d.Extra); err != nil {
			return err
		}
	}
	if err := r.addLineage(ctx, Node{VersionNode, id}, v); err != nil {
		return err
	}
	return r.IndexVersions(ctx, v.Ref)
}

// addTexts adds what is large.
func (r View) addTexts(ctx context.Context, id int64, v *registry.Version) error {
	signature, err := optionalJSON(v.Signature)
	if err != nil {
		return err
	}
	profile, err := storedProfile(v.Profile)
	if err != nil {
		return err
	}
	card, err := optionalJSON(v.Card)
	if err != nil {
		return err
	}
	var importance, sample any
	if len(v.Importance) > 0 {
		b, err := json.Marshal(v.Importance)
		if err != nil {
			return err
		}
		importance = string(b)
	}
	if len(v.SampleRequest) > 0 {
		sample = string(v.SampleRequest)
	}
	_, err = r.q.exec(ctx, `INSERT INTO version_texts (version_id, signature, profile, card, importance, sample_request)
		VALUES (?, ?, ?, ?, ?, ?)`,
		id, signature, profile, card, importance, sample)
	return err
}

// addLineage links a new version to what it was made from.
func (r View) addLineage(ctx context.Context, from Node, v *registry.Version) error {
	if err := r.linkCodeAndData(ctx, from, v.Code, v.Data); err != nil {
		return err
	}
	for _, p := range v.Parents {
		if err := r.linkTo(ctx, from, p.Relation, VersionNode, versionID, byRef(p.Version)...); err != nil {
			return err
		}
	}
	if v.Run != "" {
		n, err := lineage.ParseRunRef("run", v.Run)
		if err != nil {
			return err
		}
		return r.link(ctx, from, lineage.MadeBy, Node{RunNode, n})
	}
	return nil
}

// optionalJSON is NULL for a nil pointer, else its JSON.
func optionalJSON[T any](v *T) (any, error) {
	if v == nil {
		return nil, nil
	}
	b, err := json.Marshal(v)
	return string(b), err
}

// versions reads the versions that a clause selects: everything but the texts and what
// is read off the artifacts.
func (r View) versions(ctx context.Context, clause string, args ...any) ([]registry.Version, []int64, error) {
	rows, err := r.q.rows(ctx, `SELECT v.id, m.project, m.name, v.number, v.digest, v.note, v.code, v.profile_rows,
		v.rung, v.rung_since, v.rung_by,
		CASE WHEN v.rung_by IS NULL THEN '' ELSE (SELECT CASE WHEN p.emergency = 0 THEN '' ELSE p.state END
		FROM promotions p WHERE p.number = v.rung_by) END, v.created_by, v.created_at
		FROM versions v JOIN models m ON m.id = v.model_id AND ? ?`,
		r.sees("m.project"), write(clause, args...))
	var ids []int64
	out, err := collect(rows, err, func(rows *sql.Rows) (registry.Version, error) {
		v := registry.Version{
			Artifacts: []registry.Artifact{}, Metrics: map[string]float64{},
			Params: map[string]string{},
		}
		var id, since, at int64
		var code sql.NullString
		var by sql.NullInt64
		var emergency string
		if err := rows.Scan(&id, &v.Project, &v.Model, &v.Number, &v.Digest, &v.Note, &code, &v.ProfileRows, &v.Rung,
			&since, &by, &emergency, &v.CreatedBy, &at); err != nil {
			return v, err
		}
		if by.Valid {
			v.RungBy = ladder.ID(int(by.Int64))
		}
		if emergency != "" {
			v.Emergency = registry.EmergencyMark(emergency == string(ladder.ToReview))
		}
		ids = append(ids, id)
		v.Ref = registry.Ref{Model: v.Model, Number: v.Number}.String()
		v.RungSince, v.CreatedAt = fromMillis(since), fromMillis(at)
		return v, fromJSON(code, &v.Code)
	})
	if err != nil || len(out) == 0 {
		return out, nil, err
	}
	return out, ids, r.fillVersions(ctx, out, ids)
}

func fromJSON[T any](s sql.NullString, into **T) error {
	if !s.Valid {
		return nil
	}
	*into = new(T)
	return json.Unmarshal([]byte(s.String), *into)
}

// fillVersions adds what stands in tables of its own.
func (r View) fillVersions(ctx context.Context, versions []registry.Version, ids []int64) error {
	at := map[int64]*registry.Version{}
	for i := range versions {
		at[ids[i]] = &versions[i]
	}
	in := listOf(ids)
	var id int64
	var name, value string
	for _, part := range []struct {
		query piece
		scan  func(*sql.Rows) error
	}{
		{write(`SELECT version_id, name, digest, size, stored, address, format FROM artifacts WHERE version_id IN ?
			ORDER BY name`, in), func(rows *sql.Rows) error {
			var a registry.Artifact
			err := rows.Scan(&id, &a.Name, &a.Digest, &a.Size, &a.Stored, &a.Address, &a.Contents.Format)
			at[id].Artifacts = append(at[id].Artifacts, a)
			return err
		}},
		{write(metricsOf, in), func(rows *sql.Rows) error {
			return scanMetric(rows, func(id int64, name string, x float64, m *metric.Measured) {
				at[id].Metrics[name] = x
				if m != nil {
					put(&at[id].Measured, name, *m)
				}
			})
		}},
		{write(meaningsOf+`?`, in), func(rows *sql.Rows) error {
			return scanMeaning(rows, func(id int64) *metric.Meanings { return &at[id].Meanings })
		}},
		{write(`SELECT version_id, name, value FROM params WHERE version_id IN ?`, in), func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name, &value)
			at[id].Params[name] = value
			return err
		}},
		{write(`SELECT version_id, name FROM labels WHERE version_id IN ?
			ORDER BY name`, in), func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name)
			at[id].Labels = append(at[id].Labels, name)
			return err
		}},
		{write(`SELECT version_id, tag FROM tags WHERE version_id IN ? ORDER BY tag`, in), func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name)
			at[id].Tags = append(at[id].Tags, name)
			return err
		}},
		{write(`SELECT version_id, name, value FROM properties WHERE version_id IN ?`, in), func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name, &value)
			put(&at[id].Properties, name, value)
			return err
		}},
		{write(`SELECT l.from_id, l.relation, d.name, d.number FROM links l JOIN data_sets d ON d.id = l.to_id
			WHERE l.from_kind = 1 AND l.from_id IN ? AND l.to_kind = 2 AND ?
			ORDER BY l.relation, d.name, d.number`, in, r.sees("d.project")), func(rows *sql.Rows) error {
			var use lineage.DataUse
			var ref lineage.DataRef
			err := rows.Scan(&id, &use.Role, &ref.Name, &ref.Number)
			use.Data = ref.String()
			at[id].Data = append(at[id].Data, use)
			return err
		}},
		{
			write(`SELECT from_id, to_id FROM links WHERE from_kind = 1 AND from_id IN ? AND to_kind = 3`, in),
			func(rows *sql.Rows) error {
				var run int64
				err := rows.Scan(&id, &run)
				at[id].Run = lineage.RunRef(run)
				return err
			},
		},
	} {
		if err := r.each(ctx, part.query, part.scan); err != nil {
			return err
		}
	}
	return r.eachRolledBack(ctx, in, func(id int64, b *registry.RolledBack) { at[id].RolledBack = b })
}

// eachRolledBack calls add with each way back that took a version out of an endpoint, the newest
// last, unless the version has answered there since.
func (r View) eachRolledBack(ctx context.Context, ids list, add func(id int64, b *registry.RolledBack)) error {
	return r.each(ctx, write(`SELECT l.version_id, e.name, n.leaves, n.author, n.made_at, n.reason,
			(SELECT im.name || '@' || iv.number FROM lanes i JOIN versions iv ON iv.id = i.version_id
				JOIN models im ON im.id = iv.model_id
				WHERE i.endpoint_id = n.endpoint_id AND i.split = n.number AND i.kind = 'main'),
			coalesce((SELECT max(a.number) FROM alerts a WHERE a.kind = 'rolled_back' AND a.endpoint = e.name
				AND a.subject = m.name || '@' || v.number AND a.raised_at = n.made_at), 0),
			coalesce((SELECT max(x.number) FROM incidents x WHERE x.endpoint_id = n.endpoint_id
				AND x.for_split = n.number AND x.candidate_id = v.id), 0)
		FROM lanes l JOIN splits n ON n.endpoint_id = l.endpoint_id AND n.leaves = l.split AND n.leaves > 0
			JOIN endpoints e ON e.id = l.endpoint_id JOIN versions v ON v.id = l.version_id
			JOIN models m ON m.id = v.model_id
		WHERE l.version_id IN ? AND NOT EXISTS (SELECT 1 FROM lanes o
			WHERE o.endpoint_id = n.endpoint_id AND o.split >= n.number AND o.version_id = l.version_id)
		ORDER BY n.made_at, n.number`, ids), func(rows *sql.Rows) error {
		var id, made, page int64
		var alert int
		var b registry.RolledBack
		err := rows.Scan(&id, &b.Endpoint, &b.Split, &b.By, &made, &b.Why, &b.Instead, &alert, &page)
		b.At = fromMillis(made)
		if alert > 0 {
			b.Alert = watch.ID(alert)
		}
		if page > 0 {
			b.Incident = incident.ID(page)
		}
		add(id, &b)
		return err
	})
}

// whole reads one version with its texts and what was read off its artifacts.
func (r View) whole(ctx context.Context, clause string, args ...any) (*registry.Version, error) {
	found, ids, err := r.versions(ctx, clause, args...)
	if err != nil {
		return nil, err
	}
	if len(found) == 0 {
		return nil, ErrNone
	}
	v, id := &found[0], ids[0]
	var signature, card, importance, sample sql.NullString
	err = r.q.row(ctx,
		`SELECT signature, card, importance, sample_request FROM version_texts WHERE version_id = ?`, id).
		Scan(&signature, &card, &importance, &sample)
	if err != nil {
		return nil, one(err)
	}
	if err := fromJSON(signature, &v.Signature); err != nil {
		return nil, err
	}
	if err := fromJSON(card, &v.Card); err != nil {
		return nil, err
	}
	if importance.Valid {
		if err := json.Unmarshal([]byte(importance.String), &v.Importance); err != nil {
			return nil, err
		}
	}
	if sample.Valid {
		v.SampleRequest = json.RawMessage(sample.String)
	}
	if v.KnownAnswers, err = r.KnownAnswers(ctx, v.Ref); err != nil {
		return nil, err
	}
	return v, r.fillWhole(ctx, v, id)
}

func (r View) fillWhole(ctx context.Context, v *registry.Version, id int64) error {
	if err := r.each(ctx, write(`SELECT name, contents FROM artifact_contents
		WHERE version_id = ?`, id), func(rows *sql.Rows) error {
		var name, contents string
		if err := rows.Scan(&name, &contents); err != nil {
			return err
		}
		i := slices.IndexFunc(v.Artifacts, func(a registry.Artifact) bool { return a.Name == name })
		return json.Unmarshal([]byte(contents), &v.Artifacts[i].Contents)
	}); err != nil {
		return err
	}
	if err := r.each(ctx, write(`SELECT name, want, extra FROM dependencies WHERE version_id = ?
		ORDER BY name`, id), func(rows *sql.Rows) error {
		var d registry.Dependency
		err := rows.Scan(&d.Name, &d.Want, &d.Extra)
		v.Dependencies = append(v.Dependencies, d)
		return err
	}); err != nil {
		return err
	}
	if err := r.each(ctx, write(`SELECT m.name, v.number, l.relation FROM links l JOIN versions v ON v.id = l.to_id
		JOIN models m ON m.id = v.model_id
		WHERE l.from_kind = 1 AND l.from_id = ? AND l.to_kind = 1 AND ? ORDER BY m.name, v.number`, id,
		r.sees("m.project")), func(rows *sql.Rows) error {
		var ref registry.Ref
		var relation string
		err := rows.Scan(&ref.Model, &ref.Number, &relation)
		v.Parents = append(v.Parents, lineage.Parent{Version: ref.String(), Relation: relation})
		return err
	}); err != nil {
		return err
	}
	return r.each(ctx, write(`SELECT name, digest, size, media, added_by, added_at FROM attachments WHERE version_id = ?
		ORDER BY name`, id), func(rows *sql.Rows) error {
		var a registry.Attachment
		var at int64
		err := rows.Scan(&a.Name, &a.Digest, &a.Size, &a.Media, &a.AddedBy, &at)
		a.AddedAt = fromMillis(at)
		v.Attachments = append(v.Attachments, a)
		return err
	})
}

// Version finds a version by model and number; deleted ones are not found.
func (r View) Version(ctx context.Context, model string, number int) (*registry.Version, error) {
	return r.whole(ctx, `WHERE m.name = ? AND v.number = ? AND v.deleted_at IS NULL`, model, number)
}

// VersionsByRef lists some versions by their refs, in that order, without their texts.
func (r View) VersionsByRef(ctx context.Context, refs []string) ([]registry.Version, error) {
	var out []registry.Version
	for _, ref := range refs {
		found, _, err := r.versions(ctx, `WHERE m.name = ? AND v.number = ? AND v.deleted_at IS NULL`, byRef(ref)...)
		if err != nil {
			return nil, err
		}
		if len(found) == 0 {
			return nil, ErrNone
		}
		out = append(out, found[0])
	}
	return out, nil
}

// VersionByDigest finds the version of a model with the given identity.
func (r View) VersionByDigest(ctx context.Context, model, digest string) (*registry.Version, error) {
	return r.whole(ctx, `WHERE m.name = ? AND v.digest = ? AND v.deleted_at IS NULL`, model, digest)
}

// VersionsOnRung lists a model's versions on a rung, the latest to step there first.
func (r View) VersionsOnRung(ctx context.Context, model, rung string, most int) ([]registry.Version, error) {
	out, _, err := r.versions(ctx,
		`WHERE m.name = ? AND v.rung = ? AND v.deleted_at IS NULL ORDER BY v.rung_since DESC, v.number DESC LIMIT ?`,
		model, rung, most)
	return out, err
}

// Versions lists the versions of a model, newest first.
func (r View) Versions(ctx context.Context, model string, p Page) ([]registry.Version, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, _, err := r.versions(ctx,
		`WHERE m.name = ? AND v.number < ? AND v.deleted_at IS NULL ORDER BY v.number DESC LIMIT ?`, model, before,
		p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(v registry.Version) string { return strconv.Itoa(v.Number) })
	return items, next, nil
}

// Profile returns the reference profile of a version, nil when it has none.
func (r View) Profile(ctx context.Context, model string, number int) (*profile.Profile, error) {
	var raw sql.NullString
	err := r.q.row(ctx, `SELECT t.profile FROM version_texts t WHERE t.version_id = ?`,
		versionAt(model, number)).Scan(&raw)
	if err != nil {
		return nil, one(err)
	}
	var p *storedAs
	if err = fromJSON(raw, &p); err != nil || p == nil {
		return nil, err
	}
	p.Profile.Fine = p.Fine
	return p.Profile, nil
}

// storedAs is a profile as it is kept: with the fine cells, which the API does not show.
type storedAs struct {
	*profile.Profile
	Fine map[string]*sketch.Fine `json:"fine,omitempty"`
}

// storedProfile is a profile as it is kept, nil for none.
func storedProfile(p *profile.Profile) (any, error) {
	if p == nil {
		return nil, nil
	}
	return optionalJSON(&storedAs{p, p.Fine})
}

// SetRung moves a version to a rung, by a promotion (P-12) or otherwise (empty).
func (r View) SetRung(ctx context.Context, model string, number int, rung, promotion string, now time.Time) error {
	var by any
	if promotion != "" {
		n, err := ladder.ParseID("promotion", promotion)
		if err != nil {
			return err
		}
		by = n
	}
	_, err := r.q.exec(ctx,
		`UPDATE versions SET rung = ?, rung_since = ?, rung_by = ? WHERE number = ? AND model_id = (SELECT id
			FROM models WHERE name = ?)`,
		rung, toMillis(now), by, number, model)
	return err
}

// SetNote changes the note of a version.
func (r View) SetNote(ctx context.Context, model string, number int, note string) error {
	_, err := r.q.exec(ctx,
		`UPDATE versions SET note = ? WHERE number = ? AND model_id = (SELECT id FROM models WHERE name = ?)`, note,
		number, model)
	return err
}

// PutAttachment adds an attachment to a version, in place of one with the same name.
func (r View) PutAttachment(ctx context.Context, model string, number int, a registry.Attachment) error {
	_, err := r.q.exec(ctx, `INSERT INTO attachments (version_id, name, digest, size, media, added_by, added_at)
		VALUES (?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (version_id, name) DO UPDATE SET digest = excluded.digest, size = excluded.size,
			media = excluded.media, added_by = excluded.added_by, added_at = excluded.added_at`,
		versionAt(model, number), a.Name, a.Digest, a.Size, a.Media, a.AddedBy, toMillis(a.AddedAt))
	return err
}

// RemoveAttachment takes an attachment away.
func (r View) RemoveAttachment(ctx context.Context, model string, number int, name string) error {
	_, err := r.q.exec(ctx, `DELETE FROM attachments WHERE name = ? AND version_id = ?`, name, versionAt(model, number))
	return err
}

// Deleted is what stays known of a deleted version.
type Deleted struct {
	Ref string
	At  time.Time
	By  string
	Why string
}

// DeletedVersion finds out whether a version was deleted.
func (r View) DeletedVersion(ctx context.Context, model string, number int) (Deleted, error) {
	g := Deleted{Ref: registry.Ref{Model: model, Number: number}.String()}
	var at int64
	err := r.q.row(ctx, `SELECT v.deleted_at, v.deleted_by, v.deleted_why FROM versions v
		JOIN models m ON m.id = v.model_id
		WHERE m.name = ? AND v.number = ? AND v.deleted_at IS NOT NULL AND ?`, model, number,
		r.sees("m.project")).Scan(&at, &g.By, &g.Why)
	g.At = fromMillis(at)
	return g, one(err)
}

// DeleteVersion removes everything that a version holds. Its number stays taken and its
// lineage stays, so that what was made from it can still be traced.
func (r View) DeleteVersion(ctx context.Context, model string, number int, g Deleted) error {
	var id int64
	if err := r.q.row(ctx, versionID, model, number).Scan(&id); err != nil {
		return one(err)
	}
	if _, err := r.q.exec(ctx, `DELETE FROM search WHERE rowid = ?`, id); err != nil {
		return err
	}
	for _, table := range []string{
		"version_texts", "artifact_contents", "artifacts", "metrics", "params",
		"dependencies", "attachments", "evidence", "known_answers", "labels", "tags", "properties",
	} {
		if _, err := r.q.exec(ctx, `DELETE FROM `+table+` WHERE version_id = ?`, id); err != nil {
			return err
		}
	}
	_, err := r.q.exec(ctx,
		`UPDATE versions SET deleted_at = ?, deleted_by = ?, deleted_why = ?, digest = lower(hex(randomblob(32))),
			code = NULL, licence = '', note = '', profile_rows = 0 WHERE id = ?`,
		toMillis(g.At), g.By, g.Why, id)
	return err
}

// UsesOf lists in words what a version is in use for: placements, splits in force,
// labels, open promotions, and live versions made from it.
func (r View) UsesOf(ctx context.Context, model string, number int, highest string) ([]string, error) {
	var id int64
	if err := r.q.row(ctx, versionID, model, number).Scan(&id); err != nil {
		return nil, one(err)
	}
	var out []string
	for _, use := range []struct {
		what  string
		query piece
	}{
		{"is placed in ", write(`SELECT e.name FROM placements p JOIN environments e ON e.id = p.environment_id
			WHERE p.version_id = ? AND p.removed_at IS NULL ORDER BY e.name`, id)},
		{"is in the split of ", write(`SELECT e.name FROM endpoints e JOIN lanes l ON l.endpoint_id = e.id
			AND l.split = (SELECT max(number) FROM splits WHERE endpoint_id = e.id)
			WHERE l.version_id = ? ORDER BY e.name`, id)},
		{"has the label ", write(`SELECT name FROM labels WHERE version_id = ? ORDER BY name`, id)},
		{"waits for review in ", write(`SELECT 'P-' || number FROM promotions
			WHERE version_id = ? AND state IN ('open', 'to_review') ORDER BY number`, id)},
		{"is a parent of " + highest + " ", write(`SELECT CASE WHEN ? THEN m.name || '@' || v.number
				ELSE 'something in another project' END
			FROM links l JOIN versions v ON v.id = l.from_id JOIN models m ON m.id = v.model_id
			WHERE l.to_kind = 1 AND l.to_id = ? AND l.from_kind = 1 AND v.rung = ? AND v.deleted_at IS NULL
			ORDER BY m.name, v.number`, r.sees("m.project"), id, highest)},
	} {
		var names []string
		if err := r.each(ctx, use.query, func(rows *sql.Rows) error {
			var name string
			err := rows.Scan(&name)
			names = append(names, name)
			return err
		}); err != nil {
			return nil, err
		}
		if len(names) > 0 {
			out = append(out, use.what+strings.Join(names, ", "))
		}
	}
	return out, nil
}

// NeededBlobs tells for every digest that some version needs, as artifact,
// attachment or evidence, or as rows of a standing evaluation.
func (r View) NeededBlobs(ctx context.Context) (map[string]bool, error) {
	needed := map[string]bool{}
	return needed, r.each(ctx, write(`SELECT digest FROM artifacts WHERE stored = 1 UNION SELECT digest FROM attachments
		UNION SELECT digest FROM evidence
		UNION SELECT body ->> '$.digest' FROM model_proofs WHERE body ->> '$.digest' IS NOT NULL`), func(rows *sql.Rows,
	) error {
		var d string
		err := rows.Scan(&d)
		needed[d] = true
		return err
	})
}

// IndexVersions writes the full text of a version, or of all versions of a model, anew.
func (r View) IndexVersions(ctx context.Context, of string) error {
	which := write(`m.name = ?`, of)
	if strings.Contains(of, "@") {
		which = write(`m.name = ? AND v.number = ?`, byRef(of)...)
	}
	versions, _, err := r.versions(ctx, `WHERE ? AND v.deleted_at IS NULL`, which)
	if err != nil || len(versions) == 0 {
		return err
	}
	m, err := r.Within(Everything).Model(ctx, versions[0].Model)
	if err != nil {
		return err
	}
	// Whoever sees a version may find it by what they may see of it: not by data of other projects.
	versions, ids, err := r.Within(Sight{Projects: []string{m.Project}}).versions(ctx,
		`WHERE ? AND v.deleted_at IS NULL`, which)
	if err != nil {
		return err
	}
	for i := range versions {
		v := &versions[i]
		var card, dependencies sql.NullString
		if err := r.q.row(ctx,
			`SELECT substr(json_extract(card, '$.text'), 1, 20000), (SELECT group_concat(name, ' ') FROM dependencies
				WHERE version_id = t.version_id)
				FROM version_texts t WHERE t.version_id = ?`, ids[i]).
			Scan(&card, &dependencies); err != nil {
			return one(err)
		}
		title := strings.Join(append(append([]string{v.Model}, v.Labels...), append(v.Tags, m.Tags...)...), " ")
		parts := []string{
			m.Description, m.Owner, m.Project, string(m.Task), v.Note, v.CreatedBy, card.String,
			dependencies.String,
		}
		for _, a := range v.Artifacts {
			parts = append(parts, a.Name, a.Contents.Format)
		}
		for _, d := range v.Data {
			parts = append(parts, d.Data)
		}
		for _, texts := range []map[string]string{v.Params, v.Properties, m.Properties} {
			for _, k := range slices.Sorted(maps.Keys(texts)) {
				parts = append(parts, k, texts[k])
			}
		}
		parts = slices.AppendSeq(parts, maps.Keys(v.Metrics))
		if _, err := r.q.exec(ctx, `INSERT OR REPLACE INTO search (rowid, title, body) VALUES (?, ?, ?)`, ids[i],
			title, strings.Join(parts, " ")); err != nil {
			return err
		}
	}
	return nil
}

func single[T any](items []T, err error) (*T, error) {
	if err != nil {
		return nil, err
	}
	if len(items) == 0 {
		return nil, ErrNone
	}
	return &items[0], nil
}
