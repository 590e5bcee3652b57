package observe

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/request"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/sketch"
	spans "innerladder/internal/core/span"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

const (
	// longestWindow is the longest that can be looked at at once.
	longestWindow = 30 * 24 * time.Hour
	// nowSpan is how much of the past "now" is.
	nowSpan = 10 * time.Second
	// trendMinutes is over how many minutes it is shown how an endpoint goes.
	trendMinutes = 15
)

func checkWindow(w time.Duration) error { return spans.CheckWindow(w, longestWindow) }

const (
	// byHours and byDays are from how long a span on it is read by the hour and by the day,
	// as far as it can be: that is quicker, and nobody sees the difference of an edge.
	byHours = 6 * time.Hour
	byDays  = 7 * 24 * time.Hour
)

// longestFor is the longest window that serves for a span.
func longestFor(span time.Duration) signals.Level {
	switch {
	case span >= byDays:
		return signals.Day
	case span >= byHours:
		return signals.Hour
	}
	return signals.Minute
}

// startOf is where a span that ends now begins: at a whole minute, or at a whole hour when
// it is read by the hour.
func startOf(now time.Time, span time.Duration) time.Time {
	if longestFor(span) == signals.Minute {
		return now.Add(-span).Truncate(time.Minute)
	}
	return now.Add(-span).Truncate(time.Hour)
}

