package traffic

import (
	"context"
	"slices"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
)

// PairsOf lists what is watched at an endpoint now, each from when it began: its trials, and a version
// that took over. What is known of the split before is remembered, so that little is read however long
// a trial goes on.
func (s *Service) PairsOf(ctx context.Context, r records.View, e traffic.Endpoint) ([]guard.TrialPair, error) {
	if e.Split == nil {
		return nil, nil
	}
	now := s.Now()
	s.coursesMu.Lock()
	known := s.courses[e.Name]
	s.coursesMu.Unlock()
	if known.Split != e.Split.Number {
		if known.Split > e.Split.Number {
			known = traffic.Course{}
		}
		history, err := s.splitsSince(ctx, r, e, known.Split, now)
		if err != nil {
			return nil, err
		}
		for _, split := range slices.Backward(history) {
			known = known.Next(split)
		}
		s.coursesMu.Lock()
		s.courses[e.Name] = known
		s.coursesMu.Unlock()
	}
	return known.Pairs(e.Rollout, now), nil
}

// splitsSince reads the splits of an endpoint after one, newest first, as far back as what is watched
// there goes: its trials, the rollout that moves it, and what somebody did lately.
func (s *Service) splitsSince(ctx context.Context, r records.View, e traffic.Endpoint, after int,
	now time.Time,
) (out []traffic.Split, err error) {
	for cursor := ""; ; {
		page, next, err := r.Splits(ctx, e.Name, records.Page{Limit: traffic.LookBack, After: cursor})
		if err != nil {
			return nil, err
		}
		for _, split := range page {
			if split.Number <= after {
				return out, nil
			}
			out = append(out, split)
			long := now.Sub(split.MadeAt) > traffic.AfterCare
			if long && len(split.Lanes) < 2 && (e.Rollout == "" || split.Rollout != e.Rollout) {
				return out, nil
			}
		}
		if cursor = next; cursor == "" {
			return out, nil
		}
	}
}
