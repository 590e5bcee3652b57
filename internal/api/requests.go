package api

import (
	"strings"
	"time"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/request"
	"innerladder/internal/wire"
)

type (
	requestIn struct {
		Request string `uri:"request" path:"request" json:"-" description:"what the header Inner-Ladder-Request said"`
	}
	requestsIn struct {
		Endpoint string          `query:"endpoint" description:"whose log; without it, requests that found no endpoint"`
		Window   string          `query:"window" description:"how far back, such as 10m; all when not given"`
		From     string          `query:"from" description:"ended at this moment or later, RFC 3339"`
		To       string          `query:"to" description:"ended before this moment, RFC 3339"`
		Lane     string          `query:"lane" enum:"main,trial,pinned,refused"`
		Version  string          `query:"version" description:"MODEL@NUMBER that dealt with it"`
		Key      string          `query:"key" description:"whose key the request had"`
		Outcome  request.Outcome `query:"outcome"`
		Reason   string          `query:"reason" description:"the code of an answer of the gateway's own"`
		Status   int             `query:"status"`
		Slower   string          `query:"slower" description:"that took at least so long, such as 200ms"`
		Trouble  bool            `query:"trouble" description:"failures, refusals, and what another version answered"`
		Where    string          `query:"where" description:"conditions on columns, such as wind<3,mix=harbour"`
		Limit    int             `query:"limit" description:"1 to 500; 50 when not given"`
		Cursor   string          `query:"cursor" description:"next of an earlier answer, for older ones"`
		After    string          `query:"after" description:"newest of an earlier answer, for those since"`
	}
)

// filter reads what is asked for.
func (in *requestsIn) filter() (wire.RequestFilter, error) {
	f := wire.RequestFilter{
		Endpoint: in.Endpoint, Lane: in.Lane, Version: in.Version, Key: in.Key,
		Outcome: string(in.Outcome), Reason: in.Reason, Status: in.Status, Trouble: in.Trouble,
		Limit: in.Limit, Cursor: in.Cursor, After: in.After,
	}
	var err error
	if f.From, err = moment("from", in.From); err != nil {
		return f, err
	}
	if f.To, err = moment("to", in.To); err != nil {
		return f, err
	}
	if in.Window != "" {
		if f.Back, err = (&windowIn{in.Window}).duration(); err != nil {
			return f, err
		}
	}
	if in.Slower != "" {
		if f.Slower, err = time.ParseDuration(in.Slower); err != nil {
			return f, fault.New(fault.Invalid, "requests.slower", "%q is no duration", in.Slower).In("slower").
				Do("give one such as 200ms or 1.5s")
		}
	}
	for _, c := range strings.Split(in.Where, ",") {
		if strings.TrimSpace(c) != "" {
			f.Where = append(f.Where, c)
		}
	}
	return f, nil
}

// requestOperations are the routes about single requests.
func requestOperations() []operation {
	return []operation{
		op(
			"GET",
			"/requests",
			"listRequests",
			"Search the log of an endpoint's requests, newest first",
			access.Inspect,
			200,
			func(c call, in *requestsIn) (wire.Requests, error) {
				f, err := in.filter()
				if err != nil {
					return wire.Requests{}, err
				}
				return c.app.Requests.Requests(c, c.by, f)
			},
		),
		op("GET", "/requests/{request}", "showRequest", "Show a request that is in a log", access.Inspect, 200,
			func(c call, in *requestIn) (wire.RequestShown, error) {
				return c.app.Requests.Request(c, c.by, in.Request)
			}),
		op(
			"GET",
			"/requests/{request}/like",
			"listLike",
			"List the requests whose inputs are nearest to those of one, among the newest of its endpoint",
			access.Inspect,
			200,
			func(c call, in *requestIn) (wire.LikeIt, error) { return c.app.Requests.Like(c, c.by, in.Request) },
		),
		op("POST", "/requests/{request}/again", "tryAgain",
			"Send a request that is in a log again, and hold the answer against the one then; no lane counts it",
			access.Inspect, 200, func(c call, in *struct {
				requestIn
				wire.TryAgain
			},
			) (wire.Tried, error) {
				return c.app.Requests.Again(c, c.by, in.Request, in.Version)
			}),
		op("POST", "/try", "tryVersions",
			"Ask versions the same thing where they are placed, side by side; no lane counts it", access.Inspect, 200,
			func(c call, in *wire.TryVersions) (wire.TriedVersions, error) {
				return c.app.Requests.Try(c, c.by, *in)
			}),
		op("POST", "/explain", "explainVersions",
			"Say which inputs moved the predictions of versions for one row, and how sure that is: Shapley values by "+
				"sampling; no lane counts what they are asked", access.Inspect, 200,
			func(c call, in *wire.ExplainVersions) (wire.Explained, error) {
				return c.app.Requests.Explain(c, c.by, *in)
			}),
		op("GET", "/refusals", "listRefusals", "Count what the gateway turned away, by reason", access.Read, 200,
			func(c call, in *struct {
				Endpoint string `query:"endpoint" description:"of which; without it, requests that found no endpoint"`
				windowIn
			},
			) (wire.Refusals, error) {
				w, err := in.duration()
				if err != nil {
					return wire.Refusals{}, err
				}
				return c.app.Requests.Refusals(c, c.by, in.Endpoint, w)
			}),
	}
}
