package custom

import (
	"cmp"
	"context"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/app/observe"
	"innerladder/internal/core/custom"
	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// confidence is that of all intervals.
const confidence = 0.95

// line is what was reported of one signal of one version.
type line struct {
	signal, version string
	whole           sketch.Numbers
	steps           map[time.Time]*sketch.Numbers
}

// Show says what the custom signals of an endpoint are, and what was reported of each version in a window that ends
// at a moment, or now for the zero time.
func (s *Service) Show(ctx context.Context, by act.Actor, endpoint string, window time.Duration, until time.Time,
) (wire.CustomSignals, error) {
	out := wire.CustomSignals{Endpoint: endpoint, Items: []wire.CustomSignal{}}
	asked, err := s.observe.AskLater(ctx, by, endpoint, window, until)
	if err != nil {
		return out, err
	}
	hours, err := numbers(ctx, &asked)
	if err != nil {
		return out, err
	}
	out.From, out.To, out.StepMS = asked.From, asked.To, asked.Step.Milliseconds()
	answered, err := s.observe.Answered(ctx, endpoint, asked.Later)
	if err != nil {
		return out, err
	}
	lines := together(hours)
	for _, signal := range asked.Endpoint.Custom {
		one := wire.CustomSignal{Signal: signal, Versions: []wire.CustomVersion{}}
		for _, l := range lines {
			if l.signal == signal.Name {
				one.Versions = append(one.Versions, shown(l, answered[l.version]))
			}
		}
		slices.SortStableFunc(one.Versions, func(a, b wire.CustomVersion) int {
			return cmp.Or(asked.MainFirst(a.Version, b.Version), cmp.Compare(b.N, a.N))
		})
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// numbers reads what was reported, one by one, or by hours where there is too much of it.
func numbers(ctx context.Context, in *observe.LaterAsked) ([]signals.CustomHour, error) {
	if in.Single {
		values, err := in.Kept.Customs(ctx, signals.CustomQuery{
			Endpoint: in.Endpoint.Name, From: in.From, To: in.To, Limit: observe.MostSingle + 1,
		})
		if err != nil || len(values) <= observe.MostSingle {
			return summed(values, in.Step), err
		}
	}
	in.ByHours()
	all, err := in.Kept.CustomHours(ctx, in.Endpoint.Name, "", in.From, in.To)
	for i := range all {
		all[i].At = all[i].At.Truncate(in.Step)
	}
	return all, err
}

// summed adds values up by steps of time.
func summed(values []custom.Value, step time.Duration) (out []signals.CustomHour) {
	at := map[signals.CustomKey]*sketch.Numbers{}
	for _, v := range values {
		key := signals.CustomKey{Signal: v.Signal, Version: v.Version, Lane: v.Lane, At: v.At.Truncate(step)}
		if at[key] == nil {
			at[key] = &sketch.Numbers{}
		}
		at[key].Add(v.X)
	}
	for key, n := range at {
		out = append(out, signals.CustomHour{CustomKey: key, Numbers: *n})
	}
	return out
}

// together puts what was reported of a version's lanes together, but for those of callers who were not drawn for it.
func together(hours []signals.CustomHour) (out []*line) {
	for i := range hours {
		h := &hours[i]
		if h.Lane == signals.Pinned {
			continue
		}
		n := slices.IndexFunc(out, func(l *line) bool { return l.signal == h.Signal && l.version == h.Version })
		if n < 0 {
			n = len(out)
			out = append(out, &line{signal: h.Signal, version: h.Version, steps: map[time.Time]*sketch.Numbers{}})
		}
		l := out[n]
		l.whole.Merge(&h.Numbers)
		if l.steps[h.At] == nil {
			l.steps[h.At] = &sketch.Numbers{}
		}
		l.steps[h.At].Merge(&h.Numbers)
	}
	return out
}

// shown is what was reported of a version, and over time.
func shown(l *line, answered uint64) wire.CustomVersion {
	w := &l.whole
	out := wire.CustomVersion{
		Version: l.version, Answered: answered, N: w.N, Sum: w.Sum, Mean: w.Mean, Deviation: w.Deviation(),
		Least: w.Min, P10: w.Quantile(0.1), P50: w.Quantile(0.5), P90: w.Quantile(0.9), Most: w.Max,
		Points: []wire.CustomPoint{},
	}
	if w.N >= interval.LeastOfMean {
		within := interval.Mean(w.Mean, w.Around/float64(w.N), float64(w.N), confidence)
		out.Low, out.High = &within.Low, &within.High
	}
	for at, n := range l.steps {
		out.Points = append(out.Points, wire.CustomPoint{At: at, N: n.N, Mean: n.Mean})
	}
	slices.SortFunc(out.Points, func(a, b wire.CustomPoint) int { return a.At.Compare(b.At) })
	return out
}
