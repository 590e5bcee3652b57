package api

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/app/observe"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

type (
	none    struct{}
	modelIn struct {
		Model string `uri:"model" path:"model" json:"-"`
	}
	refIn struct {
		Ref string `uri:"ref" path:"ref" json:"-" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
	}
	endpointIn struct {
		Endpoint string `uri:"endpoint" path:"endpoint" json:"-"`
	}
	matchIn struct {
		IfMatch string `header:"If-Match" json:"-" description:"the ETag it was decided on"`
	}
	windowIn struct {
		Window string `query:"window" json:"-" description:"how far back, such as 10m; 15m when not given"`
	}
	spanIn struct {
		windowIn
		Until string `query:"until" json:"-" description:"when the window ends, RFC 3339; now when not given"`
	}
)

// withETag is an endpoint with the number of its split as ETag.
type withETag struct{ traffic.Endpoint }

func (e withETag) ETag() string {
	if e.Split == nil {
		return `"0"`
	}
	return strconv.Quote(strconv.Itoa(e.Split.Number))
}

// based reads the number of the split that a change was decided on, -1 for any.
func (m matchIn) based() (int, error) {
	tag := strings.Trim(strings.TrimSpace(m.IfMatch), `"`)
	if tag == "" || tag == "*" {
		return -1, nil
	}
	n, err := strconv.Atoi(tag)
	if err != nil {
		return 0, fault.New(fault.Invalid, "split.if_match", "If-Match is %q", m.IfMatch).In("If-Match").
			Do("give the ETag of what it was decided on, a number in quotes")
	}
	return n, nil
}

func (w windowIn) duration() (time.Duration, error) {
	if w.Window == "" {
		return 15 * time.Minute, nil
	}
	d, err := time.ParseDuration(w.Window)
	if err != nil {
		return 0, fault.New(fault.Invalid, "window.form", "%q is no duration", w.Window).In("window").
			Do("give one such as 90s, 10m or 2h")
	}
	return d, nil
}

// span reads how long the window is and when it ends, the zero time for now.
func (s spanIn) span() (window time.Duration, until time.Time, err error) {
	if window, err = s.duration(); err != nil {
		return 0, until, err
	}
	until, err = moment("until", s.Until)
	return window, until, err
}

// moment reads a time that was given; the zero time when none was.
func moment(field, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, form := range []string{time.RFC3339, time.DateOnly} {
		if at, err := time.Parse(form, text); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fault.New(fault.Invalid, "search.moment", "%q is no moment", text).In(field).
		Do("write one such as 2026-01-31 or 2026-01-31T14:00:00Z")
}

// operations lists every route of the API.
func operations() []operation {
	return slices.Concat(special(), signInOperations(), peopleOperations(), recordOperations(), keepingOperations(),
		fileOperations(), registryOperations(), ladderOperations(), placeOperations(), alertOperations(),
		splitOperations(), rolloutOperations(), incidentOperations(), historyOperations(), planOperations(),
		contractOperations(), requestOperations(), endpointOperations(), endpointKeeping(), watchOperations(),
		outcomeOperations(), customOperations(), agentOperations(), runnerOperations(), jobOperations(),
		keptJobOperations(), scheduleOperations(), standingOperations(), timeOperations())
}

// placeOperations are the routes about where versions run.
func placeOperations() []operation {
	return []operation{
		op("GET", "/environments", "listEnvironments", "List the places where versions run", access.Read, 200,
			func(c call, in *pageIn) (wire.Listed[traffic.Environment], error) {
				all, err := c.app.Traffic.Environments(c, c.by)
				return partOf(*in, all, err, func(e traffic.Environment) string { return e.Name })
			}),
		op("POST", "/environments", "addEnvironment", "Add a place where versions run", access.Manage, 201,
			func(c call, in *wire.NewEnvironment) (traffic.Environment, error) {
				return c.app.Traffic.AddEnvironment(c, c.by, *in)
			}),
		op("PATCH", "/environments/{environment}", "editEnvironment",
			"Change an environment: its name, whose it is, with whom it is shared, which addresses are allowed",
			access.Manage, 200, func(c call, in *struct {
				Environment string `uri:"environment" path:"environment" json:"-"`
				wire.EditEnvironment
			},
			) (traffic.Environment, error) {
				return c.app.Traffic.EditEnvironment(c, c.by, in.Environment, in.EditEnvironment)
			}),
		op("DELETE", "/environments/{environment}", "removeEnvironment",
			"Take away an environment in which nothing runs, with its headers", access.Manage, 200,
			func(c call, in *struct {
				Environment string `uri:"environment" path:"environment" json:"-"`
				becauseIn
			},
			) (traffic.Environment, error) {
				return c.app.Traffic.RemoveEnvironment(c, c.by, in.Environment, in.Reason)
			}),
		op("GET", "/placements", "listPlacements", "List what runs where", access.Read, 200,
			func(c call, in *struct {
				pageIn
				Version string `query:"version" description:"only of this version"`
			},
			) (wire.Listed[traffic.Placement], error) {
				all, err := c.app.Traffic.Placements(c, c.by, in.Version)
				return partOf(in.pageIn, all, err, func(p traffic.Placement) string {
					return fmt.Sprintf("%012d", p.ID)
				})
			}),
		op("POST", "/placements", "place",
			"Say that a version runs somewhere, after checking that it does, or that it answers where the gateway "+
				"does not reach",
			access.Place, 201, func(c call, in *wire.NewPlacement) (*traffic.Placement, error) {
				return c.app.Traffic.Place(c, c.by, *in)
			}),
		op("PATCH", "/placements/{environment}/{ref}", "changeAddresses",
			"Add addresses to a placement and take others away, while the version answers", access.Place, 200,
			func(c call, in *struct {
				refIn
				Environment string `uri:"environment" path:"environment" json:"-"`
				wire.EditAddresses
			},
			) (*traffic.Placement, error) {
				return c.app.Traffic.ChangeAddresses(c, c.by, in.Ref, in.Environment, in.EditAddresses)
			}),
		op("DELETE", "/placements/{environment}/{ref}", "unplace", "Say that a version runs in an environment no more",
			access.Place, 200, func(c call, in *struct {
				refIn
				Environment string `uri:"environment" path:"environment"`
			},
			) (*traffic.Placement, error) {
				return c.app.Traffic.Unplace(c, c.by, in.Ref, in.Environment)
			}),
	}
}

// alertOperations are the routes about alerts and what goes on now.
func alertOperations() []operation {
	return []operation{
		op("GET", "/now", "now", "What all endpoints do now", access.Read, 200,
			func(c call, _ *none) ([]wire.EndpointNow, error) {
				return c.app.Observe.EndpointsNow(c, c.by)
			}),
		op("GET", "/alerts", "listAlerts", "List alerts, newest first", access.Read, 200, func(c call, in *struct {
			pageIn
			State    string `query:"state" enum:"open,acknowledged,resolved,unresolved"`
			Endpoint string `query:"endpoint"`
		},
		) (wire.Listed[watch.Alert], error) {
			return listed(in.pageIn, func(p records.Page) (wire.Listed[watch.Alert], error) {
				return c.app.Observe.Alerts(c, c.by, in.State, in.Endpoint, p)
			})
		}),
		op("GET", "/alerts/{alert}", "showAlert", "Show an alert", access.Read, 200,
			func(c call, in *alertIn) (*watch.Alert, error) {
				return c.app.Observe.Alert(c, c.by, in.Alert)
			}),
		op("POST", "/alerts/{alert}", "handleAlert", "Acknowledge or resolve an alert", access.Handle, 200,
			func(c call, in *struct {
				alertIn
				State string `json:"state" required:"true" enum:"acknowledged,resolved"`
				Note  string `json:"note,omitempty"`
			},
			) (*watch.Alert, error) {
				return c.app.Observe.HandleAlert(c, c.by, in.Alert, in.State, in.Note)
			}),
	}
}

// splitOperations are the routes about splits.
func splitOperations() []operation {
	return []operation{
		op("GET", "/endpoints/{endpoint}/splits", "listSplits", "List the splits of an endpoint, newest first",
			access.Read, 200, func(c call, in *struct {
				endpointIn
				pageIn
			},
			) (wire.Listed[traffic.Split], error) {
				return listed(in.pageIn, func(p records.Page) (wire.Listed[traffic.Split], error) {
					return c.app.Traffic.Splits(c, c.by, in.Endpoint, p)
				})
			}),
		op("POST", "/endpoints/{endpoint}/splits", "split", "Make a new split and put it in force", access.Route, 201,
			func(c call, in *struct {
				endpointIn
				matchIn
				Lanes  []traffic.Lane `json:"lanes" required:"true"`
				Rules  []traffic.Rule `json:"rules,omitempty" description:"absent: those in force stay; []: none"`
				Reason string         `json:"reason,omitempty"`
			},
			) (*traffic.Split, error) {
				based, err := in.based()
				if err != nil {
					return nil, err
				}
				return c.app.Traffic.Split(c, c.by, in.Endpoint, in.Lanes, in.Rules, in.Reason, based)
			}),
		op("POST", "/endpoints/{endpoint}/back", "back", "Return to an earlier split", access.Route, 201,
			func(c call, in *struct {
				endpointIn
				matchIn
				To     int    `json:"to,omitempty" description:"a revision; the last without a trial lane when not given"`
				Reason string `json:"reason" required:"true"`
				// StepDown is as after a guard.
				StepDown bool `json:"step_down,omitempty" description:"the version left must be signed anew"`
			},
			) (*traffic.Split, error) {
				based, err := in.based()
				if err != nil {
					return nil, err
				}
				return c.app.Rollouts.Back(c, c.by, in.Endpoint, in.To, in.Reason, based, in.StepDown)
			}),
	}
}

// endpointKeeping are the routes by which endpoints are kept in order.
func endpointKeeping() []operation {
	return []operation{
		op("PATCH", "/endpoints/{endpoint}", "editEndpoint",
			"Change what is said about an endpoint and what it demands: description, rung, margins", access.Route, 200,
			func(c call, in *struct {
				endpointIn
				wire.EditEndpoint
			},
			) (*traffic.Endpoint, error) {
				return c.app.Traffic.EditEndpoint(c, c.by, in.Endpoint, in.EditEndpoint)
			}),
		op("DELETE", "/endpoints/{endpoint}", "removeEndpoint", "Take away an endpoint that nobody calls",
			access.Route, 200, func(c call, in *struct {
				endpointIn
				becauseIn
			},
			) (*traffic.Endpoint, error) {
				return c.app.Traffic.RemoveEndpoint(c, c.by, in.Endpoint, in.Reason)
			}),
	}
}

// endpointOperations are the routes about endpoints.
func endpointOperations() []operation {
	return []operation{
		op("GET", "/endpoints", "listEndpoints", "List endpoints with their splits in force", access.Read, 200,
			func(c call, in *pageIn) (wire.Listed[traffic.Endpoint], error) {
				all, err := c.app.Traffic.Endpoints(c, c.by)
				return partOf(*in, all, err, func(e traffic.Endpoint) string { return e.Name })
			}),
		op("POST", "/endpoints", "addEndpoint", "Add an endpoint", access.Route, 201,
			func(c call, in *wire.NewEndpoint) (*traffic.Endpoint, error) {
				return c.app.Traffic.AddEndpoint(c, c.by, *in)
			}),
		op("GET", "/endpoints/{endpoint}", "showEndpoint",
			"Show an endpoint; its ETag is the number of the split in force", access.Read, 200,
			func(c call, in *endpointIn) (withETag, error) {
				e, err := c.app.Traffic.EndpointWithBack(c, c.by, in.Endpoint)
				if err != nil {
					return withETag{}, err
				}
				return withETag{*e}, nil
			}),
		op("GET", "/endpoints/{endpoint}/now", "endpointNow", "What the lanes of an endpoint do now", access.Read, 200,
			func(c call, in *endpointIn) (wire.EndpointNow, error) {
				return c.app.Observe.EndpointNow(c, c.by, in.Endpoint)
			}),
		op("GET", "/endpoints/{endpoint}/compare", "compareVersions",
			"Versions that answer for an endpoint beside their incumbent", access.Read, 200, func(c call, in *struct {
				endpointIn
				Incumbent string `query:"incumbent" description:"MODEL@NUMBER, MODEL@RUNG or MODEL@LABEL"`
				Candidate string `query:"candidate" description:"the same, or several with commas between them"`
				Split     int    `query:"split" description:"only this split"`
				Window    string `query:"window" description:"how far back, such as 10m, instead of the last trial"`
				Until     string `query:"until" description:"when the window ends, RFC 3339; now when not given"`
			},
			) (wire.Comparisons, error) {
				q := observe.Question{Endpoint: in.Endpoint, Incumbent: in.Incumbent, Split: in.Split}
				if in.Candidate != "" {
					q.Candidates = strings.Split(in.Candidate, ",")
				}
				var err error
				if in.Window != "" {
					if q.Window, err = (&windowIn{in.Window}).duration(); err != nil {
						return wire.Comparisons{}, err
					}
				}
				if q.Until, err = moment("until", in.Until); err != nil {
					return wire.Comparisons{}, err
				}
				items, err := c.app.Observe.Compare(c, c.by, q)
				return wire.Comparisons{Items: items}, err
			}),
	}
}

type alertIn struct {
	Alert string `uri:"alert" path:"alert" json:"-" description:"A-NUMBER"`
}
