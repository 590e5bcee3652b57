package observe

import (
	"cmp"
	"context"
	"slices"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// CopiesShown is what the copies of a pair have shown so far; nil where the candidate gets none. tolerance is 0 for
// the usual.
func (s *Service) CopiesShown(ctx context.Context, endpoint string, pairs []guard.TrialPair,
	incumbent, candidate string, tolerance float64,
) *evidence.ShadowReport {
	i := slices.IndexFunc(pairs, func(p guard.TrialPair) bool {
		return p.Copies && p.Incumbent == incumbent && p.Candidate == candidate
	})
	if i < 0 {
		return nil
	}
	all, _ := s.Evidence(ctx, endpoint, pairs)
	pair := all[pairs[i].Key()]
	if pair.Paired == nil {
		return nil
	}
	r := evidence.OfPaired(pair.Paired, pair.Candidate.Counts, incumbent, cmp.Or(tolerance, traffic.UsualTolerance))
	from, until := pairs[i].Since.UTC(), s.Now().UTC()
	r.Endpoint, r.From, r.Until = endpoint, &from, &until
	return &r
}

// withCopies adds to the lanes that get copies what those have shown so far.
func (s *Service) withCopies(ctx context.Context, e *traffic.Endpoint, pairs []guard.TrialPair, lanes []wire.LaneNow,
) []wire.LaneNow {
	for i, l := range lanes {
		if l.Kind == traffic.Shadow {
			lanes[i].Copies = s.CopiesShown(ctx, e.Name, pairs, e.Split.Main().Version, l.Version, l.Tolerance)
		}
	}
	return lanes
}
