// Package requests shows single requests: those that are in the log of an endpoint, the like of one, what the gateway
// turned away; and tries one again.
package requests

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/access"
	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/request"
	"innerladder/internal/core/span"
	coretraffic "innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/requestlog"
	"innerladder/internal/signals"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

const (
	usualLimit, mostLimit = 50, 500
	// likeLooked is how many requests are looked at for those that are like one; likeShown how many are given.
	likeLooked, likeShown = 5000, 20
	// longestOf is the longest window that can be looked at.
	longestOf = 400 * 24 * time.Hour
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	registry *registry.Service
	traffic  *traffic.Service
	recorder *recorder.Recorder
	signals  *signals.Keeper
	log      *requestlog.Log
	ids      *coretraffic.RequestIDs
}

// New makes a service; log is nil where nothing is kept.
func New(b *act.Base, r *registry.Service, t *traffic.Service, rec *recorder.Recorder, kept *signals.Keeper,
	log *requestlog.Log, ids *coretraffic.RequestIDs,
) *Service {
	return &Service{Base: b, registry: r, traffic: t, recorder: rec, signals: kept, log: log, ids: ids}
}

// Degraded says why no requests are kept now; empty when they are.
func (s *Service) Degraded() string {
	if s.log == nil {
		return ""
	}
	if trouble := s.log.Status().Trouble; trouble != "" {
		return "single requests are not kept (" + trouble + "); they are answered and counted"
	}
	return ""
}

// numberOf is the number of an endpoint whose requests somebody may see, 0 for the requests that found none, which
// whoever keeps the service may see.
func (s *Service) numberOf(ctx context.Context, by act.Actor, endpoint string) (int64, error) {
	if endpoint == "" {
		if err := by.May(access.Inspect); err != nil {
			return 0, err
		}
		return 0, by.Need(access.Administer, "")
	}
	e, err := s.traffic.EndpointFor(ctx, by, access.Inspect, endpoint)
	if err != nil {
		return 0, err
	}
	return e.ID, nil
}

// Requests lists what the log of an endpoint has, newest first; with After, what has come since, oldest first.
func (s *Service) Requests(ctx context.Context, by act.Actor, q wire.RequestFilter) (wire.Requests, error) {
	var none wire.Requests
	number, err := s.numberOf(ctx, by, q.Endpoint)
	if err != nil {
		return none, err
	}
	f, err := s.filter(q)
	if err != nil {
		return none, err
	}
	switch {
	case q.Limit == 0:
		q.Limit = usualLimit
	case q.Limit < 0 || q.Limit > mostLimit:
		return none, fault.New(fault.Invalid, "list.limit", "%d requests cannot be given at once", q.Limit).
			In("limit").
			Do("give 1 to %d", mostLimit)
	}
	found, err := s.log.Search(ctx, number, f, requestlog.Part{Limit: q.Limit, Before: q.Cursor, After: q.After})
	if err != nil {
		return none, err
	}
	status := s.log.Status()
	out := wire.Requests{
		Items: []request.Kept{}, Next: found.Next, Newest: found.Newest, Waiting: status.Waiting,
		Lost: status.Unwritten, Trouble: status.Trouble,
	}
	for _, e := range found.Items {
		e.Endpoint = q.Endpoint
		out.Items = append(out.Items, e)
	}
	if !found.Until.IsZero() {
		out.Until = &found.Until
	}
	return out, nil
}

// samples is how many requests stand for all of a version's.
const samples = 5

// Of lists some requests that a version dealt with at an endpoint in a span of time: those that failed first, then the
// latest. None where none are kept.
func (s *Service) Of(ctx context.Context, endpoint, version string, from, to time.Time) ([]request.Kept, error) {
	e, err := s.traffic.FindEndpoint(ctx, s.DB.Read(records.Everything), endpoint)
	if err != nil || s.log == nil {
		return nil, err
	}
	var out []request.Kept
	for _, trouble := range []bool{true, false} {
		f := request.Filter{From: from, To: to, Version: version, Trouble: trouble}
		found, err := s.log.Search(ctx, e.ID, f, requestlog.Part{Limit: 10 * samples})
		if err != nil {
			return out, err
		}
		for _, k := range found.Items {
			if len(out) < samples && k.Failed() == trouble && k.Lane != request.RefusedLane {
				out = append(out, k)
			}
		}
	}
	return out, nil
}

