package observe

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"strings"
	"sync/atomic"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/jobs"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

const (
	// usualEvery is how often it is looked up what is usual; usualBack is the time that counts, but for the last
	// usualLess, in which what is wrong now may have begun.
	usualEvery = 5 * time.Minute
	usualBack  = 24 * time.Hour
	usualLess  = 5 * time.Minute
	// leastUsual is of how many requests it is known what is usual.
	leastUsual = 1000
	// longRows is how many fresh rows a distribution is judged by, longest how long is waited for them.
	longRows = 500
	longest  = time.Hour
	// keepWatchesEvery is how often it is kept where watches stand.
	keepWatchesEvery = 30 * time.Second
	// mostLookups is of how many endpoints it is looked up at once what is usual: the others' turn comes.
	mostLookups = 16
	// noTraffic is how long nobody may have called an endpoint that is said to have traffic.
	noTraffic = 15 * time.Minute
)

// watching is the watching of one endpoint.
type watching struct {
	watch.Watched
	loaded bool
	// begun is when it was looked at first in this process, last up to when it was.
	begun, last time.Time
	// usual is what was usual when it was looked up last, with which main version.
	usual   watch.Usual
	usualAt time.Time
	main    string
	// long is what was read since distributions were judged last, longFresh how many rows of it were fresh.
	long      sketch.Content
	longFresh uint64
	longSince time.Time
	kept      time.Time
	// owed are changes whose alerts could not be recorded yet.
	owed []watch.Change
	// shown is where the watches stood after the last look, for whoever asks: nobody waits for a look that goes on.
	shown atomic.Pointer[watch.Watched]
}

// StepWatches looks at all endpoints. It is called every few seconds.
func (s *Service) StepWatches(ctx context.Context) error {
	endpoints, err := s.DB.Read(records.Everything).Endpoints(ctx)
	if err != nil {
		return err
	}
	there := map[string]bool{}
	for _, e := range endpoints {
		there[e.Name] = true
	}
	s.watchesMu.Lock()
	maps.DeleteFunc(s.watches, func(name string, _ *watching) bool { return !there[name] })
	s.watchesMu.Unlock()
	s.lookups = 0
	return jobs.Each(endpoints, func(e traffic.Endpoint) string { return e.Name }, func(e traffic.Endpoint) error {
		return s.stepWatch(ctx, &e)
	})
}

// watchingOf is the watching of an endpoint, for the job that looks.
func (s *Service) watchingOf(ctx context.Context, endpoint string) (*watching, error) {
	s.watchesMu.Lock()
	w := s.watches[endpoint]
	if w == nil {
		w = &watching{}
		s.watches[endpoint] = w
	}
	s.watchesMu.Unlock()
	if kept := s.signals.Store(); !w.loaded && kept != nil {
		stored, err := kept.Watches(ctx, endpoint)
		if err != nil && !errors.Is(err, signals.ErrNone) {
			return nil, err
		}
		w.Watched, w.loaded = stored, true
	}
	return w, nil
}

