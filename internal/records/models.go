package records

import (
	"context"
	"database/sql"
	"time"

	"innerladder/internal/core/registry"
)

// listedStanding is how many versions of a rung are listed with a model.
const listedStanding = 12

// AddModel adds a model.
func (r View) AddModel(ctx context.Context, m registry.Model) error {
	_, err := r.q.exec(ctx,
		`INSERT INTO models (name, project, task, description, owner, created_by, created_at)
			VALUES (?, ?, ?, ?, ?, ?, ?)`,
		m.Name, m.Project, m.Task, m.Description, m.Owner, m.CreatedBy, toMillis(m.CreatedAt))
	return err
}

const modelQuery = `SELECT m.id, m.name, m.project, m.task, m.description, m.owner, m.vetted_by, m.vetted_at,
	m.vetted_why, m.created_by, m.created_at FROM models m `

func scanModel(row interface{ Scan(...any) error }) (registry.Model, error) {
	m := registry.Model{Standing: map[string][]int{}, Counts: map[string]int{}}
	var at int64
	var by, why sql.NullString
	var when sql.NullInt64
	err := row.Scan(&m.ID, &m.Name, &m.Project, &m.Task, &m.Description, &m.Owner, &by, &when, &why, &m.CreatedBy, &at)
	m.CreatedAt = fromMillis(at)
	if by.Valid {
		m.Vetted = &registry.Vetting{By: by.String, At: fromMillis(when.Int64), Why: why.String}
	}
	return m, err
}

// Model finds a model by name.
func (r View) Model(ctx context.Context, name string) (registry.Model, error) {
	m, err := scanModel(r.q.row(ctx, modelQuery+`WHERE m.name = ? AND m.removed_at IS NULL AND ?`, name,
		r.sees("m.project")))
	if err != nil {
		return m, one(err)
	}
	list := []registry.Model{m}
	err = r.fillModels(ctx, list)
	return list[0], err
}

// ModelFilter narrows models down; zero members do not.
type ModelFilter struct {
	Project, Task, Owner, Tag string
	// Text is looked for in names and descriptions.
	Text   string
	Vetted bool
}

// Models lists models by name.
func (r View) Models(ctx context.Context, f ModelFilter, p Page) (items []registry.Model, next string, err error) {
	where := write(`WHERE m.name > ? AND m.removed_at IS NULL AND ?`, p.After, r.sees("m.project"))
	for _, c := range []struct {
		clause, value string
	}{
		{` AND m.project = ?`, f.Project},
		{` AND m.task = ?`, f.Task},
		{` AND m.owner = ?`, f.Owner},
		{` AND EXISTS (SELECT 1 FROM tags g WHERE g.tag = ? AND g.model_id = m.id)`, f.Tag},
		{` AND instr(lower(m.name || ' ' || m.description), lower(?)) > 0`, f.Text},
	} {
		if c.value != "" {
			where = where.plus(c.clause, c.value)
		}
	}
	where = where.plus(`?`, when(f.Vetted, ` AND m.vetted_by IS NOT NULL`))
	rows, err := r.q.rows(ctx, modelQuery+`? ORDER BY m.name LIMIT ?`, where, p.Limit+1)
	items, err = collect(rows, err, func(rows *sql.Rows) (registry.Model, error) { return scanModel(rows) })
	if err != nil {
		return nil, "", err
	}
	items, next = cut(items, p.Limit, func(m registry.Model) string { return m.Name })
	return items, next, r.fillModels(ctx, items)
}

