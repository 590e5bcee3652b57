package traffic

import (
	"slices"
	"time"

	"innerladder/internal/core/guard"
)

// TrialSpan is a candidate beside its incumbent, from the split with which that began to the last that had
// both.
type TrialSpan struct {
	guard.TrialPair
	// Last is the last split that had it; Until is when another took its place, the zero time while it
	// goes on.
	Last  int
	Until time.Time
}

// TrialsIn lists the trials that a history of splits has seen, those that ended last first, and those that
// go on before them. The history is newest first; where it does not go back to the beginning of a trial,
// that seems to begin with its oldest split.
func TrialsIn(history []Split) []TrialSpan {
	var out []TrialSpan
	var before []guard.TrialPair
	for i, s := range slices.Backward(history) {
		now := s.TrialPairs(before)
		var until time.Time
		if i > 0 {
			until = history[i-1].MadeAt
		}
		for _, pair := range now {
			at := slices.IndexFunc(out, func(t TrialSpan) bool { return t.TrialPair == pair })
			if at < 0 {
				out = append(out, TrialSpan{TrialPair: pair})
				at = len(out) - 1
			}
			out[at].Last, out[at].Until = s.Number, until
		}
		before = now
	}
	slices.SortStableFunc(out, func(a, b TrialSpan) int { return b.Last - a.Last })
	return out
}
