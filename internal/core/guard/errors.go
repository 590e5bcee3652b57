package guard

import (
	"fmt"
	"math"

	"innerladder/internal/core/seqtest"
)

// ErrorsState is where the guard on the error rate stands.
type ErrorsState struct {
	seqtest.Excess
	// Bursts is how the main lane's failures come: all at once now and then, or one by one.
	Bursts seqtest.Bursts `json:"bursts"`
	// Taken is how much of the evidence the guard has bet on already.
	Taken seqtest.Block `json:"taken"`
}

// readErrors moves the guard on the error rate on by what is new in the evidence. A caller who keeps their
// version and fails several times in a second counts as one failure: the others are not independent of
// it. And the evidence must exceed what main's own worst moment would have been against the trial: a lane
// that is out for some seconds now and then, as main is, is no worse than main.
func (t *TrialState) readErrors(g Guard, e *Pair, alpha float64) Reading {
	begin := seqtest.NewExcess(seqtest.Allowance{Ratio: g.Ratio, Difference: g.Margin})
	if t.Errors.ByRatio.Line != begin.ByRatio.Line || t.Errors.ByDifference.Line != begin.ByDifference.Line {
		t.Errors.Excess = begin // it begins, or something else is allowed now
	}
	main, trial := e.Incumbent.Counts, e.Candidate.Counts
	seen := seqtest.Block{
		IncumbentRequests: main.Requests - main.Repeated, IncumbentFailed: main.Failed() - main.Repeated,
		CandidateRequests: trial.Requests - trial.Repeated, CandidateFailed: trial.Failed() - trial.Repeated,
	}
	b := since(t.Errors.Taken, seen)
	t.Errors.Taken = seen
	t.Errors.Observe(b)
	t.Errors.Bursts.Observe(b.IncumbentFailed, b.IncumbentRequests)
	share := float64(seen.CandidateRequests) / float64(max(1, seen.IncumbentRequests))
	patience := t.Errors.Bursts.Worst.Worse(e.Worst).For(share)
	log := t.Errors.LogE() - patience
	r := reading(log, t.Errors.LogEnough(), alpha)
	r.Sentence = fmt.Sprintf("failed %d of %d requests (%.2f %%), %s %d of %d (%.2f %%)%s",
		trial.Failed(), trial.Requests, percent(trial.Failed(), trial.Requests),
		t.Incumbent, main.Failed(), main.Requests, percent(main.Failed(), main.Requests),
		r.says(log, alpha, g.Allows()))
	if patience > -math.Log(alpha) && t.Errors.LogE() > 1 {
		r.Sentence += fmt.Sprintf(" %s was out for moments itself, so as much is allowed of %s.", t.Incumbent,
			t.Candidate)
	}
	return r
}

// Allows says in words what a guard allows.
func (g Guard) Allows() string {
	margin := fmt.Sprintf("%.3g ms", g.Margin)
	switch {
	case g.Signal == PredictionDrift:
		return fmt.Sprintf("a gap of %.2g", g.Margin)
	case g.Signal == ErrorRate:
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
