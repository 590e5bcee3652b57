package api

import (
	"innerladder/internal/core/access"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// outcomeOperations are the routes about the truth of predictions.
func outcomeOperations() []operation {
	return []operation{
		op("POST", "/endpoints/{endpoint}/outcomes", "tellOutcomes",
			"Tell the truth of earlier predictions, by the ids of requests, or keys and time; it may be told again",
			access.Report, 200, func(c call, in *struct {
				endpointIn
				wire.NewOutcomes
			},
			) (wire.OutcomesTaken, error) {
				return c.app.Outcomes.Take(c, c.by, in.Endpoint, in.NewOutcomes)
			}),
		op("GET", "/endpoints/{endpoint}/accuracy", "endpointAccuracy",
			"How right the versions of an endpoint were, as far as the truth is known", access.Read, 200,
			func(c call, in *struct {
				endpointIn
				spanIn
			},
			) (wire.Accuracy, error) {
				w, until, err := in.span()
				if err != nil {
					return wire.Accuracy{}, err
				}
				return c.app.Outcomes.Accuracy(c, c.by, in.Endpoint, w, until)
			}),
		op("GET", "/endpoints/{endpoint}/outcomes", "listOutcomes",
			"Single predictions with their truth, and in which segments of the inputs they are worse", access.Inspect,
			200, func(c call, in *struct {
				endpointIn
				windowIn
				Version string `query:"version" description:"MODEL@NUMBER"`
				Output  string `query:"output" description:"the name of one"`
				Worst   bool   `query:"worst" description:"the furthest off first, instead of the newest"`
				Limit   int    `query:"limit" description:"1 to 200; 20 when not given"`
			},
			) (wire.OutcomesShown, error) {
				w, err := in.duration()
				if err != nil {
					return wire.OutcomesShown{}, err
				}
				return c.app.Outcomes.Shown(c, c.by, signals.OutcomeQuery{
					Endpoint: in.Endpoint, Version: in.Version, Output: in.Output, Worst: in.Worst, Limit: in.Limit,
				}, w)
			}),
	}
}
