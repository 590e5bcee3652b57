package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"

	"innerladder/internal/core/job"
)

// AddJob adds a job and gives it the next number, which is set in j.
func (r View) AddJob(ctx context.Context, j *job.Job, about string) error {
	var number int64
	err := r.q.row(ctx, `INSERT INTO jobs (project, kind, about, state, body) VALUES (?, ?, ?, ?, '{}')
		RETURNING number`, j.Project, j.Kind, about, string(j.State)).Scan(&number)
	if err != nil {
		return err
	}
	j.ID = job.ID(number)
	return r.SetJob(ctx, number, j)
}

// SetJob keeps how a job is by now.
func (r View) SetJob(ctx context.Context, number int64, j *job.Job) error {
	body, err := json.Marshal(j)
	if err != nil {
		return err
	}
	_, err = r.q.exec(ctx, `UPDATE jobs SET state = ?, body = ? WHERE number = ?`, string(j.State), string(body),
		number)
	return err
}

func (r View) jobs(ctx context.Context, clause string, args ...any) ([]job.Job, error) {
	rows, err := r.q.rows(ctx, `SELECT j.body FROM jobs j WHERE ? AND ?`, r.sees("j.project"), write(clause, args...))
	return collect(rows, err, func(rows *sql.Rows) (job.Job, error) {
		var j job.Job
		var body string
		if err := rows.Scan(&body); err != nil {
			return j, err
		}
		return j, json.Unmarshal([]byte(body), &j)
	})
}

// Job finds a job by number.
func (r View) Job(ctx context.Context, number int64) (*job.Job, error) {
	return single(r.jobs(ctx, `j.number = ?`, number))
}

// Jobs lists jobs, newest first; about, a version's ref, narrows it down when it is given.
func (r View) Jobs(ctx context.Context, about string, p Page) ([]job.Job, string, error) {
	before, err := beforeNumber(p.After)
	if err != nil {
		return nil, "", err
	}
	items, err := r.jobs(ctx, `j.number < ? AND (? = '' OR j.about = ?) ORDER BY j.number DESC LIMIT ?`, before, about,
		about, p.Limit+1)
	if err != nil {
		return nil, "", err
	}
	items, next := cut(items, p.Limit, func(j job.Job) string { return strings.TrimPrefix(j.ID, "J-") })
	return items, next, nil
}

// JobsUnderWay lists the jobs that have not ended, in the order in which they began.
func (r View) JobsUnderWay(ctx context.Context) ([]job.Job, error) {
	return r.jobs(ctx, `j.state IN ('waiting', 'running') ORDER BY j.number`)
}

// JobsEnded lists the jobs that have ended and whose files are kept.
func (r View) JobsEnded(ctx context.Context) ([]job.Job, error) {
	return r.jobs(ctx, `j.state NOT IN ('waiting', 'running') AND NOT coalesce(j.body ->> 'forgotten', 0)
		ORDER BY j.number`)
}
