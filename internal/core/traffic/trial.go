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

// AfterCare is how long a version is watched that took over by hand.
const AfterCare = 30 * time.Minute

// Course is what the splits of an endpoint so far have made of what is watched there.
type Course struct {
	// Split is the last that was taken into account, Main its main version.
	Split int
	Main  string
	// Trials are those that the split has, After is main beside the version that it took over from;
	// nil where main did not take over, or came back. Rollout made that split, empty for a person.
	Trials  []guard.TrialPair
	After   *guard.TrialPair
	Rollout string
}

// Next is the course with one more split, the next after those so far.
func (c Course) Next(s Split) Course {
	next := Course{Split: s.Number, After: c.After, Rollout: c.Rollout}
	if len(s.Lanes) == 0 { // the endpoint was taken away
		return Course{Split: s.Number}
	}
	next.Main, next.Trials = s.Main().Version, s.TrialPairs(c.Trials)
	if next.Main != c.Main {
		next.After, next.Rollout = nil, s.Rollout
		if c.Main != "" && s.Leaves == 0 && !s.Elsewhere { // what answers elsewhere cannot be moved back from here
			next.After = &guard.TrialPair{
				Incumbent: c.Main, Candidate: next.Main, Begun: s.Number, Since: s.MadeAt, After: true,
			}
		}
	}
	return next
}

// Pairs are those that are watched now: trials, and a version that took over. A rollout says itself for how
// long it watches over that; inForce is the one that moves the endpoint, empty for none.
func (c Course) Pairs(inForce string, now time.Time) []guard.TrialPair {
	pairs := slices.Clone(c.Trials)
	if c.After == nil {
		return pairs
	}
	watched := c.Rollout == inForce
	if c.Rollout == "" {
		watched = now.Before(c.After.Since.Add(AfterCare))
	}
	if watched {
		after := *c.After
		after.Copied = slices.ContainsFunc(c.Trials, func(t guard.TrialPair) bool { return t.Mirrors(after) })
		pairs = append(pairs, after)
	}
	return pairs
}

// own are the trials of versions that are tried out: without the one before main that gets copies, so that main can be
// held against it.
func (c Course) own() []guard.TrialPair {
	if c.After == nil {
		return c.Trials
	}
	return slices.DeleteFunc(slices.Clone(c.Trials), func(t guard.TrialPair) bool { return t.Mirrors(*c.After) })
}

// Mains is which version was main with each split, of a history that is newest first. It leaves out a version
// for as long as it was main until a way back took that from it: what it did then is not what it usually does, and
// is no measure for another.
func Mains(history []Split) map[int]string {
	out := map[int]string{}
	var run []int // the splits since main changed last
	main := ""
	for _, s := range slices.Backward(history) {
		if len(s.Lanes) == 0 {
			run, main = nil, ""
			continue
		}
		if next := s.Main().Version; next != main {
			if s.Leaves > 0 {
				for _, n := range run {
					delete(out, n)
				}
			}
			run, main = nil, next
		}
		run = append(run, s.Number)
		out[s.Number] = main
	}
	return out
}

// TrialsIn lists the trials that a history of splits has seen, those that ended last first, and those that
// go on before them. The history is newest first; where it does not go back to the beginning of a trial,
// that seems to begin with its oldest split.
func TrialsIn(history []Split) []TrialSpan {
	var out []TrialSpan
	var course Course
	for i, s := range slices.Backward(history) {
		course = course.Next(s)
		var until time.Time
		if i > 0 {
			until = history[i-1].MadeAt
		}
		for _, pair := range course.own() {
			at := slices.IndexFunc(out, func(t TrialSpan) bool { return t.TrialPair == pair })
			if at < 0 {
				out = append(out, TrialSpan{TrialPair: pair})
				at = len(out) - 1
			}
			out[at].Last, out[at].Until = s.Number, until
		}
	}
	slices.SortStableFunc(out, func(a, b TrialSpan) int { return b.Last - a.Last })
	return out
}