// EndpointsNow says what all endpoints do now.
func (s *Service) EndpointsNow(ctx context.Context, by act.Actor) ([]wire.EndpointNow, error) {
	endpoints, err := s.traffic.Endpoints(ctx, by)
	if err != nil {
		return nil, err
	}
	out := []wire.EndpointNow{}
	for _, e := range endpoints.Items {
		n, err := s.endpointNow(ctx, by, &e)
		if err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, nil
}

// EndpointNow says what one endpoint does now.
func (s *Service) EndpointNow(ctx context.Context, by act.Actor, name string) (wire.EndpointNow, error) {
	e, err := s.traffic.Endpoint(ctx, by, name)
	if err != nil {
		return wire.EndpointNow{}, err
	}
	return s.endpointNow(ctx, by, e)
}

// refusedSpan is how far back what was turned away is shown as of now: a caller who retries does so less and less
// often.
const refusedSpan = time.Minute

// refusedNow says what the gateway turned away at an endpoint lately.
func (s *Service) refusedNow(endpoint string, now time.Time) []wire.RefusedNow {
	out := []wire.RefusedNow{}
	for why, n := range s.recorder.RefusedLately(endpoint, now.Add(-refusedSpan), now) {
		if r := request.Reason(why); n > 0 {
			out = append(out, wire.RefusedNow{Reason: r.Code(), What: r.What(), Count: n})
		}
	}
	slices.SortStableFunc(out, func(a, b wire.RefusedNow) int { return cmp.Compare(b.Count, a.Count) })
	return out
}

func (s *Service) endpointNow(ctx context.Context, by act.Actor, e *traffic.Endpoint) (n wire.EndpointNow, err error) {
	now := s.Now()
	n = wire.EndpointNow{
		Endpoint: e.Name, Project: e.Project, At: now, Lanes: []wire.LaneNow{},
		Trend: []wire.TrendMinute{}, Guards: []wire.GuardNow{},
		RefusedOver: refusedSpan.Seconds(),
	}
	n.Refused = s.refusedNow(e.Name, now)
	if e.Split == nil {
		return n, nil
	}
	n.Split = e.Split.Number
	defer func() { n.State = s.stateOf(e.Name, &n, now) }()
	if lanes, since := s.traffic.Diverted(e.Name); len(lanes) > 0 && now.Sub(since) > time.Second {
		instead := traffic.Split{Lanes: lanes}
		n.Diverted = fmt.Sprintf("The gateway went back to %s at %s; the record follows as soon as it can be written.",
			instead.String(), since.UTC().Format("15:04:05 UTC"))
	}
	// Whole seconds that are over, so that a rate is not cut.
	to := now.Truncate(time.Second)
	span := min(nowSpan, max(time.Second, to.Sub(e.Split.MadeAt).Truncate(time.Second)))
	recent := s.recorder.Recent(e.Name, to.Add(-span), to)
	n.Trend = trendOf(s.recorder.Minutes(e.Name, to, trendMinutes))
	counts := s.recorder.Counts(e.Name, e.Split.Number)
	for _, l := range e.Split.Lanes {
		ln := wire.LaneNow{Lane: l, Requests: counts[l.Version].Requests, Failed: counts[l.Version].Failed()}
		p, err := s.Read(by).PlacementOf(ctx, l.Version, e.Environment)
		if err != nil && !errors.Is(err, records.ErrNone) {
			return n, err
		}
		if err == nil {
			ln.Healthy, ln.Addresses = p.Healthy, len(p.Addresses)
			for _, a := range p.Addresses {
				if a.Healthy {
					ln.HealthyAddresses++
				}
			}
		}
		for _, r := range recent {
			if r.Split == e.Split.Number && r.Version == l.Version && r.Lane == string(l.Kind) {
				pt := point(to, r.Traffic, span)
				ln.Rate, ln.ErrorRate, ln.P50, ln.P95, ln.P99 = pt.Rate, pt.ErrorRate, pt.P50, pt.P95, pt.P99
			}
		}
		n.Lanes = append(n.Lanes, ln)
	}
	pairs, err := s.traffic.PairsOf(ctx, s.DB.Read(records.Everything), *e)
	if err != nil || len(pairs) == 0 {
		return n, err
	}
	var moving *rollout.Rollout
	if e.Rollout != "" {
		moving, err = s.DB.Read(records.Everything).RolloutOf(ctx, e.Name)
		if err != nil && !errors.Is(err, records.ErrNone) {
			return n, err
		}
	}
	state, err := s.WatchingNow(ctx, e, moving.Terms(e.Terms), pairs)
	if err != nil {
		return n, err
	}
	n.Lanes = s.withCopies(ctx, e, pairs, n.Lanes)
	for _, t := range state.Trials {
		for _, r := range t.Readings {
			n.Guards = append(n.Guards, wire.GuardNow{Version: t.Candidate, Reading: r})
		}
	}
	return n, nil
}

// WatchingNow is where the watching of an endpoint stands. Where the guards have not looked at the split in force
// yet, what they will say is said now.
func (s *Service) WatchingNow(ctx context.Context, e *traffic.Endpoint, terms guard.Terms,
	pairs []guard.TrialPair,
) (guard.State, error) {
	state, err := s.Watching(ctx, e.Name)
	if err != nil || state.Split == e.Split.Number {
		return state, err
	}
	evidence, ready := s.EvidenceFor(ctx, e, pairs, terms)
	if !ready {
		return guard.State{}, nil
	}
	state, _ = guard.Step(terms, e.Split.Number, pairs, state, evidence, s.Now())
	return state, nil
}

func point(at time.Time, t *sketch.Traffic, span time.Duration) wire.Point {
	ms := func(p float64) float64 { return float64(t.Latency.At(p)) / float64(time.Millisecond) }
	p := wire.Point{
		At: at, Requests: t.Counts.Requests, Rate: float64(t.Counts.Requests) / span.Seconds(), P50: ms(0.5),
		P95: ms(0.95), P99: ms(0.99),
	}
	if t.Counts.Requests > 0 {
		p.ErrorRate = float64(t.Counts.Failed()) / float64(t.Counts.Requests)
	}
	return p
}

// Curve is what the guards said of a version at an endpoint in a span of time, in some hundreds of steps.
func (s *Service) Curve(ctx context.Context, endpoint, version string, from, to time.Time) ([]guard.Progress, error) {
	out := []guard.Progress{}
	kept := s.signals.Store()
	if kept == nil {
		return out, nil
	}
	all, err := kept.Readings(ctx, endpoint, from, to, max(time.Second, to.Sub(from)/mostPoints))
	for _, p := range all {
		if p.Version == version {
			out = append(out, p)
		}
	}
	return out, err
}

// Did is how many requests a version answered for an endpoint in a span of time, how many of them failed, and about
// how many callers asked, of those who give a name or a key, as far as that is known.
func (s *Service) Did(ctx context.Context, endpoint, version string, from, to time.Time,
) (requests, failed, callers uint64) {
	windows, err := s.recorder.Windows(ctx, signals.Query{
		Endpoint: endpoint, Versions: []string{version}, From: from.Truncate(time.Minute), To: to.Add(time.Minute),
		Callers: true,
	})
	if err != nil {
		s.Log.Warn("what a version did is not known", "endpoint", endpoint, "version", version, "error", err)
	}
	var who sketch.Distinct
	for _, w := range windows {
		if w.Lane != signals.Shadow { // who named the version, or was sent there by a rule, got its answers too
			requests, failed = requests+w.Summary.Counts.Requests, failed+w.Summary.Counts.Failed()
			who.Merge(&w.Summary.Callers)
		}
	}
	return requests, failed, who.Count()
}

// Lately is what the main lane of an endpoint had in the last while, as the forecast of a rollout needs it;
// nothing where that is not known.
func (s *Service) Lately(ctx context.Context, e *traffic.Endpoint, guards []guard.Guard,
	over time.Duration,
) rollout.Traffic {
	now := s.Now()
	main := e.Split.Main().Version
	windows, err := s.recorder.Windows(ctx, signals.Query{
		Endpoint: e.Name, Versions: []string{main}, From: now.Add(-over).Truncate(time.Minute), To: now, Latency: true,
		Content: true,
	})
	if err != nil || len(windows) == 0 {
		return rollout.Traffic{}
	}
	var sum sketch.Summary
	for _, w := range windows {
		if w.Dealt() {
			sum.Merge(w.Summary)
		}
	}
	span := max(time.Second, now.Sub(windows[0].At)).Seconds()
	if since := now.Sub(e.Split.MadeAt).Seconds(); e.Split.Number == 1 && since < span {
		span = max(1, since) // the first minute of it had no split
	}
	n := float64(max(1, sum.Counts.Requests))
	t := rollout.Traffic{
		Rate: float64(sum.Counts.Requests) / span, Rows: float64(sum.Content.Rows) / span,
		Failing: float64(sum.Counts.Failed()) / n, TimingOut: float64(sum.Counts.TimedOut) / n,
		Beyond: map[string]float64{}, Over: spans.Duration(time.Duration(span) * time.Second),
	}
	for _, g := range guards {
		if q := guard.Quantile(g.Signal); q > 0 && sum.Latency.Count() > 0 {
			limit := g.Limit(sum.Latency.Nanoseconds(q))
			t.Beyond[g.Signal] = float64(sum.Latency.Above(limit)) / float64(sum.Latency.Count())
		}
	}
	t.Reported = s.reportedLately(ctx, e, guards)
	return t
}

// RollSignals rolls minutes that are over up to hours and days.
func (s *Service) RollSignals(ctx context.Context) error {
	kept := s.signals.Store()
	for more := kept != nil; more; {
		var err error
		if more, err = kept.Roll(ctx, s.Clock()); err != nil {
			return err
		}
	}
	return nil
}

// trendOf is how an endpoint went by the minute, from the first in which it was called.
func trendOf(minutes []sketch.Counts) []wire.TrendMinute {
	out := []wire.TrendMinute{}
	for _, c := range minutes {
		if c.Requests == 0 && len(out) == 0 {
			continue
		}
		m := wire.TrendMinute{Rate: math.Round(float64(c.Requests)/6) / 10}
		if c.Requests > 0 {
			m.ErrorRate = float64(c.Failed()) / float64(c.Requests)
		}
		out = append(out, m)
	}
	return out
}
