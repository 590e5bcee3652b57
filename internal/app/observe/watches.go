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
	"innerladder/internal/core/guard"
	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/jobs"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/signals"
)

const (
	// longRows is how many fresh rows a distribution is judged by, or what comes until the hour is over.
	longRows = 500
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
	// usual is what was usual when it was looked up last, with which main version and by which revision of its watches.
	usual    watch.Usual
	usualAt  time.Time
	main     string
	revision int
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
	if !s.lookUp(ctx, e, w, now) {
		return nil
	}
	seen := s.seen(e, w, lately, from, to)
	seen.Truths, seen.Custom = s.truthsOf(e.Name, w.main), s.reportsOf(e.Name)
	turned := w.long.Rows > 0 && now.Truncate(time.Hour).After(w.longSince.Truncate(time.Hour))
	if !turned { // what is judged lies in one hour: another is another hour of the week
		w.gather(lately.Content, lately.Fresh, now)
	}
	if turned || w.longFresh >= longRows {
		seen.Long, seen.LongFresh, seen.LongAt = &w.long, w.longFresh, w.longSince
	}
	mutes, err := s.DB.Read(records.Everything).Mutes(ctx, e.Name, now)
	if err != nil {
		return err
	}
	changes := w.Step(&e.Watches, seen, &w.usual, now)
	w.shown.Store(&watch.Watched{Stands: maps.Clone(w.Stands)})
	w.owed = append(w.owed, w.Due(changes, mutes, now)...)
	for len(w.owed) > 0 { // what cannot be recorded now is the next time
		if err := s.changed(ctx, e, w, seen, w.owed[0], now); err != nil {
			return err
		}
		w.owed = w.owed[1:]
	}
	if seen.Long != nil {
		w.long, w.longFresh = sketch.Content{}, 0
	}
	if turned {
		w.gather(lately.Content, lately.Fresh, now)
	}
	if kept := s.signals.Store(); kept != nil && (len(changes) > 0 || now.Sub(w.kept) > keepWatchesEvery) {
		w.kept = now
		return kept.PutWatches(ctx, e.Name, w.Watched)
	}
	return nil
}

// seen is what an endpoint did between two moments.
func (s *Service) seen(e *traffic.Endpoint, w *watching, lately recorder.Lately, from, to time.Time) *watch.Seen {
	seen := &watch.Seen{Content: lately.Content, Fresh: lately.Fresh, Took: to.Sub(from)}
	for _, r := range s.recorder.Recent(e.Name, from, to) {
		if !r.Dealt() {
			continue
		}
		seen.All.Counts = seen.All.Counts.Plus(r.Traffic.Counts)
		seen.All.Latency.Merge(&r.Traffic.Latency)
		if r.Lane == string(traffic.Trial) {
			seen.Trial.Counts = seen.Trial.Counts.Plus(r.Traffic.Counts)
			seen.Trial.Latency.Merge(&r.Traffic.Latency)
		}
	}
	refused := s.recorder.RefusedLately(e.Name, from, to)
	if refused.Total() == 0 {
		seen.Silent = to.Sub(later(w.begun, s.recorder.LastCalled(e.Name)))
	}
	refused[request.NoHealthyLane] = 0 // a lane has counted those as failures
	seen.Refused = refused.Total()
	return seen
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

// changed does what a watch asks for, and raises or resolves the alert about its group.
func (s *Service) changed(ctx context.Context, e *traffic.Endpoint, w *watching, seen *watch.Seen, c watch.Change,
	now time.Time,
) error {
	parts := s.told(ctx, e, w, seen, c, now)
	if then, first := c.Response(); then != guard.Notify && !c.Resolved {
		did, err := s.respond(ctx, e.Name, first)
		if err != nil {
			return err
		}
		parts = append(parts, did)
	}
	_, err := act.Change(ctx, s.Base, act.BySelf(), access.Handle, func(tx *act.Tx) (struct{}, error) {
		if c.Resolved {
			return struct{}{}, s.resolveAlertsOf(ctx, tx, watch.Fired, e.Name, c.Group, "It is as it should be again.")
		}
		return struct{}{}, s.Raise(ctx, tx, &watch.Alert{
			Kind: watch.Fired, Project: e.Project, Endpoint: e.Name, Subject: c.Group, Signal: c.Fires[0].Signal,
			Sentence: strings.Join(parts, " "),
		})
	})
	return err
}

// told is what an alert about a group of watches says, but for what is done.
func (s *Service) told(ctx context.Context, e *traffic.Endpoint, w *watching, seen *watch.Seen, c watch.Change,
	now time.Time,
) (out []string) {
	for i, f := range c.Fires {
		if i == mostTold {
			out = append(out, fmt.Sprintf("And %d more.", len(c.Fires)-i))
			break
		}
		out = append(out, f.Sentence)
		if f.About != "" {
			out = append(out, strings.TrimSuffix(f.About, ".")+".")
		}
		if cause := s.cause(w, seen, f); cause != "" {
			out = append(out, cause)
		}
	}
	if !c.Resolved {
		out = append(out, s.causes(ctx, e, c, now)...)
	}
	return out
}

// mostTold is how many watches of a group an alert tells of.
const mostTold = 3
