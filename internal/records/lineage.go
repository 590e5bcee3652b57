package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"time"

	"innerladder/internal/core/ladder"
	"innerladder/internal/core/lineage"
)

// The kinds of nodes in the lineage, as they are stored.
const (
	VersionNode = 1
	DataNode    = 2
	RunNode     = 3
	CodeNode    = 4
)

// Node is one thing in the lineage.
type Node struct {
	Kind int
	ID   int64
}

// Link says that From was made from To.
type Link struct {
	From     Node
	Relation string
	To       Node
}

func (r View) link(ctx context.Context, from Node, relation string, to Node) error {
	_, err := r.q.exec(ctx,
		`INSERT INTO links (from_kind, from_id, relation, to_kind, to_id) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT DO NOTHING`,
		from.Kind, from.ID, relation, to.Kind, to.ID)
	return err
}

// linkTo links to what a query finds.
func (r View) linkTo(ctx context.Context, from Node, relation string, kind int, query string, args ...any) error {
	to := Node{Kind: kind}
	if err := r.q.row(ctx, query, args...).Scan(&to.ID); err != nil {
		return one(err)
	}
	return r.link(ctx, from, relation, to)
}

const dataID = `SELECT id FROM data_sets WHERE name = ? AND number = ?`

// byData gives the arguments of dataID for a revision of a data set; they find none where ref
// names none.
func byData(ref string) []any {
	d, err := lineage.ParseDataRef("data", ref)
	if err != nil {
		return []any{"", 0}
	}
	return []any{d.Name, d.Number}
}

func (r View) linkCodeAndData(ctx context.Context, from Node, code *lineage.Code, data []lineage.DataUse) error {
	for _, d := range data {
		if err := r.linkTo(ctx, from, d.Role, DataNode, dataID, byData(d.Data)...); err != nil {
			return err
		}
	}
	if code == nil || code.Commit == "" {
		return nil
	}
	if _, err := r.q.exec(ctx, `INSERT INTO codes (repository, revision) VALUES (?, ?) ON CONFLICT DO NOTHING`,
		code.Repository, code.Commit); err != nil {
		return err
	}
	return r.linkTo(ctx, from, lineage.FromCode, CodeNode,
		`SELECT id FROM codes WHERE repository = ? AND revision = ?`, code.Repository, code.Commit)
}

// LinkEvaluation says that a version was evaluated on a revision of a data set, which
// may happen after it was registered.
func (r View) LinkEvaluation(ctx context.Context, version, data string) error {
	from := Node{Kind: VersionNode}
	if err := r.q.row(ctx, versionID, byRef(version)...).Scan(&from.ID); err != nil {
		return one(err)
	}
	return r.linkTo(ctx, from, lineage.EvaluatedOn, DataNode, dataID, byData(data)...)
}

// VersionNode finds a version's node.
func (r View) VersionNode(ctx context.Context, ref string) (Node, error) {
	n := Node{Kind: VersionNode}
	return n, one(r.q.row(ctx, versionID, byRef(ref)...).Scan(&n.ID))
}

// DataNodes finds the nodes of a data set's revisions, of all when the ref has no
// number.
func (r View) DataNodes(ctx context.Context, ref lineage.DataRef) ([]Node, error) {
	rows, err := r.q.rows(ctx,
		`SELECT id FROM data_sets WHERE name = ? AND ? AND ?
			ORDER BY number DESC LIMIT 200`, ref.Name, orAll(ref.Number > 0, `number = ?`, ref.Number),
		r.sees("project"))
	return collect(rows, err, scanNode(DataNode))
}

// CodeNodes finds the nodes of a commit, given whole or by its beginning.
func (r View) CodeNodes(ctx context.Context, commit string) ([]Node, error) {
	rows, err := r.q.rows(ctx,
		`SELECT c.id FROM codes c WHERE revision >= ? AND revision < ? AND ? ORDER BY id LIMIT 50`,
		commit, commit+"\U0010ffff", r.seesCode())
	return collect(rows, err, scanNode(CodeNode))
}

// seesCode is the condition that a commit c is one of something that may be seen.
func (r View) seesCode() piece {
	return orAll(!r.sight.All, `(EXISTS (SELECT 1 FROM links l JOIN versions v ON v.id = l.from_id
		JOIN models m ON m.id = v.model_id
			WHERE l.to_kind = 4 AND l.to_id = c.id AND l.from_kind = 1 AND ?)
		OR EXISTS (SELECT 1 FROM links l JOIN runs n ON n.number = l.from_id
			WHERE l.to_kind = 4 AND l.to_id = c.id AND l.from_kind = 3 AND ?))`, r.sees("m.project"),
		r.sees("n.project"))
}

