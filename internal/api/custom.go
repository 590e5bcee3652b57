package api

import (
	"innerladder/internal/core/access"
	"innerladder/internal/core/custom"
	"innerladder/internal/wire"
)

// customIn names a custom signal of an endpoint.
type customIn struct {
	endpointIn
	Signal string `uri:"signal" path:"signal" json:"-" description:"its name, such as dispatch_cost"`
}

// customOperations are the routes about signals of a team's own.
func customOperations() []operation {
	return []operation{
		op("GET", "/endpoints/{endpoint}/custom-signals", "customSignals",
			"The custom signals of an endpoint, with what was reported of each version", access.Read, 200,
			func(c call, in *struct {
				endpointIn
				spanIn
			},
			) (wire.CustomSignals, error) {
				w, until, err := in.span()
				if err != nil {
					return wire.CustomSignals{}, err
				}
				return c.app.Custom.Show(c, c.by, in.Endpoint, w, until)
			}),
		op("PUT", "/endpoints/{endpoint}/custom-signals/{signal}", "setCustomSignal",
			"Say what a custom signal of an endpoint is; it is there from then on", access.Route, 200,
			func(c call, in *struct {
				customIn
				wire.EditCustom
			},
			) (custom.Signal, error) {
				return c.app.Custom.Set(c, c.by, in.Endpoint, in.Signal, in.EditCustom)
			}),
		op("DELETE", "/endpoints/{endpoint}/custom-signals/{signal}", "removeCustomSignal",
			"Take a custom signal of an endpoint away", access.Route, 200, func(c call, in *struct {
				customIn
				becauseIn
			},
			) (custom.Signal, error) {
				return c.app.Custom.Remove(c, c.by, in.Endpoint, in.Signal, in.Reason)
			}),
		op("POST", "/endpoints/{endpoint}/reports", "report",
			"Report values of custom signals, of requests by their ids, or of a version at a time; told again they "+
				"count once", access.Report, 200, func(c call, in *struct {
				endpointIn
				wire.NewReports
			},
			) (wire.ReportsTaken, error) {
				return c.app.Custom.Take(c, c.by, in.Endpoint, in.NewReports)
			}),
	}
}
