package traffic

import (
	"context"
	"slices"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
)

// splitTrials are the trials that an endpoint has with a split.
type splitTrials struct {
	split int
	pairs []guard.TrialPair
}

// TrialsOf lists the trials of an endpoint's split in force, each from when it began. What
// is known of the split before is remembered, so that little is read however long a trial
// goes on.
func (s *Service) TrialsOf(ctx context.Context, r records.View, e traffic.Endpoint) ([]guard.TrialPair, error) {
	if e.Split == nil || len(e.Split.Trials()) == 0 {
		return nil, nil
	}
	s.trialsMu.Lock()
	known := s.trials[e.Name]
	s.trialsMu.Unlock()
	if known.split == e.Split.Number {
		return known.pairs, nil
	}
	if known.split == 0 || known.split > e.Split.Number {
		known = splitTrials{}
	}
	history, err := s.splitsSince(ctx, r, e, known.split)
	if err != nil {
		return nil, err
	}
	for _, split := range slices.Backward(history) {
		known = splitTrials{split.Number, split.TrialPairs(known.pairs)}
	}
	s.trialsMu.Lock()
	s.trials[e.Name] = known
	s.trialsMu.Unlock()
	return known.pairs, nil
}

// splitsSince reads the splits of an endpoint after one, newest first, as far back as its
// trials go.
func (s *Service) splitsSince(ctx context.Context, r records.View, e traffic.Endpoint,
	after int,
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
			if len(split.Trials()) == 0 {
				return out, nil
			}
		}
		if cursor = next; cursor == "" {
			return out, nil
		}
	}
}
