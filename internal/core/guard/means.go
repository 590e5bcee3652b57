package guard

import (
	"fmt"
	"math"
	"time"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

const (
	// leastScale is of how many of the incumbent's values it is known how far they spread, and mostScale how many are
	// waited for where all of those are the same.
	leastScale, mostScale = 50, 1000
	// mostTogether is how many values of one side are held against one of the other at most.
	mostTogether = 20
	// mostWaiting is how many values of a side wait for those of the other.
	mostWaiting = 100
	// apart is how long after one another two answers may have been given that are held against each other: what a
	// signal is follows the time of day.
	apart = time.Hour
)

// Moment is a value that waits, larger being worse, and when it was answered.
type Moment struct {
	At time.Time `json:"at"`
	X  float64   `json:"x"`
}

// MeanState is where a guard on the mean of a signal stands. The candidate's values are held against those of the
// incumbent that come next, some of one side against some of the other, as their numbers are: how many that are is
// settled by how many came, and never by what they are.
type MeanState struct {
	Taken
	// HigherIsBetter says which way is worse.
	HigherIsBetter bool `json:"higher_is_better,omitempty"`
	// Over is the evidence that the candidate's mean is worse than is allowed, Under that it is not. Neither has a clip
	// while it is not known how far values spread.
	Over  seqtest.Mean `json:"over"`
	Under seqtest.Mean `json:"under"`
	// Spread are the incumbent's first values, where none are known from before.
	Spread Spread `json:"spread"`
	// Incumbents and Candidates wait for values of the other side; EachIncumbent and EachCandidate are how many of them
	// are held against one another next.
	Incumbents    []Moment `json:"incumbents,omitempty"`
	Candidates    []Moment `json:"candidates,omitempty"`
	EachIncumbent int      `json:"each_incumbent"`
	EachCandidate int      `json:"each_candidate"`
}

// Spread is how far values spread around their mean, as far as they came.
type Spread struct {
	N      float64 `json:"n"`
	Mean   float64 `json:"mean"`
	Around float64 `json:"around"`
	Least  float64 `json:"least"`
	Most   float64 `json:"most"`
}

func (s *Spread) add(x float64) {
	if s.N == 0 {
		s.Least, s.Most = x, x
	}
	s.N++
	d := x - s.Mean
	s.Mean += d / s.N
	s.Around += d * (x - s.Mean)
	s.Least, s.Most = min(s.Least, x), max(s.Most, x)
}

// spreadOf is that of numbers, with a sign that makes larger ones worse.
func spreadOf(n *sketch.Numbers, sign float64) Spread {
	return Spread{
		N: float64(n.N), Mean: sign * n.Mean, Around: n.Around, Least: min(sign*n.Min, sign*n.Max),
		Most: max(sign*n.Min, sign*n.Max),
	}
}

// known reports whether it is known how far values spread.
func (s *Spread) known() bool { return s.N >= leastScale && s.Around > 0 || s.N >= mostScale }

// deviation is the standard deviation.
func (s *Spread) deviation() float64 { return math.Sqrt(s.Around / max(1, s.N-1)) }

// begin begins to bet, on the scale of what is known.
func (s *MeanState) begin(by Spread, margin float64) {
	centre, clip := seqtest.ScaleOf(by.Mean, by.deviation(), max(by.Most-by.Mean, by.Mean-by.Least), margin)
	s.Over = seqtest.Mean{Centre: centre, Clip: clip, Margin: margin}
	s.Under = seqtest.Mean{Centre: centre, Clip: clip, Margin: -margin}
}

// observe takes in what came of a trial.
func (s *MeanState) observe(v *Values, margin float64) {
	sign := v.sign()
	for _, x := range s.fresh(v) {
		m := Moment{x.At, sign * x.X}
		switch {
		case x.Candidate:
			s.Candidates = wait(s.Candidates, m)
		case s.Over.Clip > 0:
			s.Incumbents = wait(s.Incumbents, m)
		default: // what the scale is made of is not bet on
			if s.Spread.add(m.X); s.Spread.known() {
				s.begin(s.Spread, margin)
			}
			continue
		}
		s.bet()
	}
}

// sign makes larger values the worse ones.
func (v *Values) sign() float64 {
	if v.HigherIsBetter {
		return -1
	}
	return 1
}

func wait(all []Moment, m Moment) []Moment {
	return append(all[max(0, len(all)+1-mostWaiting):], m)
}

// bet holds what waits against each other, as far as it goes.
func (s *MeanState) bet() {
	if s.Over.Clip <= 0 {
		return
	}
	for len(s.Incumbents) > 0 && len(s.Candidates) > 0 {
		switch d := s.Incumbents[0].At.Sub(s.Candidates[0].At); {
		case d > apart:
			s.Candidates = s.Candidates[1:]
			continue
		case d < -apart:
			s.Incumbents = s.Incumbents[1:]
			continue
		}
		if s.EachIncumbent == 0 {
			n, m := float64(max(1, s.Taken.Incumbent.N)), float64(max(1, s.Taken.Candidate.N))
			s.EachIncumbent = int(min(mostTogether, max(1, math.Round(n/m))))
			s.EachCandidate = int(min(mostTogether, max(1, math.Round(m/n))))
		}
		if len(s.Incumbents) < s.EachIncumbent || len(s.Candidates) < s.EachCandidate {
			return
		}
		incumbents, candidates := numbers(s.Incumbents[:s.EachIncumbent]), numbers(s.Candidates[:s.EachCandidate])
		s.Over.Observe(incumbents, candidates)
		s.Under.Observe(candidates, incumbents)
		s.Incumbents, s.Candidates = s.Incumbents[s.EachIncumbent:], s.Candidates[s.EachCandidate:]
		s.EachIncumbent, s.EachCandidate = 0, 0
	}
}

func numbers(all []Moment) []float64 {
	out := make([]float64, len(all))
	for i, m := range all {
		out[i] = m.X
	}
	return out
}

// observeAfter holds a version that took over against the mean of the day before: half of the chance of an error is
// spent on bounds of that.
func (s *MeanState) observeAfter(v *Values, margin, alpha float64) {
	before := spreadOf(v.Before, v.sign())
	if s.Over.Clip == 0 {
		s.begin(before, margin)
	}
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
	if s.HigherIsBetter != v.HigherIsBetter { // it begins anew with what comes
		s = MeanState{Taken: s.Taken, HigherIsBetter: v.HigherIsBetter}
	}
	if s.Over.Margin != g.Margin {
		s.Over, s.Under = seqtest.Mean{}, seqtest.Mean{} // something else is allowed now
	}
	switch {
	case t.After && !v.known():
		return Reading{Sentence: unknownBefore(t)}
	case t.After:
		s.observeAfter(v, g.Margin, level.alpha)
	default:
		if s.Over.Clip == 0 && v.known() && v.Before.Around > 0 {
			s.begin(spreadOf(v.Before, v.sign()), g.Margin)
		}
		if s.Over.Clip == 0 && s.Spread.known() {
			s.begin(s.Spread, g.Margin)
		}
		s.observe(v, g.Margin)
	}
	if t.Means == nil {
		t.Means = map[string]MeanState{}
	}
	t.Means[signal] = s
	if s.Over.Clip == 0 {
		return Reading{Sentence: fmt.Sprintf("waits until it is known how far %s spreads: %s has %.0f values of it, "+
			"and "+
			"%d are needed.", signal, t.Incumbent, s.Spread.N, leastScale)}
	}
	log := s.Over.LogE()
	r := level.reading(log, s.Under.LogE())
	r.Sentence = t.tells(signal, v, s.Taken) + r.says(log, level.alpha, g.Allows())
	if r.Progress >= 1 || log > 1 {
		r.Sentence += fmt.Sprintf(" It is judged by clipped means: no value counts as more than %.4g from the usual.",
			s.Over.Clip)
	}
	return r
}
