package guard

import (
	"fmt"
	"math"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// RateState is where a guard on failures stands.
type RateState struct {
	seqtest.Excess
	// Bursts is how the main lane's failures come: all at once now and then, or one by one.
	Bursts seqtest.Bursts `json:"bursts"`
	// Taken is how much of the evidence the guard has bet on already.
	Taken seqtest.Block `json:"taken"`
	// Over is the evidence against a version that took over.
	Over seqtest.Rate `json:"over"`
}

// failing counts the requests that tell something of their own, and of them those that failed as the
// signal says. A caller who keeps their version and fails several times in a second counts as one
// failure: the others are not independent of it.
func (g Guard) failing(c sketch.Counts) (requests, failed uint64) {
	requests = c.Requests - min(c.Repeated, c.Requests)
	if g.Signal == TimeoutRate {
		return requests, min(c.TimedOut, c.Failed()-min(c.Repeated, c.Failed()))
	}
	return requests, c.Failed() - min(c.Repeated, c.Failed())
}

// block is what both lanes did so far.
func (g Guard) block(e *Pair) (b seqtest.Block) {
	b.IncumbentRequests, b.IncumbentFailed = g.failing(e.Incumbent.Counts)
	b.CandidateRequests, b.CandidateFailed = g.failing(e.Candidate.Counts)
	return b
}

// shown counts all requests of a lane, and those that failed as the signal says.
func (g Guard) shown(c sketch.Counts) (requests, failed uint64) {
	if g.Signal == TimeoutRate {
		return c.Requests, c.TimedOut
	}
	return c.Requests, c.Failed()
}

// verb says what requests did that the guard counts.
func (g Guard) verb() string {
	if g.Signal == TimeoutRate {
		return "timed out in"
	}
	return "failed"
}

// readRate moves a guard on failures on by what is new in the evidence. The evidence must exceed what
// main's own worst moment would have been against the trial: a lane that is out for some seconds now
// and then, as main is, is no worse than main.
func (t *TrialState) readRate(g Guard, e *Pair, level levels) Reading {
	s, known := t.Rates[g.Signal]
	begin := seqtest.NewExcess(seqtest.Allowance{Ratio: g.Ratio, Difference: g.Margin})
	if !known || s.ByRatio.Line != begin.ByRatio.Line || s.ByDifference.Line != begin.ByDifference.Line {
		s.Excess = begin // it begins, or something else is allowed now
	}
	seen := g.block(e)
	b := since(s.Taken, seen)
	s.Taken = seen
	var r Reading
	if t.After {
		r = s.readAfter(g, t, e, b, level)
	} else {
		r = s.readBeside(g, t, e, b, level)
	}
	if t.Rates == nil {
		t.Rates = map[string]RateState{}
	}
	t.Rates[g.Signal] = s
	return r
}

// readBeside holds a trial against main at the same time.
func (s *RateState) readBeside(g Guard, t *TrialState, e *Pair, b seqtest.Block, level levels) Reading {
	s.Observe(b)
	s.Bursts.Observe(b.IncumbentFailed, b.IncumbentRequests)
	share := float64(s.Taken.CandidateRequests) / float64(max(1, s.Taken.IncumbentRequests))
	patience := s.Bursts.Worst.Worse(e.Worst).For(share)
	log := s.LogE() - patience
	r := level.reading(log, s.LogEnough())
	r.Sentence = g.describe(t, e, "") + r.says(log, level.alpha, g.Allows())
	if patience > -math.Log(level.alpha) && s.LogE() > 1 {
		r.Sentence += fmt.Sprintf(" %s was out for moments itself, so as much is allowed of %s.", t.Incumbent,
			t.Candidate)
	}
	return r
}

// readAfter holds a version that took over against what the other did before. That is over, so half of
// alpha goes into a bound on its rate (Clopper and Pearson 1934), and half into a bet that the version
// fails more than is allowed of that bound. Rates change with the day, so where a part of the day before was
// worse than the bound, that part counts.
func (s *RateState) readAfter(g Guard, t *TrialState, e *Pair, b seqtest.Block, level levels) Reading {
	level = level.half()
	if s.Taken.IncumbentRequests == 0 {
		return Reading{Sentence: unknownBefore(t)}
	}
	bound := interval.Above(float64(s.Taken.IncumbentFailed), float64(s.Taken.IncumbentRequests), level.alpha)
	for _, part := range e.Day {
		if n, failed := g.failing(part); n >= leastPart {
			bound = math.Max(bound, float64(failed)/float64(n))
		}
	}
	allowed := seqtest.Allowance{Ratio: math.Max(1, g.Ratio), Difference: g.Margin}.Of(bound)
	s.Over = observeAlone(s.Over, allowed, b.CandidateRequests, b.CandidateFailed)
	patience := e.Worst.For(1)
	log := s.Over.LogE() - patience
	r := level.reading(log, 0)
	r.Sentence = g.describe(t, e, " before") + r.says(log, level.alpha, g.Allows())
	if patience > -math.Log(level.alpha) && s.Over.LogE() > 1 {
		r.Sentence += fmt.Sprintf(" %s was out for moments itself, so as much is allowed of %s.", t.Incumbent,
			t.Candidate)
	}
	return r
}

// observeAlone moves a bet against a fixed rate on; it begins when another rate is allowed.
func observeAlone(r seqtest.Rate, allowed float64, requests, failed uint64) seqtest.Rate {
	if line := (seqtest.Line{Offset: allowed}); r.Line != line {
		r = seqtest.Rate{Line: line}
	}
	r.ObserveAlone(requests, failed)
	return r
}

// unknownBefore says that there is nothing to hold a version against that took over.
func unknownBefore(t *TrialState) string {
	return fmt.Sprintf("took over from %s, and what that did before is not known.", t.Incumbent)
}

// describe says how often both failed.
func (g Guard) describe(t *TrialState, e *Pair, when string) string {
	n, failed := g.shown(e.Candidate.Counts)
	m, others := g.shown(e.Incumbent.Counts)
	return fmt.Sprintf("%s %d of %d requests (%s), %s %d of %d%s (%s)", g.verb(), failed, n,
		rate(failed, n), t.Incumbent, others, m, when, rate(others, m))
}

// rate is a share in per cent as people read it: of nothing there is none.
func rate(k, n uint64) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprintf("%.2f %%", percent(k, n))
}

