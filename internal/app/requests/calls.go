package requests

import (
	"cmp"
	"context"
	"slices"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/recorder"
	"innerladder/internal/signals"
	"innerladder/internal/wire"
)

// Calls says who called an endpoint in a window that ends now, and how much, who called most first.
func (s *Service) Calls(ctx context.Context, by act.Actor, endpoint string, window time.Duration) (wire.Calls, error) {
	now := s.Now()
	out := wire.Calls{Endpoint: endpoint, From: now.Add(-window), To: now, Items: []wire.CallsOfIt{}}
	if _, err := s.traffic.EndpointFor(ctx, by, access.Route, endpoint); err != nil {
		return out, err
	}
	if err := checkWindow(window); err != nil {
		return out, err
	}
	kept := s.signals.Store()
	if kept == nil {
		return out, recorder.Away()
	}
	level := levelFor(window)
	out.StepMS, out.From = level.Length().Milliseconds(), out.From.Truncate(level.Length())
	all, err := kept.Calls(ctx, endpoint, level, out.From, out.To)
	if err != nil {
		return out, err
	}
	places := map[string]int{}
	for _, w := range all {
		for name, n := range w.Calls {
			i, known := places[name]
			if !known {
				i = len(out.Items)
				places[name] = i
				out.Items = append(out.Items, wire.CallsOfIt{Name: name, Points: []wire.CallsPoint{}})
			}
			of := &out.Items[i]
			of.Calls, of.Last = of.Calls.Plus(n), w.At
			of.Points = append(of.Points, wire.CallsPoint{At: w.At, Requests: n.Requests, Failed: n.Failed})
			out.Total += n.Requests
		}
	}
	last, err := kept.LastCalls(ctx, endpoint, out.From, out.To) // minutes, as far back as they are kept
	if err != nil {
		return out, err
	}
	for i := range out.Items {
		if at, known := last[out.Items[i].Name]; known {
			out.Items[i].Last = at
		}
	}
	slices.SortFunc(out.Items, func(a, b wire.CallsOfIt) int {
		return cmp.Or(cmp.Compare(b.Requests, a.Requests), cmp.Compare(a.Name, b.Name))
	})
	return out, nil
}

// levelFor is how long the windows are by which a span is counted.
func levelFor(window time.Duration) signals.Level {
	switch {
	case window <= minutes:
		return signals.Minute
	case window <= hours:
		return signals.Hour
	}
	return signals.Day
}
