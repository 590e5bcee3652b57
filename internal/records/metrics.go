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
	if e.Kind != evidence.EvaluationKind {
		return nil
	}
	data := ""
	if e.Evaluation != nil {
		data = e.Evaluation.Data
	}
	for name, value := range e.Metrics {
		if _, err := r.q.exec(ctx, `INSERT INTO metrics (version_id, name, value, evidence_id, measured_on)
			SELECT version_id, ?, ?, id, ? FROM evidence WHERE id = ?
			ON CONFLICT (version_id, name) DO UPDATE SET value = excluded.value, evidence_id = excluded.evidence_id,
				measured_on = excluded.measured_on`, name, value, data, id); err != nil {
			return err
		}
	}
	return nil
}
