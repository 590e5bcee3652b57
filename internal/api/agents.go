package api

import (
	"innerladder/internal/core/access"
	"innerladder/internal/core/elsewhere"
	"innerladder/internal/wire"
)

// agentIn names an agent of an endpoint.
type agentIn struct {
	endpointIn
	Agent string `uri:"agent" path:"agent" json:"-" description:"its id: a UUID that it chose at random"`
}

// agentOperations are the routes about what answers where the gateway does not reach.
func agentOperations() []operation {
	return []operation{
		op("GET", "/endpoints/{endpoint}/agents", "listAgents",
			"The agents that report what answers elsewhere for an endpoint", access.Read, 200,
			func(c call, in *struct{ endpointIn }) (wire.Listed[elsewhere.Agent], error) {
				return c.app.Agents.List(c, c.by, in.Endpoint)
			}),
		op("POST", "/endpoints/{endpoint}/agents/{agent}/met", "agentMet",
			"Ask, as an agent, which versions there are and on which bins columns are counted; columns that have none "+
				"yet get those that are proposed", access.Report, 200, func(c call, in *struct {
				agentIn
				wire.AgentMet
			},
			) (wire.AgentKnown, error) {
				return c.app.Agents.Met(c, c.by, in.Endpoint, in.Agent, in.AgentMet)
			}),
		op("POST", "/endpoints/{endpoint}/agents/{agent}/batches", "agentBatch",
			"Report, as an agent, what versions did; a batch that is sent again changes nothing", access.Report, 200,
			func(c call, in *struct {
				agentIn
				elsewhere.Batch
			},
			) (wire.BatchTaken, error) {
				return c.app.Agents.Take(c, c.by, in.Endpoint, in.Agent, in.Batch)
			}),
	}
}
