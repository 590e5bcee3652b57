package guard

import (
	"fmt"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/seqtest"
)

// MeanState is where a guard on the mean of a signal stands.
type MeanState struct {
	Pairing
	// Over is the evidence that the candidate's mean is worse than is allowed, Under that it is not.
	Over  seqtest.Mean `json:"over"`
	Under seqtest.Mean `json:"under"`
}

// begin begins to bet, once the scale is known.
func (s *MeanState) begin(margin float64) {
	if s.Over.Clip == 0 {
		s.Over = seqtest.Mean{Centre: s.Centre, Clip: s.Clip, Margin: margin}
		s.Under = seqtest.Mean{Centre: s.Centre, Clip: s.Clip, Margin: -margin}
	}
}

// observe takes in what came of a trial.
func (s *MeanState) observe(v *Values, margin float64) {
	s.Pairing.observe(v, margin, func(incumbents, candidates []float64) {
		s.begin(margin)
		s.Over.Observe(incumbents, candidates)
		s.Under.Observe(candidates, incumbents)
	})
}

// observeAfter holds a version that took over against the mean of the day before: half of the chance of an error is
// spent on bounds of that.
func (s *MeanState) observeAfter(v *Values, margin, alpha float64) {
	before := spreadOf(v.Before, v.sign())
	if s.Clip == 0 {
		s.scale(before, margin)
	}
	s.begin(margin)
	within := interval.Mean(before.Mean, before.Around/max(1, before.N), before.N, 1-2*alpha)
	for _, x := range s.fresh(v) {
		if x.Candidate {
			one := []float64{v.sign() * x.X}
			s.Over.Observe([]float64{within.High}, one)
			s.Under.Observe(one, []float64{within.Low})
		}
	}
}

// readMean holds the mean of the candidate's values against the incumbent's.
func (t *TrialState) readMean(g Guard, signal string, v *Values, level levels) Reading {
	s := t.Means[signal]
	if s.turn(v) || s.Over.Margin != g.Margin { // something else is allowed now
		s.Over, s.Under = seqtest.Mean{}, seqtest.Mean{}
	}
	switch {
	case t.After && !v.known():
		return Reading{Sentence: unknownBefore(t)}
	case t.After:
		s.observeAfter(v, g.Margin, level.alpha)
	default:
		s.observe(v, g.Margin)
	}
	if t.Means == nil {
		t.Means = map[string]MeanState{}
	}
	t.Means[signal] = s
	if s.Clip == 0 {
		return Reading{Sentence: fmt.Sprintf("waits until it is known how far %s spreads: %s has %.0f values of it, "+
			"and %d are needed.", signal, t.Incumbent, s.Spread.N, leastScale)}
	}
	log := s.Over.LogE()
	r := level.reading(log, s.Under.LogE())
	r.Sentence = t.tells(signal, v, s.Taken) + r.says(log, level.alpha, g.Allows())
	if r.Progress >= 1 || log > 1 {
		r.Sentence += fmt.Sprintf(" It is judged by clipped means: no value counts as more than %.4g from the usual.",
			s.Clip)
	}
	return r
}
