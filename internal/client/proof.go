package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strconv"

	"innerladder/internal/core/check"
	"innerladder/internal/core/job"
	"innerladder/internal/core/schedule"
	"innerladder/internal/core/standing"
	"innerladder/internal/wire"
)

// Score begins a job that asks a version for predictions of all rows of a table.
func (c *Client) Score(ctx context.Context, in wire.NewScoring, table io.Reader) (job.Job, error) {
	return sendTable[job.Job](ctx, c, http.MethodPost, query(path("jobs", "score"), scoringPairs(in)...), table)
}

// Evaluate begins a job that does the same and holds the answers against the truth.
func (c *Client) Evaluate(ctx context.Context, in wire.NewEvaluation, table io.Reader) (job.Job, error) {
	return sendTable[job.Job](ctx, c, http.MethodPost, query(path("jobs", "evaluate"), append(scoringPairs(
		in.NewScoring), judgingPairs(in.Judging)...)...), table)
}

// Replay begins a job that asks a version again what callers asked another before.
func (c *Client) Replay(ctx context.Context, in wire.NewReplay) (job.Job, error) {
	return call[job.Job](ctx, c, "POST", path("jobs", "replay"), in)
}

// Check begins a job that asks a version what must come back.
func (c *Client) Check(ctx context.Context, in wire.NewCheck, cases io.Reader) (job.Job, error) {
	return sendTable[job.Job](ctx, c, http.MethodPost, query(path("jobs", "check"), "asked", in.Asked, "environment",
		in.Environment, "name", in.Name), cases)
}

// Importance begins a job that finds out on which inputs a version relies.
func (c *Client) Importance(ctx context.Context, in wire.NewImportance, table io.Reader) (job.Job, error) {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	return sendTable[job.Job](ctx, c, http.MethodPost, query(path("jobs", "importance"), append(scoringPairs(
		in.NewScoring), "target", in.Target, "output", in.Output, "class", in.Class, "rows", number(in.Rows), "rounds",
		number(in.Rounds))...), table)
}

// JobLog shows what a job did and met.
func (c *Client) JobLog(ctx context.Context, id string) (wire.Listed[job.Line], error) {
	return call[wire.Listed[job.Line]](ctx, c, "GET", path("jobs", id, "log"), nil)
}

// Robustness begins a job that asks a version when things are not as they should be.
func (c *Client) Robustness(ctx context.Context, in wire.NewRobustness) (job.Job, error) {
	return call[job.Job](ctx, c, "POST", path("jobs", "robustness"), in)
}

// ReportFile reads the file of a piece of evidence.
func (c *Client) ReportFile(ctx context.Context, id string, w io.Writer) error {
	return c.stream(ctx, path("evidence", id, "file"), func(r io.Reader) error {
		_, err := io.Copy(w, r)
		return err
	})
}

// SetCases sets what every version of a model must answer.
func (c *Client) SetCases(ctx context.Context, model, text, why string) (check.Kept, error) {
	return call[check.Kept](ctx, c, "PUT", path("models", model, "cases"), map[string]string{
		"text": text, "reason": why,
	})
}

// Cases shows what every version of a model must answer.
func (c *Client) Cases(ctx context.Context, model string) (check.Kept, error) {
	return call[check.Kept](ctx, c, "GET", path("models", model, "cases"), nil)
}

// RemoveCases takes the cases of a model away.
func (c *Client) RemoveCases(ctx context.Context, model, why string) (check.Kept, error) {
	return call[check.Kept](ctx, c, "DELETE", query(path("models", model, "cases"), "reason", why), nil)
}

// judgingPairs are the parameters of all that judges answers.
func judgingPairs(in wire.Judging) []string {
	return []string{
		"target", in.Target, "output", in.Output, "weight", in.Weight, "segments", in.Segments, "against", in.Against,
		"at_most", in.AtMost, "at_least", in.AtLeast,
	}
}

// scoringPairs are the parameters of a job that scores.
func scoringPairs(in wire.NewScoring) []string {
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	return []string{
		"asked", in.Asked, "environment", in.Environment, "name", in.Name, "data", in.Data, "from", in.From, "keep",
		in.Keep, "batch", number(in.Batch), "parallel", number(in.Parallel),
	}
}

// sendTable sends a table as the body of a call.
func sendTable[T any](ctx context.Context, c *Client, method, to string, table io.Reader) (out T, err error) {
	req, err := http.NewRequestWithContext(ctx, method, c.server+to, table)
	if err != nil {
		return out, fmt.Errorf("calling %s: %w", c.server, err)
	}
	req.Header.Set("Content-Type", "application/octet-stream")
	return out, c.do(req, &out)
}

