package records

import (
	"context"
	"database/sql"
	"encoding/json"

	"innerladder/internal/core/schedule"
)

// PutSchedule keeps a schedule, in the place of one of the same name.
func (r View) PutSchedule(ctx context.Context, s *schedule.Schedule) error {
	body, err := json.Marshal(s)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO schedules (name, project, body) VALUES (?, ?, ?)
		ON CONFLICT (name) DO UPDATE SET project = excluded.project, body = excluded.body`, s.Name, s.Project,
		string(body))
	return err
}

// RemoveSchedule takes a schedule away.
func (r View) RemoveSchedule(ctx context.Context, name string) error {
	_, err := r.q.exec(ctx, `DELETE FROM schedules WHERE name = ?`, name)
	return err
}

func (r View) schedules(ctx context.Context, clause string, args ...any) ([]schedule.Schedule, error) {
	rows, err := r.q.rows(ctx, `SELECT s.body FROM schedules s WHERE ? AND ?`, r.sees("s.project"),
		write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (schedule.Schedule, error) {
		var s schedule.Schedule
		var body string
		if err := rows.Scan(&body); err != nil {
			return s, err
		}
		return s, json.Unmarshal([]byte(body), &s)
	})
}

// Schedule finds a schedule by name.
func (r View) Schedule(ctx context.Context, name string) (*schedule.Schedule, error) {
	return single(r.schedules(ctx, `s.name = ?`, name))
}

// Schedules lists all schedules by name.
func (r View) Schedules(ctx context.Context) ([]schedule.Schedule, error) {
	return r.schedules(ctx, `1 ORDER BY s.name`)
}
