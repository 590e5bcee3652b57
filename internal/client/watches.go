package client

import (
	"context"
	"strconv"
	"time"

	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

// Watches lists where the watches of an endpoint stand.
func (c *Client) Watches(ctx context.Context, endpoint string) (wire.Watches, error) {
	return call[wire.Watches](ctx, c, "GET", path("endpoints", endpoint, "watches"), nil)
}

// PutWatches has an endpoint watched as a YAML text says. based is the revision it was made from, -1 for any.
func (c *Client) PutWatches(ctx context.Context, endpoint, text, why string, based int) (wire.Watches, error) {
	return call[wire.Watches](ctx, c, "PUT", path("endpoints", endpoint, "watches"),
		map[string]string{"text": text, "reason": why}, ifMatch(based)...)
}

// SetWatch has one signal of an endpoint watched otherwise.
func (c *Client) SetWatch(ctx context.Context, endpoint string, r watch.Rule, why string) (wire.Watches, error) {
	return call[wire.Watches](ctx, c, "POST", path("endpoints", endpoint, "watches"), struct {
		watch.Rule
		Reason string `json:"reason"`
	}{r, why})
}

// RemoveWatch has a signal of an endpoint watched as usual again.
func (c *Client) RemoveWatch(ctx context.Context, endpoint, name, why string) (wire.Watches, error) {
	return call[wire.Watches](ctx, c, "DELETE", query(path("endpoints", endpoint, "watches", name), "reason", why), nil)
}

// Mute keeps alerts of watches about a subject from being raised for a time.
func (c *Client) Mute(ctx context.Context, endpoint, subject, why string, length time.Duration) (wire.Watches, error) {
	return call[wire.Watches](ctx, c, "POST", path("endpoints", endpoint, "mutes"),
		map[string]string{"subject": subject, "for": length.String(), "reason": why})
}

// Unmute has alerts about a subject raised again.
func (c *Client) Unmute(ctx context.Context, endpoint, subject, why string) (wire.Watches, error) {
	return call[wire.Watches](ctx, c, "DELETE",
		query(path("endpoints", endpoint, "mutes", subject), "reason", why), nil)
}

// Drift holds the columns of an endpoint's requests and answers against something. version may be empty.
func (c *Client) Drift(ctx context.Context, endpoint string, window time.Duration, against wire.Against,
	version string, first bool,
) (wire.Drift, error) {
	return call[wire.Drift](ctx, c, "GET", query(path("endpoints", endpoint, "drift"), "window", window.String(),
		"against", string(against), "version", version, "first", strconv.FormatBool(first)), nil)
}