func (s *Service) filter(q wire.RequestFilter) (request.Filter, error) {
	f := request.Filter{
		From: q.From, To: q.To, Lane: q.Lane, Version: q.Version, Key: q.Key, Outcome: request.Outcome(q.Outcome),
		Reason: q.Reason, Status: q.Status, Slower: q.Slower, Trouble: q.Trouble,
	}
	if q.Back < 0 || q.Back > longestOf {
		return f, fault.New(fault.Invalid, "window.range", "a window of %s cannot be looked at", q.Back).In("window").
			Do("give one such as 10m or 24h")
	}
	if f.From.IsZero() && q.Back > 0 {
		f.From = s.Now().Add(-q.Back)
	}
	for _, text := range q.Where {
		c, err := request.ParseCondition(text)
		if err != nil {
			return f, err
		}
		f.Where = append(f.Where, c)
	}
	return f, f.Check()
}

// find finds one request and the endpoint that it was to.
func (s *Service) find(ctx context.Context, by act.Actor, raw string) (*coretraffic.Endpoint, request.Kept, error) {
	unknown := fault.New(fault.Unknown, "request.unknown", "there is no request %.60q in the log", raw).In("request").
		Do("copy the whole header Inner-Ladder-Request of the answer; what was kept is listed by: " +
			"innerladder requests ENDPOINT")
	if err := by.May(access.Inspect); err != nil {
		return nil, request.Kept{}, err
	}
	id, err := uuid.Parse(raw)
	if err != nil {
		return nil, request.Kept{}, unknown
	}
	at, origin, ok := s.ids.Read(id)
	if !ok {
		return nil, request.Kept{}, unknown
	}
	e := &coretraffic.Endpoint{}
	if origin.Endpoint != 0 {
		all, err := s.Read(by).Endpoints(ctx)
		if err != nil {
			return nil, request.Kept{}, err
		}
		i := slices.IndexFunc(all, func(e coretraffic.Endpoint) bool { return e.ID == origin.Endpoint })
		if i < 0 || !by.Rights.May(access.Inspect, all[i].Project) {
			return nil, request.Kept{}, unknown
		}
		*e = all[i]
	} else if !by.Rights.May(access.Administer, "") {
		return nil, request.Kept{}, unknown
	}
	entry, err := s.log.Find(ctx, origin.Endpoint, id, at)
	if errors.Is(err, requestlog.ErrNone) {
		unknown.Detail = fmt.Sprintf("request %s of %s is not in the log", id, e.Name)
		return nil, entry, unknown.Do("the log of %s keeps %s", e.Name, e.Requests)
	}
	entry.Endpoint = e.Name
	return e, entry, err
}

// Request shows one request.
func (s *Service) Request(ctx context.Context, by act.Actor, id string) (wire.RequestShown, error) {
	e, entry, err := s.find(ctx, by, id)
	out := wire.RequestShown{Kept: entry, Versions: []string{}}
	if err != nil || !whole(entry) {
		return out, err
	}
	places, err := s.Read(by).Placements(ctx, "")
	for _, p := range places {
		if model, _ := naming.Thing(p.Version); model == e.Model && p.Environment == e.Environment && p.Healthy {
			out.Versions = append(out.Versions, p.Version)
		}
	}
	return out, err
}

// whole reports whether what was asked is kept as it came, so that it can be asked again.
func whole(k request.Kept) bool { return k.Endpoint != "" && len(k.Request) > 0 && k.RequestNote == "" }

// Like lists the requests whose inputs are nearest to those of one, among the newest of its endpoint.
func (s *Service) Like(ctx context.Context, by act.Actor, id string) (wire.LikeIt, error) {
	var out wire.LikeIt
	e, entry, err := s.find(ctx, by, id)
	if err != nil {
		return out, err
	}
	if len(entry.Request) == 0 {
		return out, fault.New(fault.Refused, "request.not_kept", "what request %s asked is not kept: %s", id,
			entry.RequestNote).In("request").Do("keep larger bodies with: innerladder endpoint edit %s -keep-bytes N",
			e.Name)
	}
	var others []request.Kept
	for part := (requestlog.Part{Limit: mostLimit}); len(others) < likeLooked; {
		found, err := s.log.Search(ctx, e.ID, request.Filter{}, part)
		if err != nil {
			return out, err
		}
		others = append(others, found.Items...)
		if part.Before = found.Next; found.Next == "" {
			break
		}
	}
	out.Looked, out.Items = len(others), request.Like(entry, others, likeShown)
	for i := range out.Items {
		out.Items[i].Endpoint = e.Name
	}
	return out, nil
}

