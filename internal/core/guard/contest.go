package guard

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// Contest is what a fixed comparison decides: which of both versions does better in a signal.
type Contest struct {
	// Signal is that of failures, of time-outs, or of a quantile of latency: then it is the share of answers that are
	// slower than main's quantile over the past.
	Signal string `json:"signal"`
	// Margin is the smallest difference of shares that matters.
	Margin float64 `json:"margin"`
	// Alpha is the chance that the interval is ever wrong.
	Alpha float64 `json:"alpha,omitempty"`
}

// ContestSignals are those that a comparison can decide.
var ContestSignals = []string{ErrorRate, TimeoutRate, LatencyP50, LatencyP90, LatencyP95, LatencyP99}

// usualContestAlpha is the chance that counts where a contest says none.
const usualContestAlpha = 0.05

// Level is the chance that the interval of the contest is ever wrong.
func (c Contest) Level() float64 { return cmp.Or(c.Alpha, usualContestAlpha) }

// Check says whether a contest can be held; at is where it stands.
func (c Contest) Check(at string) error {
	switch {
	case !slices.Contains(ContestSignals, c.Signal):
		return fault.New(fault.Invalid, "contest.signal", "%q is no signal that a comparison can decide", c.Signal).
			In(at+".signal").Do("use one of %s", strings.Join(ContestSignals, ", "))
	case !(c.Margin > 0 && c.Margin < 1):
		return fault.New(fault.Invalid, "contest.margin", "the margin is %v", c.Margin).In(at + ".margin").
			Do("give the smallest difference of shares that matters, such as 0.01 for one point")
	case !(c.Alpha >= 0 && c.Alpha < 1):
		return fault.New(fault.Invalid, "contest.alpha", "alpha is %v", c.Alpha).In(at + ".alpha").
			Do("give the chance that the interval is ever wrong, such as 0.05")
	}
	return nil
}

// Decision is how a contest stands.
type Decision string

// The decisions.
const (
	Undecided    Decision = "undecided"
	Better       Decision = "better"
	Worse        Decision = "worse"
	NoDifference Decision = "no_difference"
)

// Judgement is what a contest says now: an interval for the difference that holds at every moment.
type Judgement struct {
	Decision Decision `json:"decision" enum:"undecided,better,worse,no_difference"`
	// Low and High are the ends of the interval for the candidate's share less main's.
	Low  float64 `json:"low"`
	High float64 `json:"high"`
	// Candidate and Incumbent are the shares, of so many requests each.
	Candidate         float64 `json:"candidate"`
	Incumbent         float64 `json:"incumbent"`
	CandidateRequests uint64  `json:"candidate_requests"`
	IncumbentRequests uint64  `json:"incumbent_requests"`
	Sentence          string  `json:"sentence"`
}

// Decided reports whether it is known who does better, or that the difference does not matter.
func (v *Judgement) Decided() bool { return v != nil && v.Decision != Undecided }

// ContestState is where a contest stands.
type ContestState struct {
	seqtest.Contest
	Of Contest `json:"of"`
	// Tail is what was taken of the evidence: of failures, or of what was beyond main's quantile of latency.
	Tail
	// Seen is all that was bet on.
	Seen seqtest.Block `json:"seen"`
}

// readContest moves the contest on by what is new in the evidence, and says how it stands.
func (t *TrialState) readContest(c Contest, e *Pair) {
	if t.Contest == nil || t.Contest.Of != c {
		t.Contest = &ContestState{Contest: seqtest.NewContest(c.Margin), Of: c}
	}
	s := t.Contest
	g := Guard{Signal: c.Signal}
	fresh := seqtest.Block{}
	if q := Quantile(c.Signal); q > 0 {
		fresh = s.next(e, q, func(threshold float64) float64 { return threshold })
	} else {
		seen := g.block(e)
		fresh, s.Taken = since(s.Taken, seen), seen
	}
	s.Observe(fresh)
	s.Seen = s.Seen.Plus(fresh)
	t.Verdict = s.verdict(t.TrialPair)
}

// verdict says how the contest stands.
func (s *ContestState) verdict(pair TrialPair) *Judgement {
	v := &Judgement{
		Decision: Undecided, CandidateRequests: s.Seen.CandidateRequests, IncumbentRequests: s.Seen.IncumbentRequests,
		Candidate: percent(s.Seen.CandidateFailed, s.Seen.CandidateRequests) / 100,
		Incumbent: percent(s.Seen.IncumbentFailed, s.Seen.IncumbentRequests) / 100,
	}
	v.Low, v.High = s.Interval(s.Of.Level())
	m := s.Of.Margin
	says := "which is not decided yet"
	switch {
	case v.Low >= 0:
		v.Decision, says = Worse, "so it does worse"
	case v.High <= 0:
		v.Decision, says = Better, "so it does better"
	case v.Low >= -m && v.High <= m:
		v.Decision, says = NoDifference, fmt.Sprintf("so no difference of %.3g points that would matter", 100*m)
	}
	what := map[string]string{ErrorRate: "failed", TimeoutRate: "timed out in"}[s.Of.Signal]
	if what == "" {
		what = fmt.Sprintf("was slower than %s at its %s (now %.1f ms) in", pair.Incumbent,
			strings.TrimPrefix(s.Of.Signal, "latency_"), sketch.Milliseconds(s.Threshold))
	}
	v.Sentence = fmt.Sprintf("%s %s %.3g %% of %d requests, %s %.3g %% of %d: a difference of %s, %s.", pair.Candidate,
		what, 100*v.Candidate, v.CandidateRequests, pair.Incumbent, 100*v.Incumbent, v.IncumbentRequests,
		points(v.Low, v.High), says)
	return v
}

// points writes an interval of differences of shares.
func points(low, high float64) string {
	switch {
	case low <= -1 && high >= 1:
		return "anything"
	case low <= -1:
		return fmt.Sprintf("%+.3g points at most", 100*high)
	case high >= 1:
		return fmt.Sprintf("%+.3g points at least", 100*low)
	}
	return fmt.Sprintf("%+.3g to %+.3g points", 100*low, 100*high)
}