func (s *Service) stepWatch(ctx context.Context, e *traffic.Endpoint) error {
	if e.Split == nil || len(e.Split.Lanes) == 0 {
		return nil
	}
	w, err := s.watchingOf(ctx, e.Name)
	if err != nil {
		return err
	}
	now := s.Now()
	to := now.Truncate(time.Second)
	from := w.last
	w.last = to
	lately := s.recorder.Lately(e.Name)
	if w.begun.IsZero() {
		w.begun = to
	}
	if from.IsZero() || to.Sub(from) > inMemory || !from.Before(to) {
		return nil // it has just begun, or the clock was set
	}
	if main := e.Split.Main().Version; main != w.main || now.Sub(w.usualAt) > usualEvery {
		if s.lookups >= mostLookups {
			return nil
		}
		s.lookups++
		if w.main != "" && main != w.main {
			w.Distrust()
		}
		w.usual, w.usualAt, w.main = s.usual(ctx, e, now), now, main
	}
	seen := &watch.Seen{Content: lately.Content, Fresh: lately.Fresh}
	for _, r := range s.recorder.Recent(e.Name, from, to) {
		if r.Dealt() {
			seen.Counts = seen.Counts.Plus(r.Traffic.Counts)
			if w.usual.Slow > 0 {
				seen.Slow += r.Traffic.Latency.Above(2 * w.usual.Slow)
			}
		}
	}
	refused := s.recorder.RefusedLately(e.Name, from, to)
	if refused.Total() == 0 {
		seen.Silent = now.Sub(later(w.begun, s.recorder.LastCalled(e.Name)))
	}
	refused[request.NoHealthyLane] = 0 // a lane has counted those as failures
	seen.Refused = refused.Total()
	w.gather(lately.Content, lately.Fresh, now)
	if w.longFresh >= longRows || now.Sub(w.longSince) > longest {
		seen.Long, seen.LongFresh = &w.long, w.longFresh
	}
	changes := w.Step(seen, &w.usual, now)
	w.shown.Store(&watch.Watched{Stands: maps.Clone(w.Stands)})
	w.owed = append(w.owed, changes...)
	for len(w.owed) > 0 { // what cannot be recorded now is the next time
		if err := s.changed(ctx, e, w, seen, w.owed[0], now); err != nil {
			return err
		}
		w.owed = w.owed[1:]
	}
	if seen.Long != nil {
		w.long, w.longFresh = sketch.Content{}, 0
	}
	if kept := s.signals.Store(); kept != nil && (len(changes) > 0 || now.Sub(w.kept) > keepWatchesEvery) {
		w.kept = now
		return kept.PutWatches(ctx, e.Name, w.Watched)
	}
	return nil
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// gather adds what was read to what distributions are judged by.
func (w *watching) gather(c sketch.Content, fresh uint64, now time.Time) {
	if w.longFresh == 0 && w.long.Rows == 0 {
		w.longSince = now
	}
	w.long.Merge(&c)
	w.longFresh += fresh
}

// changed raises or resolves the alert about a group of watches.
func (s *Service) changed(ctx context.Context, e *traffic.Endpoint, w *watching, seen *watch.Seen, c watch.Change,
	now time.Time,
) error {
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Handle, func(tx *act.Tx) (struct{}, error) {
		if c.Resolved {
			return struct{}{}, s.resolveAlertsOf(ctx, tx, watch.Fired, e.Name, c.Group, "It is as it should be again.")
		}
		var parts []string
		for i, f := range c.Fires {
			if i == mostTold {
				parts = append(parts, fmt.Sprintf("And %d more.", len(c.Fires)-i))
				break
			}
			parts = append(parts, f.Sentence)
			if cause := s.cause(w, seen, f); cause != "" {
				parts = append(parts, cause)
			}
		}
		parts = append(parts, s.causes(e, c, now)...)
		return struct{}{}, s.Raise(ctx, tx, &watch.Alert{
			Kind: watch.Fired, Project: e.Project, Endpoint: e.Name, Subject: c.Group, Signal: c.Fires[0].Signal,
			Sentence: strings.Join(parts, " "),
		})
	})
	return err
}

// mostTold is how many watches of a group an alert tells of.
const mostTold = 3

// cause says what may be behind what one watch has seen, where that can be told from its column.
func (s *Service) cause(w *watching, seen *watch.Seen, st watch.Stand) string {
	signal, column := watch.Parts(st.Signal)
	content := &seen.Content
	if seen.Long != nil {
		content = seen.Long
	}
	ref, is := w.usual.Inputs[column], content.Inputs[column]
	if signal == watch.PredictionDrift {
		ref, is = w.usual.Outputs[column], content.Outputs[column]
	}
	if ref == nil || is == nil || !ref.Bins.Numeric() || ref.Seen() == 0 || is.Seen() == 0 {
		return ""
	}
	return watch.OtherUnit(column, watch.Spread{Mean: ref.Mean(), Deviation: ref.StandardDeviation()},
		watch.Spread{Mean: is.Mean(), Deviation: is.StandardDeviation()})
}

// causes says what else happened when a group of watches began to fire.
func (s *Service) causes(e *traffic.Endpoint, c watch.Change, now time.Time) (out []string) {
	began := c.Fires[0].Began
	if c.Group == watch.RefusalRate {
		refused := s.recorder.RefusedLately(e.Name, began, now)
		for why, n := range refused {
			if n > 0 && n*10 >= refused.Total()*8 {
				out = append(out, fmt.Sprintf("%d of %d %s.", n, refused.Total(), request.Reason(why).What()))
			}
		}
	}
	if after := began.Sub(e.Split.MadeAt); e.Split.Number > 1 && after > -2*watch.Every && after < time.Minute {
		out = append(out, fmt.Sprintf("Split #%d came into force at %s, when it began.", e.Split.Number,
			e.Split.MadeAt.UTC().Format("15:04:05")))
	}
	return out
}

