package records

import (
	"context"
	"database/sql"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/metric"
)

// metricColumns are what scanMetric reads.
const metricColumns = `x.version_id, x.name, x.value, x.claimed, x.evidence_id, x.measured_on,
	(SELECT e.added_at FROM evidence e WHERE e.id = x.evidence_id)`

// metricsOf selects the metrics of a list of versions.
const metricsOf = `SELECT ` + metricColumns + ` FROM metrics x WHERE x.version_id IN ?`

// metricAdder takes a metric of a version; measured is nil where it is only claimed.
type metricAdder func(id int64, name string, value float64, measured *metric.Measured)

func scanMetric(rows *sql.Rows, add metricAdder) error {
	var id int64
	var name, data string
	var value float64
	var claimed sql.NullFloat64
	var report, at sql.NullInt64
	if err := rows.Scan(&id, &name, &value, &claimed, &report, &data, &at); err != nil {
		return err
	}
	if !report.Valid {
		add(id, name, value, nil)
		return nil
	}
	var said *float64
	if claimed.Valid {
		said = &claimed.Float64
	}
	m := metric.Took(value, said, evidence.ID(report.Int64), data, fromMillis(at.Int64))
	add(id, name, value, &m)
	return nil
}

// measured writes down the metrics that a report measured, in place of those that were there.
func (r View) measured(ctx context.Context, id int64, e *evidence.Evidence) error {
	metrics, data := e.Measures()
	for name, value := range metrics {
		if _, err := r.q.exec(ctx, `INSERT INTO metrics (version_id, name, value, evidence_id, measured_on)
			SELECT version_id, ?, ?, id, ? FROM evidence WHERE id = ?
			ON CONFLICT (version_id, name) DO UPDATE SET value = excluded.value, evidence_id = excluded.evidence_id,
				measured_on = excluded.measured_on`, name, value, data, id); err != nil {
			return err
		}
	}
	return nil
}

// meaningsOf selects what the metrics of the models of some versions mean; the versions stand behind it.
const meaningsOf = `SELECT v.id, x.name, x.unit, x.better FROM metric_meanings x
	JOIN versions v ON v.model_id = x.model_id WHERE v.id IN `

// scanMeaning reads what a metric means for a version.
func scanMeaning(rows *sql.Rows, of func(id int64) *metric.Meanings) error {
	var id int64
	var name string
	var m metric.Meaning
	err := rows.Scan(&id, &name, &m.Unit, &m.Better)
	into := of(id)
	if *into == nil {
		*into = metric.Meanings{}
	}
	(*into)[name] = m
	return err
}

// Meanings is what the metrics of a model mean.
func (r View) Meanings(ctx context.Context, model string) (metric.Meanings, error) {
	var out metric.Meanings
	err := r.each(ctx, write(`SELECT m.id, x.name, x.unit, x.better FROM metric_meanings x
		JOIN models m ON m.id = x.model_id WHERE m.name = ?`, model), func(rows *sql.Rows) error {
		return scanMeaning(rows, func(int64) *metric.Meanings { return &out })
	})
	return out, err
}

// SetMeanings puts what the metrics of a model mean in the place of what they meant.
func (r View) SetMeanings(ctx context.Context, model string, mean metric.Meanings) error {
	for name, m := range mean {
		if _, err := r.q.exec(ctx, `INSERT INTO metric_meanings (model_id, name, unit, better)
			SELECT id, ?, ?, ? FROM models WHERE name = ?
			ON CONFLICT (model_id, name) DO UPDATE SET unit = excluded.unit, better = excluded.better`, name, m.Unit,
			m.Better, model); err != nil {
			return err
		}
	}
	return nil
}

// Better is which way a metric is better by what was said for models in sight, where they agree.
func (r View) Better(ctx context.Context, name string) (metric.Way, error) {
	ways, err := r.texts(ctx, write(`SELECT DISTINCT x.better FROM metric_meanings x JOIN models m ON m.id = x.model_id
		WHERE x.name = ? AND x.better <> '' AND ?`, name, r.sees("m.project")))
	if err != nil || len(ways) != 1 {
		return "", err
	}
	return metric.Way(ways[0]), nil
}
