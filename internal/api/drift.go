package api

import (
	"cmp"

	"innerladder/internal/app/observe"
	"innerladder/internal/core/access"
	"innerladder/internal/wire"
)

// driftOperations are the routes about how far traffic has moved.
func driftOperations() []operation {
	return []operation{
		op("GET", "/endpoints/{endpoint}/drift", "endpointDrift",
			"How far every column is from a reference, an earlier time or main, ranked, and over time", access.Read,
			200, func(c call, in *struct {
				endpointIn
				windowIn
				Version string       `query:"version" description:"MODEL@NUMBER whose requests; all when not given"`
				Until   string       `query:"until" description:"when the window ends, RFC 3339; now when not given"`
				First   bool         `query:"first" description:"the window begins with its first request"`
				Against wire.Against `query:"against" description:"reference when not given"`
			},
			) (wire.Drift, error) {
				w, err := in.duration()
				if err != nil {
					return wire.Drift{}, err
				}
				until, err := moment("until", in.Until)
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