// fillModels adds what stands in tables of its own.
func (r View) fillModels(ctx context.Context, models []registry.Model) error {
	at := map[int64]*registry.Model{}
	ids := make([]int64, len(models))
	for i := range models {
		at[models[i].ID], ids[i] = &models[i], models[i].ID
	}
	var id int64
	var name, value string
	var number int
	// The database counts, so that few rows come out of it.
	if err := r.each(ctx, write(`WITH s AS MATERIALIZED (SELECT model_id, rung, count(*) AS n FROM versions
		WHERE model_id IN ? AND deleted_at IS NULL GROUP BY model_id, rung)
		SELECT s.model_id, s.rung, v.number, s.n FROM s CROSS JOIN versions v ON v.model_id = s.model_id
		AND v.rung = s.rung AND v.deleted_at IS NULL
			AND v.number IN (SELECT o.number FROM versions o WHERE o.model_id = s.model_id AND o.rung = s.rung
			AND o.deleted_at IS NULL ORDER BY o.number DESC LIMIT ?)
		ORDER BY s.model_id, s.rung, v.number DESC`, listOf(ids), listedStanding), func(rows *sql.Rows) error {
		var n int
		err := rows.Scan(&id, &name, &number, &n)
		m := at[id]
		if _, counted := m.Counts[name]; !counted {
			m.Counts[name] = n
			m.Versions += n
		}
		m.Newest = max(m.Newest, number)
		m.Standing[name] = append(m.Standing[name], number)
		return err
	}); err != nil {
		return err
	}
	if err := r.each(ctx, write(`SELECT model_id, tag FROM tags WHERE version_id = 0 AND model_id IN ?
		ORDER BY tag`, listOf(ids)), func(rows *sql.Rows) error {
		err := rows.Scan(&id, &name)
		at[id].Tags = append(at[id].Tags, name)
		return err
	}); err != nil {
		return err
	}
	if err := r.each(ctx, write(`SELECT model_id, name, value FROM properties
		WHERE version_id = 0 AND model_id IN ?`, listOf(ids)), func(rows *sql.Rows) error {
		err := rows.Scan(&id, &name, &value)
		put(&at[id].Properties, name, value)
		return err
	}); err != nil {
		return err
	}
	return r.each(ctx, write(`SELECT l.model_id, l.name, v.number FROM labels l JOIN versions v ON v.id = l.version_id
		WHERE l.model_id IN ?`, listOf(ids)), func(rows *sql.Rows) error {
		err := rows.Scan(&id, &name, &number)
		put(&at[id].Labels, name, number)
		return err
	})
}

// put sets a member of a map that may not be there yet.
func put[V any](m *map[string]V, name string, value V) {
	if *m == nil {
		*m = map[string]V{}
	}
	(*m)[name] = value
}

// each runs a query and scans every row.
func (r View) each(ctx context.Context, query piece, scan func(*sql.Rows) error) error {
	rows, err := r.q.rows(ctx, "?", query)
	_, err = collect(rows, err, func(rows *sql.Rows) (struct{}, error) { return struct{}{}, scan(rows) })
	return err
}

// SetModel changes what may change of a model: description and owner.
func (r View) SetModel(ctx context.Context, name, description, owner string) error {
	_, err := r.q.exec(ctx, `UPDATE models SET description = ?, owner = ? WHERE name = ?`, description, owner,
		name)
	return err
}

// SetVetted marks a model as vetted, or takes the mark away with nil.
func (r View) SetVetted(ctx context.Context, model string, v *registry.Vetting) error {
	var by, at, why any
	if v != nil {
		by, at, why = v.By, toMillis(v.At), v.Why
	}
	_, err := r.q.exec(ctx, `UPDATE models SET vetted_by = ?, vetted_at = ?, vetted_why = ? WHERE name = ?`, by,
		at, why, model)
	return err
}

func (r View) labels(ctx context.Context, clause string, args ...any) ([]registry.Label, error) {
	rows, err := r.q.rows(ctx, `SELECT l.name, m.name || '@' || v.number, l.environment, l.moved_by, l.moved_at
		FROM labels l
		JOIN models m ON m.id = l.model_id AND ? JOIN versions v ON v.id = l.version_id ?`, r.sees("m.project"),
		write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (registry.Label, error) {
		var l registry.Label
		var at int64
		err := rows.Scan(&l.Name, &l.Version, &l.Environment, &l.MovedBy, &at)
		l.MovedAt = fromMillis(at)
		return l, err
	})
}

// Labels lists the labels of a model by name.
func (r View) Labels(ctx context.Context, model string) ([]registry.Label, error) {
	return r.labels(ctx, `WHERE m.name = ? ORDER BY l.name`, model)
}

// Label finds a label of a model.
func (r View) Label(ctx context.Context, model, name string) (*registry.Label, error) {
	return single(r.labels(ctx, `WHERE m.name = ? AND l.name = ?`, model, name))
}

// PutLabel puts a label on a version, from wherever it was.
func (r View) PutLabel(ctx context.Context, l registry.Label) error {
	args := byRef(l.Version)
	_, err := r.q.exec(ctx, `INSERT INTO labels (model_id, name, version_id, environment, moved_by, moved_at)
		SELECT m.id, ?, v.id, ?, ?, ? FROM versions v JOIN models m ON m.id = v.model_id
		WHERE m.name = ? AND v.number = ?
		ON CONFLICT (model_id, name) DO UPDATE SET version_id = excluded.version_id, environment = excluded.environment,
			moved_by = excluded.moved_by, moved_at = excluded.moved_at`,
		l.Name, l.Environment, l.MovedBy, toMillis(l.MovedAt), args[0], args[1])
	return err
}

