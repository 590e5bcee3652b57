package api

import (
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

// watchOperations are the routes about the watching of endpoints.
func watchOperations() []operation {
	return []operation{
		op("GET", "/endpoints/{endpoint}/watches", "listWatches",
			"Where the watches of an endpoint stand, and what people say about them; its ETag is their revision",
			access.Read, 200, func(c call, in *endpointIn) (wire.Watches, error) {
				return c.app.Observe.Watches(c, c.by, in.Endpoint)
			}),
		op("PUT", "/endpoints/{endpoint}/watches", "putWatches", "Have an endpoint watched as a YAML file says",
			access.Route, 200, func(c call, in *struct {
				endpointIn
				matchIn
				Text   string `json:"text" required:"true" description:"owner, runbook and watches, YAML"`
				Reason string `json:"reason,omitempty"`
			},
			) (wire.Watches, error) {
				based, err := in.based()
				if err != nil {
					return wire.Watches{}, err
				}
				return c.app.Observe.SetWatches(c, c.by, in.Endpoint, in.Text, in.Reason, based)
			}),
		op("POST", "/endpoints/{endpoint}/watches", "setWatch",
			"Have one signal watched otherwise, in place of how it was before", access.Route, 200,
			func(c call, in *struct {
				endpointIn
				watch.Rule
				Reason string `json:"reason,omitempty"`
			},
			) (wire.Watches, error) {
				return c.app.Observe.SetWatch(c, c.by, in.Endpoint, in.Rule, in.Reason)
			}),
		op("DELETE", "/endpoints/{endpoint}/watches/{watch}", "removeWatch",
			"Have a signal watched as usual again, or not at all if that is usual", access.Route, 200,
			func(c call, in *struct {
				endpointIn
				becauseIn
				Watch string `uri:"watch" path:"watch" json:"-" description:"its name, such as error_rate versus main"`
			},
			) (wire.Watches, error) {
				return c.app.Observe.RemoveWatch(c, c.by, in.Endpoint, in.Watch, in.Reason)
			}),
		op("POST", "/endpoints/{endpoint}/mutes", "mute", "Raise no alerts of watches about a subject for a time",
			access.Handle, 200, func(c call, in *struct {
				endpointIn
				Subject string `json:"subject" required:"true" description:"one of subjects of the watches, or all"`
				For     string `json:"for" required:"true" description:"how long, such as 2h"`
				Reason  string `json:"reason" required:"true"`
			},
			) (wire.Watches, error) {
				length, err := time.ParseDuration(in.For)
				if err != nil {
					return wire.Watches{}, fault.New(fault.Invalid, "mute.for", "%q is no duration", in.For).In("for").
						Do("give from 1m to 720h, such as 2h")
				}
				return c.app.Observe.Mute(c, c.by, in.Endpoint, in.Subject, in.Reason, length)
			}),
		op("DELETE", "/endpoints/{endpoint}/mutes/{subject}", "unmute", "Raise alerts about a subject again",
			access.Handle, 200, func(c call, in *struct {
				endpointIn
				becauseIn
				Subject string `uri:"subject" path:"subject" json:"-"`
			},
			) (wire.Watches, error) {
				return c.app.Observe.Unmute(c, c.by, in.Endpoint, in.Subject, in.Reason)
			}),
	}
}