// SetStanding has every new version of a model evaluated.
func (c *Client) SetStanding(ctx context.Context, in wire.NewStanding, table io.Reader) (standing.Standing, error) {
	return sendTable[standing.Standing](ctx, c, http.MethodPut, query(path("models", in.Model, "standing"),
		append(judgingPairs(in.Judging), "data", in.Data, "from", in.From, "name", in.Name, "reason", in.Reason)...),
		table)
}

// Standing shows what every new version of a model is evaluated on, and how far each is.
func (c *Client) Standing(ctx context.Context, model string) (wire.StandingShown, error) {
	return call[wire.StandingShown](ctx, c, "GET", path("models", model, "standing"), nil)
}

// RemoveStanding has new versions of a model evaluated on nothing.
func (c *Client) RemoveStanding(ctx context.Context, model, why string) (standing.Standing, error) {
	return call[standing.Standing](ctx, c, "DELETE", query(path("models", model, "standing"), "reason", why), nil)
}

// RunStanding puts a version to the standing evaluation of its model.
func (c *Client) RunStanding(ctx context.Context, ref string) (job.Job, error) {
	return call[job.Job](ctx, c, "POST", path("versions", ref, "standing"), nil)
}

// Jobs lists jobs, newest first, of one version when a ref is given.
func (c *Client) Jobs(ctx context.Context, ref string, p Part) (wire.Listed[job.Job], error) {
	return call[wire.Listed[job.Job]](ctx, c, "GET", query(path("jobs"), "version", ref, "limit", p.limit(), "cursor",
		p.Cursor), nil)
}

// Job shows a job, and how far it is.
func (c *Client) Job(ctx context.Context, id string) (job.Job, error) {
	return call[job.Job](ctx, c, "GET", path("jobs", id), nil)
}

// StopJob stops a job.
func (c *Client) StopJob(ctx context.Context, id, why string) (job.Job, error) {
	return call[job.Job](ctx, c, "POST", path("jobs", id, "stop"), map[string]string{"reason": why})
}

// ResumeJob takes a job up again that was stopped or failed.
func (c *Client) ResumeJob(ctx context.Context, id, why string) (job.Job, error) {
	return call[job.Job](ctx, c, "POST", path("jobs", id, "resume"), map[string]string{"reason": why})
}

// JobFound reads what a job has found: its answers, or the rows that it has put aside.
func (c *Client) JobFound(ctx context.Context, id string, aside bool, format string, w io.Writer) error {
	what := "answers"
	if aside {
		what = "put-aside"
	}
	return c.stream(ctx, query(path("jobs", id, what), "format", format), func(r io.Reader) error {
		_, err := io.Copy(w, r)
		return err
	})
}

// SetSchedule has a table scored again and again.
func (c *Client) SetSchedule(ctx context.Context, n wire.NewSchedule) (schedule.Schedule, error) {
	return call[schedule.Schedule](ctx, c, "PUT", path("schedules", n.Name), n)
}

// Schedules lists what is scored again and again.
func (c *Client) Schedules(ctx context.Context) (wire.Listed[schedule.Schedule], error) {
	return whole[schedule.Schedule](ctx, c, path("schedules"))
}

// Schedule shows a schedule, with its last turns.
func (c *Client) Schedule(ctx context.Context, name string) (schedule.Schedule, error) {
	return call[schedule.Schedule](ctx, c, "GET", path("schedules", name), nil)
}

// RemoveSchedule takes a schedule away.
func (c *Client) RemoveSchedule(ctx context.Context, name, why string) (schedule.Schedule, error) {
	return call[schedule.Schedule](ctx, c, "DELETE", query(path("schedules", name), "reason", why), nil)
}

// PauseSchedule has a schedule rest, or go on.
func (c *Client) PauseSchedule(ctx context.Context, name string, paused bool, why string) (schedule.Schedule, error) {
	return call[schedule.Schedule](ctx, c, "PATCH", path("schedules", name), map[string]any{
		"paused": paused, "reason": why,
	})
}

// TurnNow has a turn of a schedule taken at once.
func (c *Client) TurnNow(ctx context.Context, name, why string) (schedule.Schedule, error) {
	return call[schedule.Schedule](ctx, c, "POST", path("schedules", name, "turns"), map[string]string{"reason": why})
}