// RemoveLabel takes a label away.
func (r View) RemoveLabel(ctx context.Context, model, name string) error {
	_, err := r.q.exec(ctx,
		`DELETE FROM labels WHERE name = ? AND model_id = (SELECT id FROM models WHERE name = ?)`, name, model)
	return err
}

// AddProject adds a project.
func (r View) AddProject(ctx context.Context, p registry.Project) error {
	_, err := r.q.exec(ctx, `INSERT INTO projects (name, description, added_by, added_at) VALUES (?, ?, ?, ?)`,
		p.Name, p.Description, p.AddedBy, toMillis(p.AddedAt))
	return err
}

// Projects lists the projects by name.
func (r View) Projects(ctx context.Context) ([]registry.Project, error) {
	rows, err := r.q.rows(ctx,
		`SELECT p.name, p.description, p.added_by, p.added_at, (SELECT count(*) FROM models m
				WHERE m.project = p.name AND m.removed_at IS NULL)
			FROM projects p
			WHERE ? ORDER BY p.name`, r.sees("p.name"))
	return collect(rows, err, func(rows *sql.Rows) (registry.Project, error) {
		var p registry.Project
		var at int64
		err := rows.Scan(&p.Name, &p.Description, &p.AddedBy, &at, &p.Models)
		p.AddedAt = fromMillis(at)
		return p, err
	})
}

// DescribeProject changes what is said about a project.
func (r View) DescribeProject(ctx context.Context, name, description string) error {
	_, err := r.q.exec(ctx, `UPDATE projects SET description = ? WHERE name = ?`, description, name)
	return err
}

// UsesOfProject lists in words what is in a project.
func (r View) UsesOfProject(ctx context.Context, name string) ([]string, error) {
	var out []string
	for _, use := range []struct {
		what  string
		query piece
	}{
		{"models", write(`SELECT count(*) FROM models WHERE project = ? AND removed_at IS NULL`, name)},
		{"data sets", write(`SELECT count(*) FROM data_sets WHERE project = ?`, name)},
		{"runs", write(`SELECT count(*) FROM runs WHERE project = ?`, name)},
		{"environments", write(`SELECT count(*) FROM environments WHERE project = ? AND removed_at IS NULL`, name)},
		{"webhooks", write(`SELECT count(*) FROM webhooks WHERE project = ?`, name)},
	} {
		n := 0
		if err := r.q.row(ctx, `SELECT (?)`, use.query).Scan(&n); err != nil {
			return nil, err
		}
		if n > 0 {
			out = append(out, use.what)
		}
	}
	return out, nil
}

// RemoveProject removes a project with its roles, its ladders and what is shared with it.
func (r View) RemoveProject(ctx context.Context, name string) error {
	for _, statement := range []string{
		`DELETE FROM memberships WHERE project = ?`, `DELETE FROM ladders WHERE project = ?`,
		`DELETE FROM environment_shares WHERE project = ?`, `UPDATE people SET project = '' WHERE project = ?`,
		`DELETE FROM projects WHERE name = ?`,
	} {
		if _, err := r.q.exec(ctx, statement, name); err != nil {
			return err
		}
	}
	return nil
}

// OpenPromotionsOf lists the promotions of a model's versions that are open.
func (r View) OpenPromotionsOf(ctx context.Context, model string) ([]string, error) {
	return r.texts(ctx, write(`SELECT 'P-' || p.number FROM promotions p JOIN versions v ON v.id = p.version_id
		JOIN models m ON m.id = v.model_id
		WHERE m.name = ? AND p.state IN ('open', 'to_review') ORDER BY p.number`, model))
}

// EnvironmentsOf lists the environments in which versions of a model are placed.
func (r View) EnvironmentsOf(ctx context.Context, model string) ([]string, error) {
	return r.texts(ctx, write(`SELECT DISTINCT e.name FROM placements p JOIN environments e ON e.id = p.environment_id
		JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id
		WHERE m.name = ? AND p.removed_at IS NULL ORDER BY e.name`, model))
}

