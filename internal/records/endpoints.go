package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"strconv"
	"time"

	"innerladder/internal/core/ladder"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
)

// AddEndpoint adds an endpoint.
func (r View) AddEndpoint(ctx context.Context, e traffic.Endpoint) error {
	terms, err := json.Marshal(e.Terms)
	if err != nil {
		return err
	}
	requests, err := json.Marshal(e.Requests)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO endpoints (name, model_id, environment_id, rung, description, terms,
		repeatable, checked, sticky, requests, created_by, created_at)
		VALUES (?, (SELECT id FROM models WHERE name = ?), (SELECT id FROM environments WHERE name = ?),
			?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		e.Name, e.Model, e.Environment, e.Rung, e.Description, string(terms), e.Repeatable, e.Checked, e.Sticky,
		string(requests), e.CreatedBy, toMillis(e.CreatedAt))
	return err
}

// SetEndpoint changes what can be changed of an endpoint.
func (r View) SetEndpoint(ctx context.Context, e traffic.Endpoint) error {
	terms, err := json.Marshal(e.Terms)
	if err != nil {
		return err
	}
	requests, err := json.Marshal(e.Requests)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE endpoints SET rung = ?, description = ?, terms = ?, repeatable = ?, checked = ?,
		sticky = ?, requests = ? WHERE name = ?`, e.Rung, e.Description, string(terms), e.Repeatable, e.Checked,
		e.Sticky, string(requests), e.Name)
	if err != nil {
		return err
	}
	return r.SetWatches(ctx, e.Name, e.Watches)
}

// RemoveEndpoint takes an endpoint away, with its callers' keys. One that never had a split is gone
// whole; another keeps its name and its splits, the last of which must have no lanes.
func (r View) RemoveEndpoint(ctx context.Context, e *traffic.Endpoint, now time.Time) error {
	if _, err := r.q.exec(ctx, `DELETE FROM mutes WHERE endpoint_id = ?`, e.ID); err != nil {
		return err
	}
	if e.Split == nil {
		if _, err := r.q.exec(ctx, `DELETE FROM callers WHERE endpoint_id = ?`, e.ID); err != nil {
			return err
		}
		_, err := r.q.exec(ctx, `DELETE FROM endpoints WHERE id = ?`, e.ID)
		return err
	}
	if _, err := r.q.exec(ctx, `UPDATE callers SET ended_at = ? WHERE endpoint_id = ? AND ended_at IS NULL`,
		toMillis(now), e.ID); err != nil {
		return err
	}
	_, err := r.q.exec(ctx, `UPDATE endpoints SET removed_at = ? WHERE id = ?`, toMillis(now), e.ID)
	return err
}

func (r View) endpoints(ctx context.Context, clause string, args ...any) ([]traffic.Endpoint, error) {
	rows, err := r.q.rows(ctx, `SELECT e.id, e.name, m.project, m.name, v.name, e.rung, e.description, e.terms,
		e.keyed, e.repeatable, e.checked, e.sticky, e.requests, e.watches, e.custom, e.created_by, e.created_at,
		coalesce((SELECT o.number FROM rollouts o WHERE o.endpoint_id = e.id AND o.ended_at IS NULL), 0)
		FROM endpoints e JOIN models m ON m.id = e.model_id AND e.removed_at IS NULL AND ?
		JOIN environments v ON v.id = e.environment_id ?`,
		r.sees("m.project"), write(clause, args...))
	out, err := collect(rows, err, func(rows *sql.Rows) (traffic.Endpoint, error) {
		var e traffic.Endpoint
		var terms, requests, watches, custom string
		var at, moving int64
		if err := rows.Scan(&e.ID, &e.Name, &e.Project, &e.Model, &e.Environment, &e.Rung, &e.Description, &terms,
			&e.Keyed, &e.Repeatable, &e.Checked, &e.Sticky, &requests, &watches, &custom, &e.CreatedBy, &at,
			&moving); err != nil {
			return e, err
		}
		if e.CreatedAt = fromMillis(at); moving > 0 {
			e.Rollout = rollout.ID(moving)
		}
		return e, errors.Join(json.Unmarshal([]byte(terms), &e.Terms), json.Unmarshal([]byte(requests), &e.Requests),
			json.Unmarshal([]byte(watches), &e.Watches), json.Unmarshal([]byte(custom), &e.Custom))
	})
	if err != nil {
		return nil, err
	}
	for i := range out {
		current, _, err := r.Splits(ctx, out[i].Name, Page{Limit: 1})
		if err != nil {
			return nil, err
		}
		if len(current) > 0 {
			out[i].Split = &current[0]
		}
	}
	return out, nil
}

// Endpoint finds an endpoint by name.
func (r View) Endpoint(ctx context.Context, name string) (*traffic.Endpoint, error) {
	return single(r.endpoints(ctx, `WHERE e.name = ?`, name))
}

// Endpoints lists all endpoints by name.
func (r View) Endpoints(ctx context.Context) ([]traffic.Endpoint, error) {
	return r.endpoints(ctx, `ORDER BY e.name`)
}

// AddSplit adds the next split of an endpoint, whose number is set in s.
func (r View) AddSplit(ctx context.Context, s *traffic.Split) error {
	rules := []byte("[]")
	if len(s.Rules) > 0 {
		var err error
		if rules, err = json.Marshal(s.Rules); err != nil {
			return err
		}
	}
	var id int64
	err := r.q.row(ctx, `INSERT INTO splits (endpoint_id, number, reason, author, made_at, returns_to, leaves,
			contract, rollout, rules, elsewhere)
		SELECT e.id, 1 + (SELECT coalesce(max(number), 0) FROM splits WHERE endpoint_id = e.id),
			?, ?, ?, ?, ?, ?, ?, ?, ?
		FROM endpoints e WHERE e.name = ? RETURNING endpoint_id, number`,
		s.Reason, s.Author, toMillis(s.MadeAt), s.ReturnsTo, s.Leaves, s.Contract,
		rolloutNumber(s.Rollout), string(rules), s.Elsewhere, s.Endpoint).Scan(&id, &s.Number)
	if err != nil {
		return one(err)
	}
	for i, l := range s.Lanes {
		if _, err := r.q.exec(ctx,
			`INSERT INTO lanes (endpoint_id, split, position, kind, version_id, share, tolerance)
				VALUES (?, ?, ?, ?, ?, ?, ?)`,
			id, s.Number, i, l.Kind, versionOf(l.Version), l.Share, l.Tolerance); err != nil {
			return err
		}
	}
	return nil
}

// rolloutNumber is the number of a rollout as it is stored, 0 for none.
func rolloutNumber(id string) int64 {
	n, err := rollout.ParseID("rollout", id)
	if err != nil {
		return 0
	}
	return n
}

// Splits lists the splits of an endpoint, newest first.
func (r View) Splits(ctx context.Context, endpoint string, p Page) ([]traffic.Split, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	rows, err := r.q.rows(ctx, `SELECT s.number, s.reason, s.author, s.made_at, s.returns_to, s.leaves, s.contract,
			s.rollout, s.rules, s.elsewhere, coalesce(n.number, 0), coalesce(n.author, ''), coalesce(n.made_at, 0),
			coalesce(n.reason, '')
		FROM splits s JOIN endpoints e ON e.id = s.endpoint_id
		LEFT JOIN splits n ON n.endpoint_id = s.endpoint_id AND n.leaves = s.number AND n.leaves > 0
		WHERE e.name = ? AND s.number < ? ORDER BY s.number DESC LIMIT ?`, endpoint, before, p.Limit+1)
	items, err := collect(rows, err, func(rows *sql.Rows) (traffic.Split, error) {
		s := traffic.Split{Endpoint: endpoint}
		var left traffic.Left
		var at, leftAt, moving int64
		var rules string
		err := rows.Scan(&s.Number, &s.Reason, &s.Author, &at, &s.ReturnsTo, &s.Leaves, &s.Contract, &moving, &rules,
			&s.Elsewhere, &left.For, &left.By, &leftAt, &left.Why)
		if s.MadeAt = fromMillis(at); moving > 0 {
			s.Rollout = rollout.ID(moving)
		}
		if left.For > 0 {
			left.At = fromMillis(leftAt)
			s.Left = &left
		}
		if err == nil && rules != "[]" {
			err = json.Unmarshal([]byte(rules), &s.Rules)
		}
		return s, err
	})
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(s traffic.Split) string { return strconv.Itoa(s.Number) })
	if len(items) == 0 {
		return items, "", nil
	}
	byNumber := map[int]*traffic.Split{}
	for i := range items {
		byNumber[items[i].Number] = &items[i]
	}
	rows, err = r.q.rows(ctx, `SELECT l.split, l.kind, m.name || '@' || v.number, l.share, l.tolerance FROM lanes l
		JOIN endpoints e ON e.id = l.endpoint_id JOIN versions v ON v.id = l.version_id
		JOIN models m ON m.id = v.model_id
		WHERE e.name = ? AND l.split BETWEEN ? AND ? ORDER BY l.split, l.position`, endpoint,
		items[len(items)-1].Number, items[0].Number)
	_, err = collect(rows, err, func(rows *sql.Rows) (struct{}, error) {
		var split int
		var l traffic.Lane
		err := rows.Scan(&split, &l.Kind, &l.Version, &l.Share, &l.Tolerance)
		byNumber[split].Lanes = append(byNumber[split].Lanes, l)
		return struct{}{}, err
	})
	return items, next, err
}

// SplitAt finds the number of the split of an endpoint that was in force at a time.
func (r View) SplitAt(ctx context.Context, endpoint string, at time.Time) (int, error) {
	var number int
	err := r.q.row(ctx, `SELECT s.number FROM splits s JOIN endpoints e ON e.id = s.endpoint_id
		WHERE e.name = ? AND s.made_at <= ? ORDER BY s.number DESC LIMIT 1`, endpoint, toMillis(at)).Scan(&number)
	return number, one(err)
}

// EndpointsAnsweredBy lists the endpoints whose split in force has callers answered by the
// version, in any environment.
func (r View) EndpointsAnsweredBy(ctx context.Context, version string) ([]string, error) {
	rows, err := r.q.rows(ctx, `SELECT e.name FROM endpoints e JOIN lanes l ON l.endpoint_id = e.id
		AND l.split = (SELECT max(number) FROM splits WHERE endpoint_id = e.id) AND l.kind <> 'shadow'
		WHERE l.version_id = ? ORDER BY e.name`, versionOf(version))
	return collect(rows, err, func(rows *sql.Rows) (string, error) {
		var name string
		err := rows.Scan(&name)
		return name, err
	})
}

// EndpointsUsing lists the endpoints in an environment whose split in force names the
// version.
func (r View) EndpointsUsing(ctx context.Context, version, environment string) ([]string, error) {
	rows, err := r.q.rows(ctx, `SELECT e.name FROM endpoints e JOIN environments v ON v.id = e.environment_id
		JOIN lanes l ON l.endpoint_id = e.id AND l.split = (SELECT max(number) FROM splits WHERE endpoint_id = e.id)
		WHERE v.name = ? AND l.version_id = ? ORDER BY e.name`, environment, versionOf(version))
	return collect(rows, err, func(rows *sql.Rows) (string, error) {
		var name string
		err := rows.Scan(&name)
		return name, err
	})
}

// Answering lists the versions that answer main for endpoints of a project, by model; of one
// model when one is named.
func (r View) Answering(ctx context.Context, project, model string) (map[string][]ladder.Answering, error) {
	out := map[string][]ladder.Answering{}
	return out, r.each(ctx, write(`SELECT m.name, v.number, count(*), max(s.made_at)
		FROM endpoints e JOIN models m ON m.id = e.model_id
			JOIN splits s ON s.endpoint_id = e.id
				AND s.number = (SELECT max(number) FROM splits WHERE endpoint_id = e.id)
			JOIN lanes l ON l.endpoint_id = e.id AND l.split = s.number AND l.kind = 'main'
			JOIN versions v ON v.id = l.version_id
		WHERE m.project = ? AND ? GROUP BY m.name, v.number`,
		project, orAll(model != "", `m.name = ?`, model)), func(rows *sql.Rows) error {
		var name string
		var number int
		var a ladder.Answering
		var since int64
		err := rows.Scan(&name, &number, &a.Endpoints, &since)
		a.Version, a.Since = registry.Ref{Model: name, Number: number}.String(), fromMillis(since)
		out[name] = append(out[name], a)
		return err
	})
}
