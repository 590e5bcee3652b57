package records

import (
	"context"
	"database/sql"
	"encoding/json"

	"innerladder/internal/core/traffic"
)

// AddContract adds the next contract of an endpoint, whose number is set in c.
func (r View) AddContract(ctx context.Context, c *traffic.Contract) error {
	signature, err := json.Marshal(c.Signature)
	if err != nil {
		return err
	}
	return one(r.q.row(ctx, `INSERT INTO contracts (endpoint_id, number, version_id, signature, reason, author, made_at)
		SELECT e.id, 1 + (SELECT coalesce(max(number), 0) FROM contracts WHERE endpoint_id = e.id), ?, ?, ?, ?, ?
		FROM endpoints e WHERE e.name = ? RETURNING number`,
		versionOf(c.Version), string(signature), c.Reason, c.Author, toMillis(c.MadeAt), c.Endpoint).Scan(&c.Number))
}

// Contracts lists the contracts of an endpoint, the newest first.
func (r View) Contracts(ctx context.Context, endpoint string) ([]traffic.Contract, error) {
	return r.contracts(ctx, write(`e.name = ?`, endpoint))
}

// ContractsToKeep lists, for each model of a project, the contracts that its versions can be put
// in force under: for each endpoint the one in force and those decided after it, in ascending
// order. Of one model when one is named.
func (r View) ContractsToKeep(ctx context.Context, project, model string) (map[string][]traffic.Decided, error) {
	all, err := r.contracts(ctx, write(`m.project = ? AND ? AND c.number >= ?`, project,
		orAll(model != "", `m.name = ?`, model), contractInForce))
	if err != nil {
		return nil, err
	}
	out := map[string][]traffic.Decided{}
	for i := len(all) - 1; i >= 0; i-- { // endpoint by endpoint, in ascending order
		c := all[i]
		list := out[c.Model]
		if n := len(list); n == 0 || list[n-1].Newest().Endpoint != c.Endpoint {
			list = append(list, nil)
		}
		list[len(list)-1] = append(list[len(list)-1], c)
		out[c.Model] = list
	}
	return out, nil
}

// contractInForce is the number of the contract that the split in force of endpoint e keeps.
var contractInForce = write(`coalesce((SELECT s.contract FROM splits s WHERE s.endpoint_id = e.id
	ORDER BY s.number DESC LIMIT 1), 0)`)

func (r View) contracts(ctx context.Context, where piece) ([]traffic.Contract, error) {
	rows, err := r.q.rows(ctx, `SELECT e.name, place.name, c.number, m.name, m.name || '@' || v.number, c.signature,
			c.reason, c.author, c.made_at, c.number = ?
		FROM contracts c JOIN endpoints e ON e.id = c.endpoint_id AND e.removed_at IS NULL
			JOIN environments place ON place.id = e.environment_id
			JOIN versions v ON v.id = c.version_id JOIN models m ON m.id = e.model_id AND ?
		WHERE ? ORDER BY e.name DESC, c.number DESC`, contractInForce, r.sees("m.project"), where)
	return collect(rows, err, func(rows *sql.Rows) (traffic.Contract, error) {
		var c traffic.Contract
		var signature string
		var at int64
		if err := rows.Scan(&c.Endpoint, &c.Environment, &c.Number, &c.Model, &c.Version, &signature, &c.Reason,
			&c.Author, &at, &c.InForce); err != nil {
			return c, err
		}
		c.MadeAt = fromMillis(at)
		return c, json.Unmarshal([]byte(signature), &c.Signature)
	})
}
