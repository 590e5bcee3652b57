package observe

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

const (
	// shortestWindow and longestWindow bound what can be looked at at once.
	shortestWindow = time.Minute
	longestWindow  = 30 * 24 * time.Hour
	// nowSpan is how much of the past "now" is.
	nowSpan = 10 * time.Second
)

func checkWindow(w time.Duration) error {
	if w < shortestWindow || w > longestWindow {
		return fault.New(fault.Invalid, "window.range", "a window of %s cannot be looked at", w).In("window").
			Do("give from %s to %s, such as 10m", shortestWindow, longestWindow)
	}
	return nil
}

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

func (s *Service) endpointNow(ctx context.Context, by act.Actor, e *traffic.Endpoint) (wire.EndpointNow, error) {
	now := s.Now()
	n := wire.EndpointNow{
		Endpoint: e.Name, Project: e.Project, At: now, Lanes: []wire.LaneNow{}, Guards: []wire.GuardNow{},
	}
	if e.Split == nil {
		return n, nil
	}
	n.Split = e.Split.Number
	// Whole seconds that are over, so that a rate is not cut.
	to := now.Truncate(time.Second)
	span := min(nowSpan, max(time.Second, to.Sub(e.Split.MadeAt).Truncate(time.Second)))
	recent := s.recorder.Recent(e.Name, to.Add(-span), to)
	counts := s.recorder.Counts(e.Name, e.Split.Number)
	for _, l := range e.Split.Lanes {
		ln := wire.LaneNow{Lane: l, Requests: counts[l.Version].Requests, Failed: counts[l.Version].Failed()}
		p, err := s.Read(by).PlacementOf(ctx, l.Version, e.Environment)
		if err != nil && !errors.Is(err, records.ErrNone) {
			return n, err
		}
		ln.Healthy = err == nil && p.Healthy
		for _, r := range recent {
			if r.Split == e.Split.Number && r.Version == l.Version && r.Lane == string(l.Kind) {
				pt := point(to, r.Traffic, span)
				ln.Rate, ln.ErrorRate, ln.P50, ln.P95, ln.P99 = pt.Rate, pt.ErrorRate, pt.P50, pt.P95, pt.P99
			}
		}
		n.Lanes = append(n.Lanes, ln)
	}
	if len(e.Split.Trials()) == 0 {
		return n, nil
	}
	state, err := s.Watching(ctx, e.Name)
	if err != nil {
		return n, err
	}
	if state.Split != e.Split.Number {
		// The guards have not looked at this split yet; what they will say is said now.
		trials, err := s.traffic.TrialsOf(ctx, s.DB.Read(records.Everything), *e)
		if err != nil {
			return n, err
		}
		evidence, ready := s.Evidence(ctx, e.Name, trials)
		if !ready {
			return n, nil
		}
		state, _ = guard.Step(e.Plan, e.Split.Number, trials, state, evidence, now)
	}
	for _, t := range state.Trials {
		for _, r := range t.Readings {
			n.Guards = append(n.Guards, wire.GuardNow{Version: t.Candidate, Reading: r})
		}
	}
	return n, nil
}

const (
	// inMemory is how far back single seconds are kept.
	inMemory = 15 * time.Minute
	// seriesByHours is from how long a span on a series has hours, not minutes.
	seriesByHours = 48 * time.Hour
	// mostPoints is how many steps a series has at most, about.
	mostPoints = 180
)

// Series says what an endpoint did over a window: in steps of seconds for the last
// quarter of an hour, in minutes for more.
func (s *Service) Series(ctx context.Context, by act.Actor, endpoint string,
	window time.Duration,
) (wire.Series, error) {
	if _, err := s.traffic.Endpoint(ctx, by, endpoint); err != nil {
		return wire.Series{}, err
	}
	if err := checkWindow(window); err != nil {
		return wire.Series{}, err
	}
	step := max(time.Second, (window / mostPoints).Round(time.Second))
	longest := signals.Minute
	switch {
	case window > seriesByHours:
		longest, step = signals.Hour, max(time.Hour, (window/mostPoints).Round(time.Hour))
	case window > inMemory:
		step = max(time.Minute, (window / mostPoints).Round(time.Minute))
	}
	now := s.Now()
	from := now.Add(-window).Truncate(step)
	out := wire.Series{
		Endpoint: endpoint, From: from, To: now, StepMS: step.Milliseconds(), Lanes: []wire.LaneSeries{},
		Splits: []traffic.Split{}, Alerts: []watch.Alert{},
	}

	type key struct{ lane, version string }
	steps := map[key]map[time.Time]*sketch.Traffic{}
	add := func(k signals.Key, at time.Time, t *sketch.Traffic) {
		id := key{k.Lane, k.Version}
		if steps[id] == nil {
			steps[id] = map[time.Time]*sketch.Traffic{}
		}
		if steps[id][at] == nil {
			steps[id][at] = &sketch.Traffic{}
		}
		steps[id][at].Merge(t)
	}
	if window > inMemory {
		windows, err := s.recorder.Windows(ctx,
			signals.Query{Endpoint: endpoint, From: from, To: now, Longest: longest, Latency: true})
		if err != nil {
			return out, err
		}
		for _, w := range windows {
			add(w.Key, w.At.Truncate(step), &w.Summary.Traffic)
		}
	} else {
		for at := from; at.Before(now.Truncate(time.Second)); at = at.Add(step) {
			for _, r := range s.recorder.Recent(endpoint, at, at.Add(step)) {
				add(r.Key, at, r.Traffic)
			}
		}
	}
	for k, at := range steps {
		line := wire.LaneSeries{Lane: k.lane, Version: k.version}
		for t, traffic := range at {
			line.Points = append(line.Points, point(t, traffic, step))
		}
		slices.SortFunc(line.Points, func(a, b wire.Point) int { return a.At.Compare(b.At) })
		out.Lanes = append(out.Lanes, line)
	}
	slices.SortFunc(out.Lanes, func(a, b wire.LaneSeries) int {
		return cmp.Or(cmp.Compare(a.Lane, b.Lane), cmp.Compare(a.Version, b.Version))
	})
	return out, s.addEvents(ctx, by, &out)
}

// addEvents adds what happened to the endpoint in the time of the series.
func (s *Service) addEvents(ctx context.Context, by act.Actor, out *wire.Series) error {
	splits, _, err := s.Read(by).Splits(ctx, out.Endpoint, records.Page{Limit: traffic.LookBack})
	if err != nil {
		return err
	}
	for _, sp := range splits {
		if sp.MadeAt.After(out.From) {
			out.Splits = append(out.Splits, sp)
		}
	}
	alerts, _, err := s.Read(by).Alerts(ctx, "", out.Endpoint, records.Page{Limit: traffic.LookBack})
	if err != nil {
		return err
	}
	for _, a := range alerts {
		if a.RaisedAt.After(out.From) {
			out.Alerts = append(out.Alerts, a)
		}
	}
	out.Guards = []guard.Progress{}
	if kept := s.signals.Store(); kept != nil {
		out.Guards, err = kept.Readings(ctx, out.Endpoint, out.From)
	}
	return err
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
