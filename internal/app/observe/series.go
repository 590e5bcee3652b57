package observe

import (
	"cmp"
	"context"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

const (
	// inMemory is how far back single seconds are kept.
	inMemory = 15 * time.Minute
	// seriesByHours is from how long a span on a series has hours, not minutes.
	seriesByHours = 48 * time.Hour
	// mostPoints is how many steps a series has at most, about.
	mostPoints = 180
)

// SeriesQuestion says what of an endpoint is looked at.
type SeriesQuestion struct {
	Endpoint string
	Window   time.Duration
	// Until is when the window ends; zero is now.
	Until time.Time
	// After leaves out the steps before the one that it is in: whoever has those is told what is new.
	After time.Time
}

// Series says what an endpoint did over a window: in steps of seconds for the last quarter of an hour, in minutes for
// more, and by hours for days.
func (s *Service) Series(ctx context.Context, by act.Actor, q SeriesQuestion) (wire.Series, error) {
	if _, err := s.traffic.Endpoint(ctx, by, q.Endpoint); err != nil {
		return wire.Series{}, err
	}
	if err := checkWindow(q.Window); err != nil {
		return wire.Series{}, err
	}
	now := s.Now()
	to := now
	if !q.Until.IsZero() && q.Until.Before(now) {
		to = q.Until
	}
	g := grainOf(q.Window, to, now)
	from := to.Add(-q.Window).Truncate(g.step)
	if after := q.After.Truncate(g.step); after.After(from) {
		from = after
	}
	out := wire.Series{
		Endpoint: q.Endpoint, From: from, To: to, StepMS: g.step.Milliseconds(), Lanes: []wire.LaneSeries{},
		Splits: []traffic.Split{}, Alerts: []watch.Alert{}, Refused: []wire.RefusalPoint{},
	}
	steps, err := s.steps(ctx, &out, g)
	if err != nil {
		return out, err
	}
	for k, at := range steps {
		line := wire.LaneSeries{Lane: k.lane, Version: k.version}
		for t, traffic := range at {
			line.Points = append(line.Points, point(t, traffic, g.step))
		}
		slices.SortFunc(line.Points, func(a, b wire.Point) int { return a.At.Compare(b.At) })
		out.Lanes = append(out.Lanes, line)
	}
	slices.SortFunc(out.Lanes, func(a, b wire.LaneSeries) int {
		return cmp.Or(cmp.Compare(a.Lane, b.Lane), cmp.Compare(a.Version, b.Version))
	})
	if err := s.refusedOver(ctx, &out, g); err != nil {
		return out, err
	}
	return out, s.addEvents(ctx, by, &out)
}

// grain is how finely a series is read: in steps, which are added up of single seconds, or else of minutes or hours.
type grain struct {
	step    time.Duration
	seconds bool
	longest signals.Level
}

func grainOf(window time.Duration, to, now time.Time) grain {
	by := func(unit time.Duration) time.Duration { return max(unit, (window / mostPoints).Round(unit)) }
	switch {
	case window > seriesByHours:
		return grain{step: by(time.Hour), longest: signals.Hour}
	case to.Add(-window).Before(now.Add(-inMemory).Add(-time.Second)): // seconds are known of what was a moment ago
		return grain{step: by(time.Minute), longest: signals.Minute}
	}
	return grain{step: by(time.Second), seconds: true}
}

// seriesKey names a line of a series.
type seriesKey struct{ lane, version string }

// steps reads what each lane did in each step.
func (s *Service) steps(ctx context.Context, out *wire.Series, g grain,
) (map[seriesKey]map[time.Time]*sketch.Traffic, error) {
	steps := map[seriesKey]map[time.Time]*sketch.Traffic{}
	add := func(k signals.Key, at time.Time, t *sketch.Traffic) {
		id := seriesKey{k.Lane, k.Version}
		if steps[id] == nil {
			steps[id] = map[time.Time]*sketch.Traffic{}
		}
		if steps[id][at] == nil {
			steps[id][at] = &sketch.Traffic{}
		}
		steps[id][at].Merge(t)
	}
	if g.seconds {
		for at := out.From; at.Before(out.To.Truncate(time.Second)); at = at.Add(g.step) {
			for _, r := range s.recorder.Recent(out.Endpoint, at, at.Add(g.step)) {
				add(r.Key, at, r.Traffic)
			}
		}
		return steps, nil
	}
	windows, err := s.recorder.Windows(ctx,
		signals.Query{Endpoint: out.Endpoint, From: out.From, To: out.To, Longest: g.longest, Latency: true})
	for _, w := range windows {
		add(w.Key, w.At.Truncate(g.step), &w.Summary.Traffic)
	}
	return steps, err
}

// refusedOver adds how many requests were turned away in each step.
func (s *Service) refusedOver(ctx context.Context, out *wire.Series, g grain) error {
	add := func(at time.Time, n uint64) {
		if last := len(out.Refused) - 1; n > 0 && last >= 0 && out.Refused[last].At.Equal(at) {
			out.Refused[last].Count += n
		} else if n > 0 {
			out.Refused = append(out.Refused, wire.RefusalPoint{At: at, Count: n})
		}
	}
	if g.seconds {
		for at := out.From; at.Before(out.To); at = at.Add(g.step) {
			add(at, s.recorder.RefusedLately(out.Endpoint, at, at.Add(g.step)).Total())
		}
		return nil
	}
	kept := s.signals.Store()
	if kept == nil {
		return nil
	}
	refused, err := kept.Refused(ctx, out.Endpoint, g.longest, out.From, out.To)
	for _, r := range refused {
		add(r.At.Truncate(g.step), r.Refusals.Total())
	}
	return err
}

// addEvents adds what happened to the endpoint in the time of the series.
func (s *Service) addEvents(ctx context.Context, by act.Actor, out *wire.Series) error {
	splits, _, err := s.Read(by).Splits(ctx, out.Endpoint, records.Page{Limit: traffic.LookBack})
	if err != nil {
		return err
	}
	for _, sp := range splits {
		if sp.MadeAt.After(out.From) && sp.MadeAt.Before(out.To) {
			out.Splits = append(out.Splits, sp)
		}
	}
	alerts, _, err := s.Read(by).Alerts(ctx, "", out.Endpoint, records.Page{Limit: traffic.LookBack})
	if err != nil {
		return err
	}
	for _, a := range alerts {
		if a.RaisedAt.After(out.From) && a.RaisedAt.Before(out.To) {
			out.Alerts = append(out.Alerts, a)
		}
	}
	out.Guards = []guard.Progress{}
	if kept := s.signals.Store(); kept != nil {
		step := time.Duration(out.StepMS) * time.Millisecond
		out.Guards, err = kept.Readings(ctx, out.Endpoint, out.From, out.To, step)
	}
	return err
}
