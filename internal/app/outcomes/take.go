// Package outcomes takes in the truth of earlier predictions, and says how right each version is.
package outcomes

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/observe"
	"innerladder/internal/app/registry"
	"innerladder/internal/app/traffic"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/outcome"
	coreregistry "innerladder/internal/core/registry"
	"innerladder/internal/core/request"
	coretraffic "innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
	"innerladder/internal/requestlog"
	"innerladder/internal/signals"
	"innerladder/internal/wire"

	"github.com/google/uuid"
)

const (
	// mostItems is how many truths are taken at once, mostScanned how many requests are looked through for them.
	mostItems   = 1000
	mostScanned = 200_000
	// longestWithin is how far from the moment that is said a request may have been asked.
	longestWithin = 24 * time.Hour
	page          = 500
)

// Service does what this package is for. It is safe for use by several goroutines at once.
type Service struct {
	*act.Base
	registry *registry.Service
	traffic  *traffic.Service
	observe  *observe.Service
	recorder *recorder.Recorder
	signals  *signals.Keeper
	log      *requestlog.Log
	ids      *coretraffic.RequestIDs
}

// New makes a service.
func New(b *act.Base, r *registry.Service, t *traffic.Service, o *observe.Service, rec *recorder.Recorder,
	kept *signals.Keeper, log *requestlog.Log, ids *coretraffic.RequestIDs,
) *Service {
	return &Service{Base: b, registry: r, traffic: t, observe: o, recorder: rec, signals: kept, log: log, ids: ids}
}

// taking is one call with truths.
type taking struct {
	endpoint *coretraffic.Endpoint
	classes  bool
	oldest   time.Time
	now      time.Time
	out      wire.OutcomesTaken
	pairs    []outcome.Pair
	ids      *coretraffic.RequestIDs
	// of says which item a pair is of, has which items have one.
	of  []int
	has map[int]bool
}

// Take joins truths to what an endpoint predicted, and says what became of each. What cannot be joined is told and
// never guessed.
func (s *Service) Take(ctx context.Context, by act.Actor, endpoint string, in wire.NewOutcomes,
) (wire.OutcomesTaken, error) {
	none := wire.OutcomesTaken{}
	e, err := s.traffic.EndpointFor(ctx, by, access.Report, endpoint)
	if err != nil {
		return none, err
	}
	if err := check(e, in); err != nil {
		return none, err
	}
	m, err := s.registry.Model(ctx, by, e.Model)
	if err != nil {
		return none, err
	}
	t := &taking{
		endpoint: e, classes: m.Task == coreregistry.Classification, now: s.Now(), has: map[int]bool{}, ids: s.ids,
		out: wire.OutcomesTaken{
			Endpoint: e.Name, Account: outcome.NewAccount(), Keeps: e.Requests.String(),
		},
	}
	if t.oldest, err = s.log.Oldest(e.ID); err != nil {
		return none, err
	}
	within, _ := time.ParseDuration(in.Within) // it was checked
	keyed := outcome.NewKeyed(within)
	for i := range in.Items {
		switch item := &in.Items[i]; {
		case item.Request != "":
			if err := s.byID(ctx, t, i, item); err != nil {
				return none, err
			}
		case item.At.Add(within).Before(t.oldest):
			t.left(item, outcome.Late, "it is of %s; the log goes back to %s", item.At.UTC().Format(time.RFC3339),
				day(t.oldest))
		default:
			keyed.Put(i, item)
		}
	}
	if err := s.byKeys(ctx, t, keyed, within); err != nil {
		return none, err
	}
	return s.keep(ctx, t, in)
}

// check says whether truths can be looked at.
func check(e *coretraffic.Endpoint, in wire.NewOutcomes) error {
	bad := func(field, remedy, what string, args ...any) error {
		return fault.New(fault.Invalid, "outcomes.form", what, args...).In(field).Do("%s", remedy)
	}
	if len(in.Items) == 0 || len(in.Items) > mostItems {
		return bad("items", fmt.Sprintf("give from 1 to %d at once", mostItems), "there are %d truths", len(in.Items))
	}
	within, err := time.ParseDuration(in.Within)
	if in.Within != "" && (err != nil || within < 0 || within > longestWithin) {
		return bad("within", "give from 0 to 24h, such as 30m", "%q is no time around a moment", in.Within)
	}
	for i, t := range in.Items {
		at := fmt.Sprintf("items[%d].", i)
		switch {
		case len(t.Values) == 0:
			return bad(at+"values", "give the truth by the name of the output", "a truth has no value")
		case t.Request != "" && len(t.Keys) > 0:
			return bad(at+"keys", "leave them out where there is an id", "a truth has both an id and keys")
		case t.Request == "" && (len(t.Keys) == 0 || t.At == nil):
			return bad(at+"request", "give the id of the request, or keys and the time at which it was asked",
				"a truth does not say of which request it is")
		case t.Request == "" && in.Within == "":
			return bad("within", "say how far from that time the request may have been asked, such as 30m",
				"truths are found by keys and time")
		}
		for name := range t.Keys {
			if how := e.Requests.Of(name); how != "" {
				return bad(at+"keys", "use the ids of requests, or other columns",
					"the log of %s keeps %s by %q, so that it cannot be looked for", e.Name, name, how)
			}
		}
	}
	return nil
}