func scanNode(kind int) func(*sql.Rows) (Node, error) {
	return func(rows *sql.Rows) (Node, error) {
		n := Node{Kind: kind}
		err := rows.Scan(&n.ID)
		return n, err
	}
}

// MadeFrom lists the links from nodes to what they were made from, and MadeInto those
// from what was made from them; at most `most`.
func (r View) MadeFrom(ctx context.Context, nodes []Node, most int) ([]Link, error) {
	return r.links(ctx, "from", nodes, most)
}

// MadeInto lists the links to what was made from nodes.
func (r View) MadeInto(ctx context.Context, nodes []Node, most int) ([]Link, error) {
	return r.links(ctx, "to", nodes, most)
}

func idsByKind(nodes []Node) map[int]list {
	out := map[int]list{}
	for _, n := range nodes {
		out[n.Kind] = append(out[n.Kind], n.ID)
	}
	return out
}

func (r View) links(ctx context.Context, side string, nodes []Node, most int) ([]Link, error) {
	byKind := idsByKind(nodes)
	var out []Link
	for kind := VersionNode; kind <= CodeNode; kind++ {
		ids := byKind[kind]
		if len(ids) == 0 || len(out) >= most {
			continue
		}
		rows, err := r.q.rows(ctx,
			`SELECT from_kind, from_id, relation, to_kind, to_id FROM links WHERE `+side+`_kind = ? AND `+side+`_id IN ?
				LIMIT ?`,
			kind, ids, most-len(out))
		found, err := collect(rows, err, func(rows *sql.Rows) (Link, error) {
			var l Link
			err := rows.Scan(&l.From.Kind, &l.From.ID, &l.Relation, &l.To.Kind, &l.To.ID)
			return l, err
		})
		if err != nil {
			return nil, err
		}
		out = append(out, found...)
	}
	return out, nil
}

// LinksInSight leaves out links to or from what may not be seen, so that nothing is
// reached through it either.
func (r View) LinksInSight(ctx context.Context, links []Link) ([]Link, error) {
	if r.sight.All {
		return links, nil
	}
	var nodes []Node
	for _, l := range links {
		nodes = append(nodes, l.From, l.To)
	}
	seen, err := r.Describe(ctx, nodes)
	return slices.DeleteFunc(links, func(l Link) bool {
		_, from := seen[l.From]
		_, to := seen[l.To]
		return !from || !to
	}), err
}