// usual looks up what an endpoint did in the day before, and what its columns are held against. What cannot be read
// is not known.
func (s *Service) usual(ctx context.Context, e *traffic.Endpoint, now time.Time) watch.Usual {
	u := watch.Usual{
		Missing: map[string]float64{}, Outside: map[string]float64{},
		Inputs: map[string]*sketch.Column{}, Outputs: map[string]*sketch.Column{},
	}
	s.references(ctx, e, &u)
	u.Quietest = s.quietest(ctx, e.Name, now)
	from, to := now.Add(-usualBack).Truncate(time.Hour), now.Add(-usualLess)
	windows, err := s.recorder.Windows(ctx, signals.Query{
		Endpoint: e.Name, From: from, To: to, Longest: signals.Hour, Latency: true, Content: true,
	})
	if err != nil {
		s.Log.Warn("what is usual is not known", "endpoint", e.Name, "error", err)
		return u
	}
	var sum sketch.Summary
	for _, w := range windows {
		if w.Dealt() {
			sum.Merge(w.Summary)
		}
	}
	if sum.Counts.Requests < leastUsual {
		return u
	}
	u.Errors = float64(sum.Counts.Failed()) / float64(sum.Counts.Requests)
	u.Slow = sum.Latency.Nanoseconds(0.99)
	for name, c := range sum.Content.Inputs {
		if all := c.Total(); all >= leastUsual {
			u.Missing[name] = max(u.Missing[name], float64(c.Missing)/float64(all))
			u.Outside[name] = max(u.Outside[name], float64(c.Outside())/float64(max(1, c.Seen())))
		}
	}
	if kept := s.signals.Store(); kept != nil {
		if refused, err := kept.Refused(ctx, e.Name, signals.Hour, from, to); err == nil {
			n := uint64(0)
			for _, r := range refused {
				r.Refusals[request.NoHealthyLane] = 0
				n += r.Refusals.Total()
			}
			u.Refused = float64(n) / float64(n+sum.Counts.Requests)
		}
	}
	return u
}

// quietest looks up the quietest hour of the last week, of those since the endpoint was called first.
func (s *Service) quietest(ctx context.Context, endpoint string, now time.Time) (q watch.Quietest) {
	to := now.Truncate(time.Hour)
	windows, err := s.recorder.Windows(ctx, signals.Query{
		Endpoint: endpoint, From: to.AddDate(0, 0, -7), To: to, Longest: signals.Hour,
	})
	if err != nil || len(windows) == 0 {
		return q
	}
	hours := map[time.Time]uint64{}
	first := to
	for _, w := range windows {
		if w.Lane != signals.Shadow {
			hour := w.At.Truncate(time.Hour)
			hours[hour] += w.Summary.Counts.Requests
			if hour.Before(first) {
				first = hour
			}
		}
	}
	// The first hour is one in which it was called for a part of it.
	for at := first.Add(time.Hour); at.Before(to); at = at.Add(time.Hour) {
		if n := hours[at]; q.Hours == 0 || n < q.Fewest {
			q.Fewest = n
		}
		q.Hours++
	}
	return q
}

// references are the columns of the reference profile of main.
func (s *Service) references(ctx context.Context, e *traffic.Endpoint, u *watch.Usual) {
	v, err := s.registry.Version(ctx, act.BySelf(), e.Split.Main().Version)
	if err != nil || v.Signature == nil {
		return
	}
	p, err := s.registry.Profile(ctx, act.BySelf(), v.Ref)
	if err != nil || p == nil {
		return
	}
	bins := s.recorder.Bins(e.Name)
	on := func(side, name string) *sketch.Column { // the profile of a later version may have other bins
		ref := p.Columns[name]
		b, counted := bins[signals.Column{Endpoint: e.Name, Side: side, Name: name}]
		if ref == nil || !counted {
			return nil
		}
		return ref.On(b, p.Fine[name])
	}
	for _, c := range v.Signature.Inputs {
		if ref := on(signals.Input, c.Name); ref != nil && ref.Total() > 0 {
			u.Inputs[c.Name] = ref
			u.Missing[c.Name] = float64(ref.Missing) / float64(ref.Total())
		}
	}
	for _, c := range v.Signature.Outputs {
		if ref := on(signals.Output, c.Name); ref != nil {
			u.Outputs[c.Name] = ref
		}
	}
}

// Watches lists where the watches of an endpoint stand, the worst first.
func (s *Service) Watches(ctx context.Context, by act.Actor, name string) (wire.Watches, error) {
	e, err := s.traffic.Endpoint(ctx, by, name)
	if err != nil {
		return wire.Watches{}, err
	}
	w := s.shownOf(e.Name)
	return wire.Watches{Endpoint: e.Name, Items: append([]watch.Stand{}, w.List()...), Every: watch.Every.String()}, nil
}

// stateOf says in a word how an endpoint is, from what is known of its lanes.
func (s *Service) stateOf(endpoint string, n *wire.EndpointNow, now time.Time) watch.EndpointState {
	k := watch.Known{}
	for _, l := range n.Lanes {
		if l.Kind.Answers() {
			k.Healthy = k.Healthy || l.Healthy
			k.Trial = k.Trial || l.Kind == traffic.Trial
		}
	}
	k.Called = now.Sub(s.recorder.LastCalled(endpoint)) < noTraffic ||
		s.recorder.RefusedLately(endpoint, now.Add(-noTraffic), now).Total() > 0
	return s.shownOf(endpoint).State(k)
}

// shownOf is where the watches of an endpoint stood after the last look.
func (s *Service) shownOf(endpoint string) *watch.Watched {
	s.watchesMu.Lock()
	defer s.watchesMu.Unlock()
	if w := s.watches[endpoint]; w != nil {
		if shown := w.shown.Load(); shown != nil {
			return shown
		}
	}
	return &watch.Watched{}
}
