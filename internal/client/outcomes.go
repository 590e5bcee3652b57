package client

import (
	"context"
	"strconv"
	"time"

	"innerladder/internal/wire"
)

// TellOutcomes tells the truth of earlier predictions of an endpoint.
func (c *Client) TellOutcomes(ctx context.Context, endpoint string, n wire.NewOutcomes) (wire.OutcomesTaken, error) {
	return call[wire.OutcomesTaken](ctx, c, "POST", path("endpoints", endpoint, "outcomes"), n)
}

// Accuracy says how right the versions of an endpoint were in a window that ends now.
func (c *Client) Accuracy(ctx context.Context, endpoint string, window time.Duration) (wire.Accuracy, error) {
	return call[wire.Accuracy](ctx, c, "GET",
		query(path("endpoints", endpoint, "accuracy"), "window", window.String()), nil)
}

// Outcomes lists single predictions of an endpoint with their truth, the worst or the newest first.
func (c *Client) Outcomes(ctx context.Context, endpoint, version, output string, window time.Duration, worst bool,
	limit int,
) (wire.OutcomesShown, error) {
	return call[wire.OutcomesShown](ctx, c, "GET", query(path("endpoints", endpoint, "outcomes"), "version", version,
		"output", output, "window", window.String(), "worst", strconv.FormatBool(worst), "limit",
		strconv.Itoa(limit)), nil)
}
