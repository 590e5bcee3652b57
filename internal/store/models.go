package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"strconv"
	"time"

	"innerladder/internal/core/registry"
)

// Model is a named line of versions for one task.
type Model struct {
	Name        string        `json:"name"`
	Task        registry.Task `json:"task" enum:"regression,classification,other"`
	Description string        `json:"description"`
	CreatedBy   string        `json:"created_by"`
	CreatedAt   time.Time     `json:"created_at"`
	Versions    int           `json:"versions" description:"how many versions it has"`
	// Newest is the number of the newest version, 0 when there is none.
	Newest int `json:"newest"`
	// Standing lists the versions on each rung, newest first, by rung.
	Standing map[string][]int `json:"standing"`
}

// AddModel adds a model.
func (r Records) AddModel(ctx context.Context, m Model) error {
	_, err := r.q.ExecContext(ctx, `INSERT INTO models (name, task, description, created_by, created_at) VALUES (?, ?, ?, ?, ?)`,
		m.Name, m.Task, m.Description, m.CreatedBy, toMillis(m.CreatedAt))
	return err
}

const modelQuery = `SELECT m.name, m.task, m.description, m.created_by, m.created_at,
	(SELECT count(*) FROM versions v WHERE v.model_id = m.id),
	(SELECT coalesce(max(number), 0) FROM versions v WHERE v.model_id = m.id) FROM models m `

func scanModel(row interface{ Scan(...any) error }) (Model, error) {
	m := Model{Standing: map[string][]int{}}
	var at int64
	err := row.Scan(&m.Name, &m.Task, &m.Description, &m.CreatedBy, &at, &m.Versions, &m.Newest)
	m.CreatedAt = fromMillis(at)
	return m, err
}

// Model finds a model by name.
func (r Records) Model(ctx context.Context, name string) (Model, error) {
	m, err := scanModel(r.q.QueryRowContext(ctx, modelQuery+`WHERE m.name = ?`, name))
	if err != nil {
		return m, one(err)
	}
	return m, r.fillStanding(ctx, []Model{m})
}

// Models lists models by name.
func (r Records) Models(ctx context.Context, p Page) (items []Model, next string, err error) {
	rows, err := r.q.QueryContext(ctx, modelQuery+`WHERE m.name > ? ORDER BY m.name LIMIT ?`, p.After, p.Limit+1)
	items, err = collect(rows, err, func(rows *sql.Rows) (Model, error) { return scanModel(rows) })
	if err != nil {
		return nil, "", err
	}
	items, next = cut(items, p.Limit, func(m Model) string { return m.Name })
	return items, next, r.fillStanding(ctx, items)
}

func (r Records) fillStanding(ctx context.Context, models []Model) error {
	byName := map[string]map[string][]int{}
	names := make([]string, len(models))
	for i, m := range models {
		byName[m.Name], names[i] = m.Standing, m.Name
	}
	rows, err := r.q.QueryContext(ctx, `SELECT m.name, v.rung, v.number FROM versions v JOIN models m ON m.id = v.model_id
		WHERE m.name IN (`+places(len(names))+`) ORDER BY v.number DESC`, anys(names)...)
	_, err = collect(rows, err, func(rows *sql.Rows) (struct{}, error) {
		var model, rung string
		var number int
		err := rows.Scan(&model, &rung, &number)
		byName[model][rung] = append(byName[model][rung], number)
		return struct{}{}, err
	})
	return err
}

