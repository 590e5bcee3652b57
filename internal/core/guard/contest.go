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
	// slower than main's quantile over the past. Or its values come after the answers, one by one: of one output, or a
	// custom one.
	Signal string `json:"signal"`
	// Margin is the smallest difference that matters: of shares, or in the unit of the signal.
	Margin float64 `json:"margin"`
	// Alpha is the chance that the interval is ever wrong.
	Alpha float64 `json:"alpha,omitempty"`
}

// ContestSignals are those that a comparison can decide; those of values have a name behind the dot.
var ContestSignals = []string{
	ErrorRate, TimeoutRate, LatencyP50, LatencyP90, LatencyP95, LatencyP99, Custom + ".NAME", MAE + ".OUTPUT",
	Accuracy + ".OUTPUT",
}

// OfValues reports whether what is decided comes one by one, after the answers.
func (c Contest) OfValues() bool { return OfValues(c.Signal) && strings.Contains(c.Signal, ".") }

// ofMeans reports whether it is decided by means, not by shares.
func (c Contest) ofMeans() bool { return c.OfValues() && !strings.HasPrefix(c.Signal, Accuracy+".") }

// usualContestAlpha is the chance that counts where a contest says none.
const usualContestAlpha = 0.05

// Level is the chance that the interval of the contest is ever wrong.
func (c Contest) Level() float64 { return cmp.Or(c.Alpha, usualContestAlpha) }

// Check says whether a contest can be held; at is where it stands.
func (c Contest) Check(at string) error {
	switch {
	case !c.OfValues() && (!slices.Contains(ContestSignals, c.Signal) || strings.Contains(c.Signal, ".")):
		return fault.New(fault.Invalid, "contest.signal", "%q is no signal that a comparison can decide", c.Signal).
			In(at+".signal").Do("use one of %s", strings.Join(ContestSignals, ", "))
	case c.ofMeans() && !(c.Margin > 0 && c.Margin < 1e60):
		return fault.New(fault.Invalid, "contest.margin", "the margin is %v", c.Margin).In(at+".margin").
			Do("give the smallest difference of means that matters, in the unit of %s", c.Signal)
	case !c.ofMeans() && !(c.Margin > 0 && c.Margin < 1):
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
	// Low and High are the ends of the interval for the candidate's share, or mean, less main's; they reach no further
	// than Bound, beyond which nothing is known.
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
	Bound float64 `json:"bound" description:"low and high reach no further: nothing is known beyond"`
	// Unit is share, or that of the signal.
	Unit string `json:"unit" description:"share, or the unit of the means"`
	// Candidate and Incumbent are the shares, or means, of so many requests, or values, each.
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
	// Later is what came of values, and Means what is decided of their means.
	Later Pairing              `json:"later"`
	Means *seqtest.MeanContest `json:"means,omitempty"`
}

// readContest moves the contest on by what is new in the evidence, and says how it stands.
func (t *TrialState) readContest(c Contest, e *Pair) {
	if t.Contest == nil || t.Contest.Of != c {
		t.Contest = &ContestState{Contest: seqtest.NewContest(c.Margin), Of: c}
	}
	s := t.Contest
	if c.OfValues() {
		v := e.Values[c.Signal]
		t.Verdict = s.ofValues(&v, t)
		return
	}
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
		Decision: Undecided, Unit: "share", Bound: 1, CandidateRequests: s.Seen.CandidateRequests,
		IncumbentRequests: s.Seen.IncumbentRequests,
		Candidate:         percent(s.Seen.CandidateFailed, s.Seen.CandidateRequests) / 100,
		Incumbent:         percent(s.Seen.IncumbentFailed, s.Seen.IncumbentRequests) / 100,
	}
	v.Low, v.High = s.Interval(s.Of.Level())
	says := v.decide(s.Of.Margin, false, fmt.Sprintf("%.3g points", 100*s.Of.Margin))
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

// decide says how an interval decides, in words; higher is better where that is said.
func (v *Judgement) decide(margin float64, higherIsBetter bool, inWords string) (says string) {
	less, more := Better, Worse
	if higherIsBetter {
		less, more = Worse, Better
	}
	words := map[Decision]string{Better: "so it does better", Worse: "so it does worse"}
	switch {
	case v.Low >= 0:
		v.Decision = more
	case v.High <= 0:
		v.Decision = less
	case v.Low >= -margin && v.High <= margin:
		v.Decision = NoDifference
		return "so no difference of " + inWords + " that would matter"
	default:
		return "which is not decided yet"
	}
	return words[v.Decision]
}

// beyondReach is how many margins an interval of means reaches where nothing is ruled out.
const beyondReach = 64

// ofValues moves the contest on by the values that came, and says how it stands.
func (s *ContestState) ofValues(of *Values, t *TrialState) *Judgement {
	margin := s.Of.Margin
	v := &Judgement{Decision: Undecided, Unit: of.Unit, Bound: beyondReach * margin}
	inWords := strings.TrimSpace(fmt.Sprintf("%.4g %s", margin, of.Unit))
	if s.Of.ofMeans() {
		v.Low, v.High = s.ofMeans(of, v.Bound)
	} else {
		v.Unit, v.Bound, inWords = "share", 1, fmt.Sprintf("%.3g points", 100*margin)
		s.Observe(blockOf(s.Later.fresh(of)))
		v.Low, v.High = s.Interval(s.Of.Level())
	}
	apart := points(v.Low, v.High)
	if s.Of.ofMeans() {
		apart = between(v.Low, v.High, v.Bound, of.Unit)
	}
	taken := s.Later.Taken
	v.Candidate, v.CandidateRequests = taken.Candidate.Mean(), taken.Candidate.N
	v.Incumbent, v.IncumbentRequests = taken.Incumbent.Mean(), taken.Incumbent.N
	says := v.decide(margin, of.HigherIsBetter, inWords)
	v.Sentence = fmt.Sprintf("%s %s: a difference of %s, %s.", t.Candidate, t.tells(s.Of.Signal, of, taken), apart,
		says)
	return v
}

// ofMeans moves a contest of means on, and gives the interval for the candidate's less main's, no wider than a bound.
func (s *ContestState) ofMeans(of *Values, bound float64) (low, high float64) {
	if s.Later.turn(of) {
		s.Means = nil
	}
	s.Later.observe(of, s.Of.Margin, func(incumbents, candidates []float64) {
		if s.Means == nil {
			begun := seqtest.NewMeanContest(s.Later.Centre, s.Later.Clip, s.Of.Margin)
			s.Means = &begun
		}
		s.Means.Observe(incumbents, candidates)
	})
	if s.Means == nil {
		return -bound, bound
	}
	low, high = s.Means.Interval(s.Of.Level())
	if of.HigherIsBetter { // there larger is worse, whichever way that is
		low, high = -high, -low
	}
	return max(low, -bound), min(high, bound)
}

// between writes an interval of differences of means.
func between(low, high, bound float64, unit string) string {
	if unit != "" {
		unit = " " + unit
	}
	switch {
	case low <= -bound && high >= bound:
		return "anything"
	case low <= -bound:
		return fmt.Sprintf("%+.4g%s at most", high, unit)
	case high >= bound:
		return fmt.Sprintf("%+.4g%s at least", low, unit)
	}
	return fmt.Sprintf("%+.4g to %+.4g%s", low, high, unit)
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
