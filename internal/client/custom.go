package client

import (
	"context"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/wire"
)

// CustomSignals are the custom signals of an endpoint, with what was reported of each version in a window that ends
// now.
func (c *Client) CustomSignals(ctx context.Context, endpoint string, window time.Duration) (wire.CustomSignals, error) {
	return call[wire.CustomSignals](ctx, c, "GET",
		query(path("endpoints", endpoint, "custom-signals"), "window", window.String()), nil)
}

// SetCustomSignal says what a custom signal of an endpoint is.
func (c *Client) SetCustomSignal(ctx context.Context, endpoint, name string, e wire.EditCustom) (custom.Signal, error) {
	return call[custom.Signal](ctx, c, "PUT", path("endpoints", endpoint, "custom-signals", name), e)
}

// RemoveCustomSignal takes a custom signal of an endpoint away.
func (c *Client) RemoveCustomSignal(ctx context.Context, endpoint, name, why string) (custom.Signal, error) {
	return call[custom.Signal](ctx, c, "DELETE",
		query(path("endpoints", endpoint, "custom-signals", name), "reason", why), nil)
}

// ReportValues reports values of custom signals.
func (c *Client) ReportValues(ctx context.Context, endpoint string, n wire.NewReports) (wire.ReportsTaken, error) {
	return call[wire.ReportsTaken](ctx, c, "POST", path("endpoints", endpoint, "reports"), n)
}
