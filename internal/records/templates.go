package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"innerladder/internal/core/replica"
)

// PutTemplate keeps a template, in the place of one of the same name.
func (r View) PutTemplate(ctx context.Context, t replica.Template) error {
	command, err := json.Marshal(t.Command)
	if err != nil {
		return err
	}
	environment, err := json.Marshal(t.Environment)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `INSERT INTO runner_templates (name, command, environment, description, added_by, added_at)
		VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (name) DO UPDATE SET command = excluded.command,
			environment = excluded.environment, description = excluded.description, added_by = excluded.added_by,
			added_at = excluded.added_at`,
		t.Name, string(command), string(environment), t.Description, t.AddedBy, toMillis(t.AddedAt))
	return err
}

// RemoveTemplate takes a template away.
func (r View) RemoveTemplate(ctx context.Context, name string) error {
	_, err := r.q.exec(ctx, `DELETE FROM runner_templates WHERE name = ?`, name)
	return err
}

// Templates lists all templates by name.
func (r View) Templates(ctx context.Context) ([]replica.Template, error) {
	rows, err := r.q.rows(ctx, `SELECT name, command, environment, description, added_by, added_at
		FROM runner_templates ORDER BY name`)
	return collect(rows, err, func(rows *sql.Rows) (replica.Template, error) {
		var t replica.Template
		var command, environment string
		var at int64
		if err := rows.Scan(&t.Name, &command, &environment, &t.Description, &t.AddedBy, &at); err != nil {
			return t, err
		}
		t.AddedAt = fromMillis(at)
		return t, errors.Join(json.Unmarshal([]byte(command), &t.Command),
			json.Unmarshal([]byte(environment), &t.Environment))
	})
}