// Describe names nodes and says the most important thing about each.
func (r View) Describe(ctx context.Context, nodes []Node) (map[Node]lineage.Node, error) {
	byKind := idsByKind(nodes)
	out := map[Node]lineage.Node{}
	for _, part := range []struct {
		kind  int
		as    lineage.NodeKind
		seen  piece
		query string
	}{
		{VersionNode, lineage.VersionNode, r.sees("m.project"), `SELECT v.id, m.name || '@' || v.number,
			CASE WHEN v.deleted_at IS NULL THEN v.rung ELSE 'deleted' END ||
			CASE WHEN m.vetted_by IS NULL THEN '' ELSE ', vetted model' END
			FROM versions v JOIN models m ON m.id = v.model_id WHERE ? AND v.id IN ?`},
		{DataNode, lineage.DataNode, r.sees("project"), `SELECT id, name || '#' || number,
			CASE WHEN rows > 0 THEN rows || ' rows' ELSE '' END FROM data_sets WHERE ? AND id IN ?`},
		{RunNode, lineage.RunNode, r.sees("project"), `SELECT number, 'run-' || number,
			state || ', by ' || by || CASE WHEN machine = '' THEN '' ELSE ' on ' || machine END
			FROM runs WHERE ? AND number IN ?`},
		{
			CodeNode, lineage.CodeNode, r.seesCode(),
			`SELECT c.id, c.revision, c.repository FROM codes c WHERE ? AND c.id IN ?`,
		},
	} {
		ids := byKind[part.kind]
		if len(ids) == 0 {
			continue
		}
		if err := r.each(ctx, write(part.query, part.seen, ids), func(rows *sql.Rows) error {
			n := lineage.Node{Kind: part.as}
			key := Node{Kind: part.kind}
			err := rows.Scan(&key.ID, &n.ID, &n.Detail)
			out[key] = n
			return err
		}); err != nil {
			return nil, err
		}
	}
	if ids := byKind[VersionNode]; len(ids) > 0 {
		if err := r.each(ctx, write(inForce+` WHERE l.version_id IN ? ORDER BY e.name`, ids),
			func(rows *sql.Rows) error {
				key := Node{Kind: VersionNode}
				var endpoint string
				err := rows.Scan(&key.ID, &endpoint)
				n := out[key]
				n.Answering = append(n.Answering, endpoint)
				out[key] = n
				return err
			}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// inForce reads which versions are in the splits in force of which endpoints.
const inForce = `SELECT l.version_id, e.name FROM endpoints e JOIN lanes l ON l.endpoint_id = e.id
	AND l.split = (SELECT max(number) FROM splits WHERE endpoint_id = e.id)`

// AddDataSet adds a revision of a data set and gives it the next number, which is set in
// d together with its ref.
func (r View) AddDataSet(ctx context.Context, d *lineage.DataSet) error {
	schema, err := json.Marshal(d.Schema)
	if err != nil {
		return err
	}
	err = r.q.row(ctx, `INSERT INTO data_sets (name, number, project, address, digest, rows, size, schema,
		description, added_by, added_at)
		VALUES (?, 1 + (SELECT coalesce(max(number), 0) FROM data_sets WHERE name = ?), ?, ?, ?, ?, ?, ?, ?, ?, ?)
		RETURNING number`, d.Name, d.Name, d.Project, d.Address, d.Digest, d.Rows, d.Size, string(schema),
		d.Description, d.AddedBy,
		toMillis(d.AddedAt)).Scan(&d.Number)
	d.Ref = lineage.DataRef{Name: d.Name, Number: d.Number}.String()
	return err
}

func (r View) dataSets(ctx context.Context, clause string, args ...any) ([]lineage.DataSet, error) {
	rows, err := r.q.rows(ctx,
		`SELECT name, number, project, address, digest, rows, size, schema, description, added_by, added_at
			FROM data_sets d
			WHERE ? AND ?`, r.sees("project"), write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (lineage.DataSet, error) {
		var d lineage.DataSet
		var schema string
		var at int64
		if err := rows.Scan(&d.Name, &d.Number, &d.Project, &d.Address, &d.Digest, &d.Rows, &d.Size, &schema,
			&d.Description, &d.AddedBy, &at); err != nil {
			return d, err
		}
		d.Ref, d.AddedAt = lineage.DataRef{Name: d.Name, Number: d.Number}.String(), fromMillis(at)
		return d, json.Unmarshal([]byte(schema), &d.Schema)
	})
}

// DataSets lists the newest revision of every data set by name, or all revisions of
// one, newest first.
func (r View) DataSets(ctx context.Context, name string, p Page) ([]lineage.DataSet, string, error) {
	if name != "" {
		before, err := beforeNumber(p.After)
		if err != nil {
			return nil, "", err
		}
		items, err := r.dataSets(ctx, `name = ? AND number < ? ORDER BY number DESC LIMIT ?`, name, before, p.Limit+1)
		items, next := cut(items, p.Limit, func(d lineage.DataSet) string { return strconv.Itoa(d.Number) })
		return items, next, err
	}
	items, err := r.dataSets(ctx, `name > ? AND number = (SELECT max(number) FROM data_sets n WHERE n.name = d.name)
		ORDER BY name LIMIT ?`, p.After, p.Limit+1)
	items, next := cut(items, p.Limit, func(d lineage.DataSet) string { return d.Name })
	return items, next, err
}

// DataSet finds a revision of a data set.
func (r View) DataSet(ctx context.Context, ref lineage.DataRef) (*lineage.DataSet, error) {
	return single(r.dataSets(ctx, `name = ? AND number = ?`, ref.Name, ref.Number))
}

// NewestDataSet finds the newest revision of a data set.
func (r View) NewestDataSet(ctx context.Context, name string) (*lineage.DataSet, error) {
	return single(r.dataSets(ctx, `name = ? ORDER BY number DESC LIMIT 1`, name))
}

// SameDataSet finds the revision of a data set with a digest, or with an address when
// the digest is not known.
func (r View) SameDataSet(ctx context.Context, name, digest, address string) (*lineage.DataSet, error) {
	return single(r.dataSets(ctx, `name = ? AND digest = ? AND (digest <> '' OR address = ?)
		ORDER BY number DESC LIMIT 1`, name, digest, address))
}

// AddRun adds a run and gives it the next number, which is set in it together with its
// ref.
func (r View) AddRun(ctx context.Context, run *lineage.Run) error {
	code, err := optionalJSON(run.Code)
	if err != nil {
		return err
	}
	err = r.q.row(ctx,
		`INSERT INTO runs (project, model, title, state, by, machine, started, code) VALUES (?, ?, ?, ?, ?, ?, ?, ?)
			RETURNING number`,
		run.Project, run.Model, run.Title, run.State, run.By, run.Machine, toMillis(run.Started), code).
		Scan(&run.Number)
	if err != nil {
		return err
	}
	run.Ref = lineage.RunRef(run.Number)
	if err := r.PutRunParams(ctx, run.Number, run.Params); err != nil {
		return err
	}
	return r.linkCodeAndData(ctx, Node{RunNode, run.Number}, run.Code, run.Data)
}

// PutRunParams adds parameters to a run, or changes them.
func (r View) PutRunParams(ctx context.Context, run int64, params map[string]string) error {
	for name, value := range params {
		if _, err := r.q.exec(ctx,
			`INSERT INTO run_params (run, name, value) VALUES (?, ?, ?) ON CONFLICT (run, name) DO UPDATE
				SET value = excluded.value`, run, name, value); err != nil {
			return err
		}
	}
	return nil
}

// PutPoints adds points to the curves of a run; a later point at the same step takes
// the place of the earlier.
func (r View) PutPoints(ctx context.Context, run int64, points []lineage.Point) error {
	for _, p := range points {
		if _, err := r.q.exec(ctx, `INSERT INTO run_points (run, metric, step, value, at) VALUES (?, ?, ?, ?, ?)
			ON CONFLICT (run, metric, step) DO UPDATE SET value = excluded.value, at = excluded.at`, run, p.Metric,
			p.Step, p.Value, toMillis(p.At)); err != nil {
			return err
		}
	}
	return nil
}

// CloseRun ends a run.
func (r View) CloseRun(ctx context.Context, run int64, state lineage.RunState, note string, now time.Time) error {
	_, err := r.q.exec(ctx, `UPDATE runs SET state = ?, note = ?, ended = ? WHERE number = ?`, state, note,
		toMillis(now), run)
	return err
}

// Run finds a run with its parameters, last metrics, data and versions.
func (r View) Run(ctx context.Context, number int64) (*lineage.Run, error) {
	return single(r.runs(ctx, `number = ?`, number))
}

// Runs lists runs, newest first; model narrows them down when given.
func (r View) Runs(ctx context.Context, model string, p Page) ([]lineage.Run, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.runs(ctx, `number < ? AND ? ORDER BY number DESC LIMIT ?`, before,
		orAll(model != "", `model = ?`, model), p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(run lineage.Run) string { return strconv.FormatInt(run.Number, 10) })
	return items, next, nil
}

func (r View) runs(ctx context.Context, clause string, args ...any) ([]lineage.Run, error) {
	rows, err := r.q.rows(ctx,
		`SELECT number, project, model, title, state, by, machine, started, ended, code, note FROM runs
			WHERE ? AND ?`, r.sees("project"), write(clause, args...))
	out, err := collect(rows, err, func(rows *sql.Rows) (lineage.Run, error) {
		run := lineage.Run{Params: map[string]string{}, Metrics: map[string]float64{}}
		var started int64
		var ended sql.NullInt64
		var code sql.NullString
		if err := rows.Scan(&run.Number, &run.Project, &run.Model, &run.Title, &run.State, &run.By, &run.Machine,
			&started, &ended, &code, &run.Note); err != nil {
			return run, err
		}
		run.Ref, run.Started, run.Ended = lineage.RunRef(run.Number), fromMillis(started), optionalTime(ended)
		return run, fromJSON(code, &run.Code)
	})
	if err != nil || len(out) == 0 {
		return out, err
	}
	at := map[int64]*lineage.Run{}
	ids := make(list, len(out))
	for i := range out {
		at[out[i].Number], ids[i] = &out[i], out[i].Number
	}
	var id int64
	var name, value string
	return out, errors.Join(
		r.each(ctx, write(`SELECT run, name, value FROM run_params WHERE run IN ?`, ids), func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name, &value)
			at[id].Params[name] = value
			return err
		}),
		// The bare column beside max is that of the row with the largest step.
		r.each(ctx, write(`SELECT run, metric, value, max(step) FROM run_points WHERE run IN ?
			GROUP BY run, metric`, ids), func(rows *sql.Rows) error {
			var x float64
			var step int64
			err := rows.Scan(&id, &name, &x, &step)
			at[id].Metrics[name] = x
			return err
		}),
		r.each(ctx, write(`SELECT l.from_id, l.relation, d.name || '#' || d.number FROM links l
			JOIN data_sets d ON d.id = l.to_id
			WHERE l.from_kind = 3 AND l.to_kind = 2 AND ? AND l.from_id IN ? ORDER BY d.name`, r.sees("d.project"),
			ids), func(rows *sql.Rows) error {
			err := rows.Scan(&id, &value, &name)
			at[id].Data = append(at[id].Data, lineage.DataUse{Data: name, Role: value})
			return err
		}),
		r.each(ctx, write(`SELECT l.to_id, m.name || '@' || v.number FROM links l JOIN versions v ON v.id = l.from_id
			JOIN models m ON m.id = v.model_id
			WHERE l.to_kind = 3 AND l.from_kind = 1 AND v.deleted_at IS NULL AND ? AND l.to_id IN ? ORDER BY v.id`,
			r.sees("m.project"), ids), func(rows *sql.Rows) error {
			err := rows.Scan(&id, &name)
			at[id].Versions = append(at[id].Versions, name)
			return err
		}))
}

// Curves reads the curves of a run, each thinned to about `most` points that are evenly
// spread; the last point always stays.
func (r View) Curves(ctx context.Context, run int64, most int) ([]lineage.Curve, error) {
	counts := map[string]int{}
	var names []string
	if err := r.each(ctx, write(`SELECT metric, count(*) FROM run_points WHERE run = ? GROUP BY metric
		ORDER BY metric`, run), func(rows *sql.Rows) error {
		var name string
		var n int
		err := rows.Scan(&name, &n)
		names, counts[name] = append(names, name), n
		return err
	}); err != nil {
		return nil, err
	}
	out := []lineage.Curve{}
	for _, name := range names {
		stride := (counts[name] + most - 1) / most
		c := lineage.Curve{Run: lineage.RunRef(run), Metric: name, Points: []lineage.Point{}, Thinned: stride > 1}
		if err := r.each(ctx, write(`SELECT step, value, at
			FROM (SELECT step, value, at, row_number() OVER (ORDER BY step) AS k FROM run_points
			WHERE run = ? AND metric = ?) WHERE k % ? = 0 OR k = ?
			ORDER BY step`, run, name, stride, counts[name]), func(rows *sql.Rows) error {
			p := lineage.Point{Metric: name}
			var at int64
			err := rows.Scan(&p.Step, &p.Value, &at)
			p.At = fromMillis(at)
			c.Points = append(c.Points, p)
			return err
		}); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// LaneOf finds which version a lane of a split had, by the endpoint's id and the lane's
// position.
func (r View) LaneOf(ctx context.Context, endpoint int64, split, position int) (lineage.Answer, error) {
	a := lineage.Answer{Split: split}
	err := r.q.row(ctx, `SELECT e.name, l.kind, m.name || '@' || v.number FROM lanes l
		JOIN endpoints e ON e.id = l.endpoint_id
		JOIN versions v ON v.id = l.version_id JOIN models m ON m.id = v.model_id AND ?
		WHERE l.endpoint_id = ? AND l.split = ? AND l.position = ?`, r.sees("m.project"), endpoint, split, position).
		Scan(&a.Endpoint, &a.Lane, &a.Version)
	return a, one(err)
}

// ApprovalBefore finds the promotion that last brought a version up to a rung or above
// before a moment, and who signed it with yes.
func (r View) ApprovalBefore(ctx context.Context, version string,
	at time.Time,
) (id string, signedBy []string, err error) {
	var number int
	err = r.q.row(ctx,
		`SELECT number FROM promotions WHERE version_id = ? AND state = 'carried_out' AND closed_at <= ?
			ORDER BY closed_at DESC LIMIT 1`, versionOf(version), toMillis(at)).Scan(&number)
	if err != nil {
		return "", nil, one(err)
	}
	return ladder.ID(number), signedBy,
		r.each(ctx, write(`SELECT by FROM answers WHERE promotion = ? AND answer = 'yes' AND at <= ?
			ORDER BY at`, number, toMillis(at)), func(rows *sql.Rows) error {
			var by string
			err := rows.Scan(&by)
			signedBy = append(signedBy, by)
			return err
		})
}
