package api

import (
	"net/http"

	"innerladder/internal/core/access"
	"innerladder/internal/core/incident"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/gateway"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

type rolloutIn struct {
	Rollout string `uri:"rollout" path:"rollout" json:"-" description:"R-NUMBER"`
}

// rolloutOperations are the routes about moves of endpoints.
func rolloutOperations() []operation {
	return []operation{
		op("POST", "/endpoints/{endpoint}/rollouts", "startRollout", "Move an endpoint to another version by a plan",
			access.Route, 201, func(c call, in *struct {
				endpointIn
				wire.NewRollout
			},
			) (*rollout.Rollout, error) {
				return c.app.Rollouts.Start(c, c.by, in.Endpoint, in.NewRollout)
			}),
		op("POST", "/endpoints/{endpoint}/rollouts/preview", "previewRollout",
			"What a rollout would do: how long it takes, what harm is risked, what is lacking", access.Read, 200,
			func(c call, in *struct {
				endpointIn
				wire.NewRollout
			},
			) (wire.Outlook, error) {
				return c.app.Rollouts.Foresee(c, c.by, in.Endpoint, in.NewRollout)
			}),
		op("GET", "/rollouts", "listRollouts", "List rollouts, newest first", access.Read, 200,
			func(c call, in *struct {
				pageIn
				Endpoint  string `query:"endpoint"`
				Candidate string `query:"candidate" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
				Open      bool   `query:"open" description:"only those that are not over"`
			},
			) (wire.Listed[rollout.Rollout], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[rollout.Rollout], error) {
					return c.app.Rollouts.Rollouts(c, c.by, in.Endpoint, in.Candidate, in.Open, p)
				})
			}),
		op("GET", "/rollouts/{rollout}", "showRollout", "Show a rollout as it looks now, with its decision log",
			access.Read, 200, func(c call, in *rolloutIn) (wire.ShownRollout, error) {
				return c.app.Rollouts.Rollout(c, c.by, in.Rollout)
			}),
		op("POST", "/rollouts/{rollout}", "changeRollout", "Hold, resume, speed on, finish or end a rollout by hand",
			access.Route, 200, func(c call, in *struct {
				rolloutIn
				wire.ChangeRollout
			},
			) (wire.ShownRollout, error) {
				return c.app.Rollouts.Do(c, c.by, in.Rollout, in.ChangeRollout)
			}),
	}
}

// historyOperations are the routes about what served when, and where a request would go.
func historyOperations() []operation {
	return []operation{
		op("POST", "/endpoints/{endpoint}/explain", "explainRoute", "Where a request would go now, and by which rule",
			access.Read, 200, func(c call, in *struct {
				endpointIn
				wire.Explain
			},
			) (traffic.Where, error) {
				headers := http.Header{}
				for name, value := range in.Headers {
					headers.Set(name, value)
				}
				return c.app.Traffic.Explain(c, c.by, in.Endpoint, in.Version, traffic.Asked{
					Key: in.Key, Caller: headers.Get(gateway.CallerHeader),
					Header: func(name string) (string, bool) { return headers.Get(name), headers.Get(name) != "" },
					Input:  func(name string) (string, bool) { value, there := in.Inputs[name]; return value, there },
				})
			}),
		op("GET", "/endpoints/{endpoint}/history", "endpointHistory",
			"What served when: every split with its cause, how long it was in force, what it served, how it ended",
			access.Read, 200, func(c call, in *struct {
				endpointIn
				pageIn
				At string `query:"at" json:"-" description:"only the one in force at this moment"`
			},
			) (wire.Listed[wire.Served], error) {
				at, err := moment("at", in.At)
				if err != nil {
					return wire.Listed[wire.Served]{}, err
				}
				return listed(in.pageIn, func(p records.Page) (wire.Listed[wire.Served], error) {
					return c.app.Observe.History(c, c.by, in.Endpoint, at, p)
				})
			}),
	}
}

type incidentIn struct {
	Incident string `uri:"incident" path:"incident" json:"-" description:"I-NUMBER"`
}

// incidentOperations are the routes about what was rolled back.
func incidentOperations() []operation {
	return []operation{
		op("GET", "/incidents", "listIncidents", "List incidents without their reports, newest first", access.Read, 200,
			func(c call, in *struct {
				pageIn
				Endpoint string `query:"endpoint"`
				Version  string `query:"version" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
				State    string `query:"state" enum:"open,closed"`
			},
			) (wire.Listed[incident.Incident], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[incident.Incident], error) {
					return c.app.Rollouts.Incidents(c, c.by, in.Endpoint, in.Version, in.State, p)
				})
			}),
		op("GET", "/incidents/{incident}", "showIncident", "Show an incident with its report, and as a document",
			access.Read, 200, func(c call, in *incidentIn) (wire.ShownIncident, error) {
				return c.app.Rollouts.Incident(c, c.by, in.Incident)
			}),
		op("POST", "/incidents/{incident}", "handleIncident",
			"Add a note, a cause or something to do to an incident, or close it", access.Handle, 200,
			func(c call, in *struct {
				incidentIn
				wire.HandleIncident
			},
			) (wire.ShownIncident, error) {
				return c.app.Rollouts.HandleIncident(c, c.by, in.Incident, in.HandleIncident)
			}),
	}
}

// planOperations are the routes about plans.
func planOperations() []operation {
	return []operation{
		op("GET", "/plans", "listPlans", "List the plans of rollouts, the newest revision of each", access.Read, 200,
			func(c call, in *pageIn) (wire.Listed[wire.KeptPlan], error) {
				all, err := c.app.Rollouts.Plans(c, c.by)
				return partOf(*in, all, err, func(p wire.KeptPlan) string { return p.Name + " " + p.Project })
			}),
		op("GET", "/plans/{plan}", "showPlan", "Show a plan", access.Read, 200, func(c call, in *struct {
			Plan    string `uri:"plan" path:"plan" json:"-" description:"NAME or NAME#REVISION"`
			Project string `query:"project" description:"whose it is, where several have one of that name"`
		},
		) (wire.KeptPlan, error) {
			return c.app.Rollouts.Plan(c, c.by, in.Project, in.Plan)
		}),
		op("POST", "/plans", "putPlan", "Keep a new revision of a plan", access.Route, 201, func(c call, in *struct {
			Project string `json:"project,omitempty" description:"whose; may be left out where there is one"`
			Text    string `json:"text" required:"true" description:"the plan, YAML"`
			Reason  string `json:"reason,omitempty"`
		},
		) (wire.KeptPlan, error) {
			return c.app.Rollouts.PutPlan(c, c.by, in.Project, in.Text, in.Reason)
		}),
	}
}
