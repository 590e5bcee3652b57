package client

import (
	"context"
	"time"

	"innerladder/internal/core/incident"
	"innerladder/internal/core/rollout"
	"innerladder/internal/wire"
)

// Roll starts a rollout of an endpoint.
func (c *Client) Roll(ctx context.Context, endpoint string, n wire.NewRollout) (rollout.Rollout, error) {
	return call[rollout.Rollout](ctx, c, "POST", path("endpoints", endpoint, "rollouts"), n)
}

// ForeseeRollout says what a rollout would do.
func (c *Client) ForeseeRollout(ctx context.Context, endpoint string, n wire.NewRollout) (wire.Outlook, error) {
	return call[wire.Outlook](ctx, c, "POST", path("endpoints", endpoint, "rollouts", "preview"), n)
}

// Rollouts lists rollouts, newest first; only those that are not over when open is set.
func (c *Client) Rollouts(ctx context.Context, endpoint, candidate string, open bool,
	p Part,
) (wire.Listed[rollout.Rollout], error) {
	only := ""
	if open {
		only = "true"
	}
	return call[wire.Listed[rollout.Rollout]](ctx, c, "GET", query(path("rollouts"), "endpoint", endpoint, "candidate",
		candidate, "open", only, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// Rollout shows a rollout as it looks now.
func (c *Client) Rollout(ctx context.Context, id string) (wire.ShownRollout, error) {
	return call[wire.ShownRollout](ctx, c, "GET", path("rollouts", id), nil)
}

// DoRollout does something with a rollout by hand.
func (c *Client) DoRollout(ctx context.Context, id string, do rollout.Verb, reason string) (wire.ShownRollout, error) {
	return c.ChangeRollout(ctx, id, wire.ChangeRollout{Do: do, Reason: reason})
}

// ChangeRollout does something with a rollout by hand.
func (c *Client) ChangeRollout(ctx context.Context, id string, change wire.ChangeRollout) (wire.ShownRollout, error) {
	return call[wire.ShownRollout](ctx, c, "POST", path("rollouts", id), change)
}

// Plans lists the plans of rollouts.
func (c *Client) Plans(ctx context.Context) (wire.Listed[wire.KeptPlan], error) {
	return call[wire.Listed[wire.KeptPlan]](ctx, c, "GET", path("plans"), nil)
}

// Plan shows a plan by NAME or NAME#REVISION.
func (c *Client) Plan(ctx context.Context, project, name string) (wire.KeptPlan, error) {
	return call[wire.KeptPlan](ctx, c, "GET", query(path("plans", name), "project", project), nil)
}

// PutPlan keeps a revision of a plan as it was written.
func (c *Client) PutPlan(ctx context.Context, project, text, reason string) (wire.KeptPlan, error) {
	return call[wire.KeptPlan](ctx, c, "POST", path("plans"),
		map[string]string{"project": project, "text": text, "reason": reason})
}

// Incidents lists incidents without their reports, newest first.
func (c *Client) Incidents(ctx context.Context, endpoint, version, state string,
	p Part,
) (wire.Listed[incident.Incident], error) {
	return call[wire.Listed[incident.Incident]](ctx, c, "GET", query(path("incidents"), "endpoint", endpoint,
		"version", version, "state", state, "limit", p.limit(), "cursor", p.Cursor), nil)
}

// Incident shows an incident with its report.
func (c *Client) Incident(ctx context.Context, id string) (wire.ShownIncident, error) {
	return call[wire.ShownIncident](ctx, c, "GET", path("incidents", id), nil)
}

// HandleIncident adds to an incident.
func (c *Client) HandleIncident(ctx context.Context, id string, h wire.HandleIncident) (wire.ShownIncident, error) {
	return call[wire.ShownIncident](ctx, c, "POST", path("incidents", id), h)
}

// History lists what served when, newest first; with a time, what served then.
func (c *Client) History(ctx context.Context, endpoint string, at time.Time, p Part,
) (wire.Listed[wire.Served], error) {
	when := ""
	if !at.IsZero() {
		when = at.UTC().Format(time.RFC3339Nano)
	}
	return call[wire.Listed[wire.Served]](ctx, c, "GET", query(path("endpoints", endpoint, "history"), "at", when,
		"limit", p.limit(), "cursor", p.Cursor), nil)
}
