package client

import (
	"context"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/wire"
)

// Requests searches the log of an endpoint's requests.
func (c *Client) Requests(ctx context.Context, f wire.RequestFilter) (wire.Requests, error) {
	at := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format(time.RFC3339Nano)
	}
	span := func(d time.Duration) string {
		if d == 0 {
			return ""
		}
		return d.String()
	}
	number := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	trouble := ""
	if f.Trouble {
		trouble = "true"
	}
	return call[wire.Requests](ctx, c, "GET", query(path("requests"), "endpoint", f.Endpoint, "window", span(f.Back),
		"from", at(f.From), "to", at(f.To), "lane", f.Lane, "version", f.Version, "key", f.Key, "outcome", f.Outcome,
		"reason", f.Reason, "status", number(f.Status), "slower", span(f.Slower), "trouble", trouble,
		"where", strings.Join(f.Where, ","), "limit", number(f.Limit), "cursor", f.Cursor, "after", f.After), nil)
}

// Request shows a request that is in a log.
func (c *Client) Request(ctx context.Context, id string) (wire.RequestShown, error) {
	return call[wire.RequestShown](ctx, c, "GET", path("requests", id), nil)
}

// Like lists the requests whose inputs are nearest to those of one.
func (c *Client) Like(ctx context.Context, id string) (wire.LikeIt, error) {
	return call[wire.LikeIt](ctx, c, "GET", path("requests", id, "like"), nil)
}

// TryAgain sends a request again, to another version if one is named.
func (c *Client) TryAgain(ctx context.Context, id, version string) (wire.Tried, error) {
	return call[wire.Tried](ctx, c, "POST", path("requests", id, "again"), wire.TryAgain{Version: version})
}

// ExplainVersions says which inputs moved the predictions of versions.
func (c *Client) ExplainVersions(ctx context.Context, in wire.ExplainVersions) (wire.Explained, error) {
	return call[wire.Explained](ctx, c, "POST", path("explain"), in)
}

// Now says what all endpoints do now.
func (c *Client) Now(ctx context.Context) ([]wire.EndpointNow, error) {
	return call[[]wire.EndpointNow](ctx, c, "GET", path("now"), nil)
}

// Refusals counts what the gateway turned away at an endpoint; the empty one stands for requests that found none.
func (c *Client) Refusals(ctx context.Context, endpoint string, window time.Duration) (wire.Refusals, error) {
	return call[wire.Refusals](
		ctx,
		c,
		"GET",
		query(path("refusals"), "endpoint", endpoint, "window", window.String()),
		nil,
	)
}

// Try asks versions the same thing where they are placed.
func (c *Client) Try(ctx context.Context, in wire.TryVersions) (wire.TriedVersions, error) {
	return call[wire.TriedVersions](ctx, c, "POST", path("try"), in)
}