// left notes that a truth was not joined.
func (t *taking) left(item *outcome.Truth, fate outcome.Fate, why string, args ...any) {
	t.out.Leave(item.Line, item.Request, fate, why, args...)
}

// take joins a truth to a request.
func (t *taking) take(i int, item *outcome.Truth, k *request.Kept) {
	pairs, fate, why := outcome.Join(item, k, t.classes)
	if len(pairs) == 0 {
		t.left(item, fate, "%s", why)
		return
	}
	for _, p := range pairs {
		p.Arrived = t.now
		if t.apart(k.ID) {
			p.Lane = signals.Pinned
		}
		t.pairs, t.of = append(t.pairs, p), append(t.of, i)
	}
	t.has[i] = true
}

// apart reports whether the caller of a request was not drawn for its lane, as its id says.
func (t *taking) apart(request string) bool {
	id, err := uuid.Parse(request)
	_, origin, ok := t.ids.Read(id)
	return err == nil && ok && origin.Apart
}

// byID joins a truth to the request with its id.
func (s *Service) byID(ctx context.Context, t *taking, i int, item *outcome.Truth) error {
	id, err := uuid.Parse(strings.TrimSpace(item.Request))
	at, origin, ok := s.ids.Read(id)
	switch {
	case err != nil || !ok:
		t.left(item, outcome.Unmatched, "%.60q is no id of a request here", item.Request)
		return nil
	case origin.Endpoint != t.endpoint.ID:
		t.left(item, outcome.Unmatched, "request %s was to another endpoint", id)
		return nil
	}
	k, err := s.log.Find(ctx, t.endpoint.ID, id, at)
	switch {
	case errors.Is(err, requestlog.ErrNone) && at.Before(t.oldest): // never where nothing is kept yet
		t.left(item, outcome.Late, "request %s was answered at %s; the log goes back to %s", id,
			at.UTC().Format(time.RFC3339), day(t.oldest))
	case errors.Is(err, requestlog.ErrNone):
		t.left(item, outcome.Unmatched, "request %s is not in the log", id)
	case err != nil:
		return err
	default:
		t.take(i, item, &k)
	}
	return nil
}

func day(t time.Time) string { return t.UTC().Format(time.DateOnly) }

// byKeys joins truths to the requests that have their keys, and were asked around their time.
func (s *Service) byKeys(ctx context.Context, t *taking, keyed *outcome.Keyed, within time.Duration) error {
	if len(keyed.Truths()) == 0 {
		return nil
	}
	from, to := keyed.Span()
	found := map[int]bool{}
	scanned := 0
	f := request.Filter{From: from, To: to.Add(time.Millisecond), Outcome: request.Answered}
	for part := (requestlog.Part{Limit: page}); ; {
		some, err := s.log.Search(ctx, t.endpoint.ID, f, part)
		if err != nil {
			return err
		}
		for n := range some.Items {
			t.lookAt(&some.Items[n], keyed, found)
		}
		if scanned += len(some.Items); scanned > mostScanned {
			return fault.New(fault.Refused, "outcomes.span",
				"more than %d requests were answered between %s and %s", mostScanned, from.UTC().Format(time.RFC3339),
				to.UTC().Format(time.RFC3339)).In("items").
				Do("give truths of a shorter time at once, or ids of requests")
		}
		if part.Before = some.Next; some.Next == "" {
			break
		}
	}
	for _, i := range slices.Sorted(maps.Keys(keyed.Truths())) {
		if item := keyed.Truths()[i]; !found[i] {
			t.left(item, outcome.Unmatched, "no request with %s was answered within %s of %s", item.KeysInWords(),
				within, item.At.UTC().Format(time.RFC3339))
		}
	}
	return nil
}

// lookAt joins a request to the truths that want it.
func (t *taking) lookAt(k *request.Kept, keyed *outcome.Keyed, found map[int]bool) {
	for _, want := range keyed.Of(k) {
		i := want.Number
		if found[i] && !t.has[i] { // what could not be joined to a request is told once
			continue
		}
		found[i] = true
		one := *keyed.Truths()[i]
		one.Row = &want.Row
		t.take(i, &one, k)
	}
}

// keep writes the pairs down and says what became of them.
func (s *Service) keep(ctx context.Context, t *taking, in wire.NewOutcomes) (wire.OutcomesTaken, error) {
	kept := s.signals.Store()
	if kept == nil {
		return t.out, recorder.Away()
	}
	fates, err := kept.PutOutcomes(ctx, t.endpoint.Name, t.pairs, in.Replace)
	if err != nil {
		return t.out, err
	}
	fresh := outcome.Fresh(t.pairs, fates)
	t.out.Pairs = len(fresh)
	s.observe.Told(t.endpoint.Name, fresh)
	t.out.Settle(fates, t.of, "another truth was told before; give replace to put this one in its place",
		func(i int) (int, string) { return in.Items[i].Line, in.Items[i].Request })
	return t.out, nil
}
