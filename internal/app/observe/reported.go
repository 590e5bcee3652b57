package observe

import (
	"context"
	"errors"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/sketch"
	"innerladder/internal/signals"
)

// Reported hands values of custom signals to the watches of an endpoint.
func (s *Service) Reported(endpoint string, values []custom.Value) {
	s.truthsMu.Lock()
	defer s.truthsMu.Unlock()
	if waiting := s.reports[endpoint]; len(waiting)+len(values) <= mostTruths {
		s.reports[endpoint] = append(waiting, values...)
	}
}

// reportsOf takes what was reported of custom signals since the last look, of answers to callers who were dealt.
func (s *Service) reportsOf(endpoint string) map[string][]float64 {
	s.truthsMu.Lock()
	values := s.reports[endpoint]
	delete(s.reports, endpoint)
	s.truthsMu.Unlock()
	out := map[string][]float64{}
	for i := range values {
		if v := &values[i]; v.Lane != signals.Pinned {
			full := custom.Full(v.Signal)
			out[full] = append(out[full], v.X)
		}
	}
	return out
}

// customsIn sums up what was reported of custom signals of answers between two moments.
func (s *Service) customsIn(ctx context.Context, endpoint string, from, to time.Time) map[string]*sketch.Numbers {
	out := map[string]*sketch.Numbers{}
	kept := s.signals.Store()
	if kept == nil {
		return out
	}
	of := func(signal, lane string) *sketch.Numbers {
		if lane == signals.Pinned {
			return &sketch.Numbers{} // callers who were not drawn are told apart
		}
		if out[signal] == nil {
			out[signal] = &sketch.Numbers{}
		}
		return out[signal]
	}
	whole := to.Truncate(time.Hour)
	hours, err := kept.CustomHours(ctx, endpoint, "", from.Truncate(time.Hour), whole)
	for i := range hours {
		of(hours[i].Signal, hours[i].Lane).Merge(&hours[i].Numbers)
	}
	last, also := kept.Customs(ctx, signals.CustomQuery{Endpoint: endpoint, From: whole, To: to, Limit: mostBefore})
	for _, v := range last {
		of(v.Signal, v.Lane).Add(v.X)
	}
	if err := errors.Join(err, also); err != nil {
		s.Log.Warn("what was reported before is not known", "endpoint", endpoint, "error", err)
	}
	return out
}