// AddVersion adds a version of an existing model and gives it the next number, which is
// set in v together with its ref.
func (r Records) AddVersion(ctx context.Context, v *registry.Version) error {
	signature, err1 := optionalJSON(v.Signature)
	profile, err2 := optionalJSON(v.Profile)
	code, err3 := optionalJSON(v.Code)
	for _, err := range []error{err1, err2, err3} {
		if err != nil {
			return err
		}
	}
	row := r.q.QueryRowContext(ctx, `INSERT INTO versions (model_id, number, digest, note, signature, profile, code, rung, rung_since, created_by, created_at)
		SELECT m.id, 1 + (SELECT coalesce(max(number), 0) FROM versions WHERE model_id = m.id), ?, ?, ?, ?, ?, ?, ?, ?, ? FROM models m WHERE m.name = ?
		RETURNING id, number`,
		v.Digest, v.Note, signature, profile, code, v.Rung, toMillis(v.RungSince), v.CreatedBy, toMillis(v.CreatedAt), v.Model)
	var id int64
	if err := row.Scan(&id, &v.Number); err != nil {
		return one(err)
	}
	v.Ref = registry.Ref{Model: v.Model, Number: v.Number}.String()
	for _, a := range v.Artifacts {
		if _, err := r.q.ExecContext(ctx, `INSERT INTO artifacts (version_id, name, digest, size) VALUES (?, ?, ?, ?)`, id, a.Name, a.Digest, a.Size); err != nil {
			return err
		}
	}
	for name, value := range v.Metrics {
		if _, err := r.q.ExecContext(ctx, `INSERT INTO metrics (version_id, name, value) VALUES (?, ?, ?)`, id, name, value); err != nil {
			return err
		}
	}
	for name, value := range v.Params {
		if _, err := r.q.ExecContext(ctx, `INSERT INTO params (version_id, name, value) VALUES (?, ?, ?)`, id, name, value); err != nil {
			return err
		}
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

// versions reads the versions that a clause selects, with everything but the profile.
func (r Records) versions(ctx context.Context, clause string, args ...any) ([]registry.Version, error) {
	rows, err := r.q.QueryContext(ctx, `SELECT v.id, m.name, v.number, v.digest, v.note, v.signature, v.code, v.rung, v.rung_since, v.created_by, v.created_at
		FROM versions v JOIN models m ON m.id = v.model_id `+clause, args...)
	var ids []int64
	out, err := collect(rows, err, func(rows *sql.Rows) (registry.Version, error) {
		v := registry.Version{Artifacts: []registry.Artifact{}, Metrics: map[string]float64{}, Params: map[string]string{}}
		var id, since, at int64
		var signature, code sql.NullString
		if err := rows.Scan(&id, &v.Model, &v.Number, &v.Digest, &v.Note, &signature, &code, &v.Rung, &since, &v.CreatedBy, &at); err != nil {
			return v, err
		}
		ids = append(ids, id)
		v.Ref = registry.Ref{Model: v.Model, Number: v.Number}.String()
		v.RungSince, v.CreatedAt = fromMillis(since), fromMillis(at)
		if err := fromJSON(signature, &v.Signature); err != nil {
			return v, err
		}
		return v, fromJSON(code, &v.Code)
	})
	if err != nil || len(out) == 0 {
		return out, err
	}
	return out, r.fillVersions(ctx, out, ids)
}

func fromJSON[T any](s sql.NullString, into **T) error {
	if !s.Valid {
		return nil
	}
	*into = new(T)
	return json.Unmarshal([]byte(s.String), *into)
}

// fillVersions adds what stands in tables of its own.
func (r Records) fillVersions(ctx context.Context, versions []registry.Version, ids []int64) error {
	at := map[int64]*registry.Version{}
	for i := range versions {
		at[ids[i]] = &versions[i]
	}
	each := func(query string, scan func(*sql.Rows) error) error {
		rows, err := r.q.QueryContext(ctx, query+` WHERE version_id IN (`+places(len(ids))+`) ORDER BY name`, anys(ids)...)
		_, err = collect(rows, err, func(rows *sql.Rows) (struct{}, error) { return struct{}{}, scan(rows) })
		return err
	}
	var id int64
	var name string
	if err := each(`SELECT version_id, name, digest, size FROM artifacts`, func(rows *sql.Rows) error {
		var a registry.Artifact
		err := rows.Scan(&id, &a.Name, &a.Digest, &a.Size)
		at[id].Artifacts = append(at[id].Artifacts, a)
		return err
	}); err != nil {
		return err
	}
	if err := each(`SELECT version_id, name, value FROM metrics`, func(rows *sql.Rows) error {
		var value float64
		err := rows.Scan(&id, &name, &value)
		at[id].Metrics[name] = value
		return err
	}); err != nil {
		return err
	}
	return each(`SELECT version_id, name, value FROM params`, func(rows *sql.Rows) error {
		var value string
		err := rows.Scan(&id, &name, &value)
		at[id].Params[name] = value
		return err
	})
}

// Version finds a version by model and number.
func (r Records) Version(ctx context.Context, model string, number int) (*registry.Version, error) {
	return single(r.versions(ctx, `WHERE m.name = ? AND v.number = ?`, model, number))
}

// VersionByDigest finds the version of a model with the given identity.
func (r Records) VersionByDigest(ctx context.Context, model, digest string) (*registry.Version, error) {
	return single(r.versions(ctx, `WHERE m.name = ? AND v.digest = ?`, model, digest))
}

// VersionsOnRung lists a model's versions on a rung, the latest to step there first.
func (r Records) VersionsOnRung(ctx context.Context, model, rung string) ([]registry.Version, error) {
	return r.versions(ctx, `WHERE m.name = ? AND v.rung = ? ORDER BY v.rung_since DESC, v.number DESC`, model, rung)
}

// Versions lists the versions of a model, newest first.
func (r Records) Versions(ctx context.Context, model string, p Page) ([]registry.Version, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.versions(ctx, `WHERE m.name = ? AND v.number < ? ORDER BY v.number DESC LIMIT ?`, model, before, p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(v registry.Version) string { return strconv.Itoa(v.Number) })
	return items, next, nil
}

// Profile returns the reference profile of a version, nil when it has none.
func (r Records) Profile(ctx context.Context, model string, number int) (*registry.Profile, error) {
	var raw sql.NullString
	err := r.q.QueryRowContext(ctx, `SELECT v.profile FROM versions v JOIN models m ON m.id = v.model_id WHERE m.name = ? AND v.number = ?`, model, number).Scan(&raw)
	if err != nil {
		return nil, one(err)
	}
	var p *registry.Profile
	err = fromJSON(raw, &p)
	return p, err
}

// SetRung moves a version to a rung.
func (r Records) SetRung(ctx context.Context, model string, number int, rung string, now time.Time) error {
	_, err := r.q.ExecContext(ctx, `UPDATE versions SET rung = ?, rung_since = ? WHERE number = ? AND model_id = (SELECT id FROM models WHERE name = ?)`,
		rung, toMillis(now), number, model)
	return err
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
