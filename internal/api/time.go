package api

import (
	"cmp"

	"innerladder/internal/app/observe"
	"innerladder/internal/core/access"
	"innerladder/internal/wire"
)

// timeOperations are the routes about what an endpoint did over time, and how far its traffic has moved.
func timeOperations() []operation {
	return []operation{
		op("GET", "/endpoints/{endpoint}/series", "endpointSeries",
			"What an endpoint did over time, with what happened to it", access.Read, 200, func(c call, in *struct {
				endpointIn
				spanIn
				After string `query:"after" description:"only steps from the one that this moment is in, RFC 3339"`
			},
			) (wire.Series, error) {
				q := observe.SeriesQuestion{Endpoint: in.Endpoint}
				var err error
				if q.Window, q.Until, err = in.span(); err != nil {
					return wire.Series{}, err
				}
				if q.After, err = moment("after", in.After); err != nil {
					return wire.Series{}, err
				}
				return c.app.Observe.Series(c, c.by, q)
			}),
		op("GET", "/endpoints/{endpoint}/drift", "endpointDrift",
			"How far every column is from a reference, an earlier time or main, ranked, and over time", access.Read,
			200, func(c call, in *struct {
				endpointIn
				spanIn
				Version string       `query:"version" description:"MODEL@NUMBER whose requests; all when not given"`
				First   bool         `query:"first" description:"the window begins with its first request"`
				Against wire.Against `query:"against" description:"reference when not given"`
			},
			) (wire.Drift, error) {
				w, until, err := in.span()
				if err != nil {
					return wire.Drift{}, err
				}
				return c.app.Observe.Drift(c, c.by, observe.DriftQuestion{
					Endpoint: in.Endpoint, Version: in.Version, Window: w, Until: until, First: in.First,
					Against: cmp.Or(in.Against, wire.AgainstReference),
				})
			}),
	}
}