// Allows says in words what a guard allows.
func (g Guard) Allows() string {
	if OfValues(g.Signal) {
		return g.allowsOfValues()
	}
	margin := fmt.Sprintf("%.3g ms", g.Margin)
	switch g.Signal {
	case PredictionDrift:
		return fmt.Sprintf("a gap of %.2g", g.Margin)
	case MissingOutputs:
		return fmt.Sprintf("missing in %.3g points more", 100*g.Margin)
	case Disagreement:
		return fmt.Sprintf("%.3g %% otherwise", 100*g.Margin)
	case ErrorRate, TimeoutRate:
		margin = fmt.Sprintf("%.3g points", g.Margin*100)
	}
	switch {
	case g.Ratio <= 1:
		return margin + " more"
	case g.Margin == 0:
		return fmt.Sprintf("%.3g times as much", g.Ratio)
	}
	return fmt.Sprintf("%.3g times as much, or %s more", g.Ratio, margin)
}

// since is what came after the counts in before.
func since(before, now seqtest.Block) seqtest.Block {
	b := seqtest.Block{
		IncumbentRequests: grown(before.IncumbentRequests, now.IncumbentRequests),
		IncumbentFailed:   grown(before.IncumbentFailed, now.IncumbentFailed),
		CandidateRequests: grown(before.CandidateRequests, now.CandidateRequests),
		CandidateFailed:   grown(before.CandidateFailed, now.CandidateFailed),
	}
	b.IncumbentFailed = min(b.IncumbentFailed, b.IncumbentRequests)
	b.CandidateFailed = min(b.CandidateFailed, b.CandidateRequests)
	return b
}
