package api

import (
	"innerladder/internal/core/access"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// contractOperations are the routes about what the callers of an endpoint rely on, and what a
// version must answer.
func contractOperations() []operation {
	return []operation{
		op("GET", "/endpoints/{endpoint}/contracts", "listContracts",
			"List the contracts of an endpoint, newest first", access.Read, 200,
			func(c call, in *endpointIn) (wire.Listed[traffic.Contract], error) {
				return c.app.Traffic.Contracts(c, c.by, in.Endpoint)
			}),
		op("POST", "/endpoints/{endpoint}/contracts", "makeContract",
			"Decide a new contract; it comes into force with the next split whose versions keep it",
			access.Route, 201, func(c call, in *struct {
				endpointIn
				Version string `json:"version" required:"true" description:"the version whose signature callers rely on from then on"`
				Reason  string `json:"reason" required:"true"`
			},
			) (*traffic.Contract, error) {
				return c.app.Traffic.MakeContract(c, c.by, in.Endpoint, in.Version, in.Reason)
			}),
		op("GET", "/endpoints/{endpoint}/contracts/{number}/schema", "contractSchema",
			"A contract as JSON Schema, of requests or of answers", access.Read, 200, func(c call, in *struct {
				endpointIn
				Number int    `uri:"number" path:"number" json:"-"`
				Side   string `query:"side" enum:"request,answer" description:"request when not given"`
			},
			) (map[string]any, error) {
				return c.app.Traffic.ContractSchema(c, c.by, in.Endpoint, in.Number, in.Side)
			}),
		op("POST", "/versions/{ref}/known-answers", "confirmAnswers",
			"Confirm what a placed version answered to the sample request: from then on it must answer so",
			access.Place, 200, func(c call, in *struct {
				refIn
				Environment string `json:"environment" required:"true"`
				Reason      string `json:"reason" required:"true"`
			},
			) (*registry.Version, error) {
				return c.app.Traffic.ConfirmAnswers(c, c.by, in.Ref, in.Environment, in.Reason)
			}),
	}
}