// NamedBy lists in words what names a model and cannot follow when it is called otherwise.
func (r View) NamedBy(ctx context.Context, model string) ([]string, error) {
	return r.texts(ctx, write(`SELECT 'P-' || p.number || ' was signed' FROM promotions p
			JOIN versions v ON v.id = p.version_id JOIN models m ON m.id = v.model_id
			WHERE m.name = ? AND EXISTS (SELECT 1 FROM answers s WHERE s.promotion = p.number)
		UNION SELECT m.name || '@' || v.number || ' ran in ' || e.name FROM placements p
			JOIN environments e ON e.id = p.environment_id JOIN versions v ON v.id = p.version_id
			JOIN models m ON m.id = v.model_id WHERE m.name = ?
		UNION SELECT 'the endpoint ' || n.name || ' is for it' FROM endpoints n JOIN models m ON m.id = n.model_id
			WHERE m.name = ? ORDER BY 1 LIMIT 5`, model, model, model))
}

// texts reads one column of text.
func (r View) texts(ctx context.Context, query piece) (out []string, err error) {
	err = r.each(ctx, query, func(rows *sql.Rows) error {
		var s string
		err := rows.Scan(&s)
		out = append(out, s)
		return err
	})
	return out, err
}

// RenameModel gives a model another name, also where runs name it.
func (r View) RenameModel(ctx context.Context, name, to string) error {
	if _, err := r.q.exec(ctx, `UPDATE models SET name = ? WHERE name = ?`, to, name); err != nil {
		return err
	}
	_, err := r.q.exec(ctx, `UPDATE runs SET model = ? WHERE model = ?`, to, name)
	return err
}

// MoveModel puts a model into another project, with its runs.
func (r View) MoveModel(ctx context.Context, name, project string) error {
	if _, err := r.q.exec(ctx, `UPDATE models SET project = ? WHERE name = ?`, project, name); err != nil {
		return err
	}
	_, err := r.q.exec(ctx, `UPDATE runs SET project = ? WHERE model = ?`, project, name)
	return err
}

// RemoveModel takes a model away whose versions are deleted. They stay as what others were made
// from, under a name that nothing else can have.
func (r View) RemoveModel(ctx context.Context, name string, now time.Time) error {
	id, _, err := r.ids(ctx, Subject{Model: name})
	if err != nil {
		return err
	}
	for _, statement := range []string{
		`DELETE FROM tags WHERE model_id = ?`, `DELETE FROM properties WHERE model_id = ?`,
		`DELETE FROM labels WHERE model_id = ?`, `DELETE FROM metric_meanings WHERE model_id = ?`,
		`DELETE FROM model_proofs WHERE model_id = ?`,
	} {
		if _, err := r.q.exec(ctx, statement, id); err != nil {
			return err
		}
	}
	_, err = r.q.exec(ctx, `UPDATE models SET removed_at = ?, name = name || ' (removed ' || id || ')' WHERE id = ?`,
		toMillis(now), id)
	return err
}

// Subject is a model, or a version of one, that carries tags and properties.
type Subject struct {
	Model string
	// Number is the version's; 0 for the model itself.
	Number int
}

// ids gives the model's and the version's id as tags and properties hold them.
func (r View) ids(ctx context.Context, s Subject) (model, version int64, err error) {
	if s.Number == 0 {
		err = r.q.row(ctx, `SELECT id FROM models WHERE name = ?`, s.Model).Scan(&model)
		return model, 0, one(err)
	}
	err = r.q.row(ctx, versionID, s.Model, s.Number).Scan(&version)
	return 0, version, one(err)
}

// Tag puts a tag on something, or takes it off.
func (r View) Tag(ctx context.Context, s Subject, tag string, on bool) error {
	model, version, err := r.ids(ctx, s)
	if err != nil {
		return err
	}
	if on {
		_, err = r.q.exec(ctx, `INSERT INTO tags (tag, model_id, version_id) VALUES (?, ?, ?)
			ON CONFLICT DO NOTHING`, tag, model, version)
	} else {
		_, err = r.q.exec(ctx, `DELETE FROM tags WHERE tag = ? AND model_id = ? AND version_id = ?`, tag, model,
			version)
	}
	return err
}

// SetProperty gives a property a value, or removes it when value is nil.
func (r View) SetProperty(ctx context.Context, s Subject, name string, value *string) error {
	model, version, err := r.ids(ctx, s)
	if err != nil {
		return err
	}
	if value != nil {
		_, err = r.q.exec(ctx, `INSERT INTO properties (model_id, version_id, name, value) VALUES (?, ?, ?, ?)
			ON CONFLICT (version_id, model_id, name) DO UPDATE SET value = excluded.value`, model, version, name,
			*value)
	} else {
		_, err = r.q.exec(ctx, `DELETE FROM properties WHERE model_id = ? AND version_id = ? AND name = ?`,
			model, version, name)
	}
	return err
}