// Again sends a request again to a version that runs where those of its endpoint do, and holds what comes back
// against what was answered then. Nobody's lane counts it; model servers are told that it is a copy.
func (s *Service) Again(ctx context.Context, by act.Actor, id, version string) (wire.Tried, error) {
	out := wire.Tried{Request: id, Version: version, Differences: []string{}}
	e, entry, err := s.find(ctx, by, id)
	if err != nil {
		return out, err
	}
	switch {
	case version == "" && entry.Version == "":
		return out, fault.New(fault.Invalid, "request.version", "no version dealt with request %s", id).In("version").
			Do("name the version that it is tried on")
	case version == "":
		out.Version = entry.Version
	}
	if !whole(entry) {
		return out, fault.New(fault.Refused, "request.not_kept", "request %s cannot be sent again: what it asked is "+
			"not kept as it was (%s)", id, entry.RequestNote).
			In("request").
			Do("try one that is kept whole")
	}
	v, err := s.registry.Version(ctx, by, out.Version)
	if err != nil {
		return out, err
	}
	if v.Model != e.Model {
		return out, fault.New(fault.Invalid, "request.version", "%s answers with versions of %s, and %s is none",
			e.Name, e.Model, v.Ref).In("version").Do("name a version of %s", e.Model)
	}
	one, err := s.ask(ctx, by, v.Ref, e.Environment, entry.Request)
	if err != nil {
		return out, err
	}
	out.Version, out.Status, out.TookMS, out.Answer, out.Trouble = one.Version, one.Status, one.TookMS, one.Answer,
		one.Trouble
	if entry.AnswerNote == "" {
		out.Before = entry.Answer
	}
	out.Differences, out.Compared = between(out.Before, out.Answer, answers.Difference.Since)
	return out, nil
}

// between says in words where two answers differ; compared is false where one of them is none.
func between(was, now json.RawMessage, say func(answers.Difference) string) (differences []string, compared bool) {
	differences = []string{}
	before, err1 := oip.AnyTensors(was, "outputs")
	after, err2 := oip.AnyTensors(now, "outputs")
	if err1 != nil || err2 != nil {
		return differences, false
	}
	known := answers.Known{}
	for _, d := range known.Differences(answers.Case{Outputs: oip.Values(before)}, oip.Values(after)) {
		differences = append(differences, say(d))
	}
	return differences, true
}

const (
	// seconds is up to how long a window is counted by the second, minutes and hours by those, more by days.
	seconds = 15 * time.Minute
	minutes = 6 * time.Hour
	hours   = 14 * 24 * time.Hour
)

// checkWindow says whether a window can be looked at.
func checkWindow(window time.Duration) error { return span.CheckWindow(window, longestOf) }

// Refusals says what the gateway turned away at an endpoint in a window that ends now; the empty endpoint stands for
// requests that found none.
func (s *Service) Refusals(ctx context.Context, by act.Actor, endpoint string, window time.Duration,
) (wire.Refusals, error) {
	var out wire.Refusals
	if err := by.May(access.Read); err != nil {
		return out, err
	}
	if endpoint == "" {
		if err := by.Need(access.Administer, ""); err != nil {
			return out, err
		}
	} else if _, err := s.traffic.FindEndpoint(ctx, s.Read(by), endpoint); err != nil {
		return out, err
	}
	if err := checkWindow(window); err != nil {
		return out, err
	}
	now := s.Now()
	out = wire.Refusals{Endpoint: endpoint, From: now.Add(-window), To: now, Items: []wire.Refusal{}}
	at, err := s.refused(ctx, &out, window)
	if err != nil {
		return out, err
	}
	for why := range request.Reasons {
		r := wire.Refusal{Reason: why.Code(), What: why.What(), Points: []wire.RefusalPoint{}}
		for _, w := range at {
			if n := w.Refusals[why]; n > 0 {
				r.Count += n
				r.Points = append(r.Points, wire.RefusalPoint{At: w.At, Count: n})
			}
		}
		if r.Count > 0 {
			out.Items = append(out.Items, r)
		}
		out.Total += r.Count
	}
	slices.SortStableFunc(out.Items, func(a, b wire.Refusal) int { return cmp.Compare(b.Count, a.Count) })
	return out, nil
}

// refused reads what was turned away in steps that suit the window, and says how long they are.
func (s *Service) refused(ctx context.Context, out *wire.Refusals, window time.Duration) ([]signals.Refused, error) {
	if window <= seconds {
		step := max(time.Second, (window / 180).Round(time.Second))
		out.StepMS, out.From = step.Milliseconds(), out.From.Truncate(step)
		var at []signals.Refused
		for t := out.From; t.Before(out.To); t = t.Add(step) {
			if n := s.recorder.RefusedLately(out.Endpoint, t, t.Add(step)); n.Total() > 0 {
				at = append(at, signals.Refused{At: t, Refusals: n})
			}
		}
		return at, nil
	}
	level := levelFor(window)
	out.StepMS, out.From = level.Length().Milliseconds(), out.From.Truncate(level.Length())
	kept := s.signals.Store()
	if kept == nil {
		return nil, recorder.Away()
	}
	if err := s.recorder.Flush(ctx); err != nil {
		s.Log.Warn("the last seconds are missing from what was turned away", "error", err)
	}
	return kept.Refused(ctx, out.Endpoint, level, out.From, out.To)
}
