package guard

import (
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// Signals whose values come after the answers: of single predictions whose truth is known, and those of a team's own.
// The first two have the name of an output behind a dot, or are of all outputs; a custom signal has its own there.
const (
	MAE      = "mae"
	Accuracy = "accuracy"
	Custom   = "custom"
)

// customName is what custom signals may be called.
var customName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

// IsCustomName reports whether a custom signal can have a name.
func IsCustomName(name string) bool { return customName.MatchString(name) }

// OfValues reports whether values of a signal come one by one, after the answers that they are of.
func OfValues(signal string) bool {
	kind, of, named := strings.Cut(signal, ".")
	switch kind {
	case MAE, Accuracy:
		return !named || of != ""
	case Custom:
		return IsCustomName(of)
	}
	return false
}

// Covers reports whether a guard on a signal is about another, such as one of all outputs about one of them.
func Covers(signal, other string) bool {
	return signal == other || !strings.Contains(signal, ".") && strings.HasPrefix(other, signal+".")
}

// Value is one that came of an answer.
type Value struct {
	// Seq numbers values in the order in which they came.
	Seq int64
	// At is when it was answered.
	At time.Time
	// Candidate is set where the candidate answered; else the incumbent did.
	Candidate bool
	// X is in the unit of the signal; of accuracy it is 1 where the answer was wrong, else 0.
	X float64
}

// Values are what came of a signal of both sides of a pair.
type Values struct {
	// Unit is that of the numbers, HigherIsBetter says which way is worse.
	Unit           string
	HigherIsBetter bool
	// New are at least those that came since the last step, in the order in which they came.
	New []Value
	// Before are the incumbent's in the day before the pair began; nil where there are none.
	Before *sketch.Numbers
}

// Tally is how many values came, and their sum.
type Tally struct {
	N   uint64  `json:"n"`
	Sum float64 `json:"sum"`
}

// Mean is theirs; 0 of none.
func (t Tally) Mean() float64 { return t.Sum / float64(max(1, t.N)) }

func (t *Tally) add(x float64) { t.N, t.Sum = t.N+1, t.Sum+x }

// Taken is what a guard on values has taken in.
type Taken struct {
	// Last is the number of the last.
	Last      int64 `json:"last"`
	Incumbent Tally `json:"incumbent"`
	Candidate Tally `json:"candidate"`
}

// fresh are the values that were not taken in yet; they are now.
func (t *Taken) fresh(v *Values) (out []Value) {
	for _, x := range v.New {
		if x.Seq <= t.Last {
			continue
		}
		t.Last = x.Seq
		if x.Candidate {
			t.Candidate.add(x.X)
		} else {
			t.Incumbent.add(x.X)
		}
		out = append(out, x)
	}
	return out
}

// SharesState is where a guard on a share of wrong answers stands.
type SharesState struct {
	Taken
	// Over is the evidence that more are wrong than is allowed, Under that fewer are.
	Over  seqtest.Rate `json:"over"`
	Under seqtest.Rate `json:"under"`
}

// Taken is the number of the last value that the guard on a signal, and a comparison by it, have taken in of a pair; 0
// while one has none. A guard on all outputs has taken in all up to the last of any: they come in one order.
func (s *State) Taken(pair TrialPair, signal string) (last int64) {
	for _, t := range s.Trials {
		if t.Key() != pair.Key() {
			continue
		}
		for _, of := range t.knows(signal) {
			last = max(last, t.Means[of].Last, t.Shares[of].Last)
		}
		if c := t.Contest; c != nil && c.Of.Signal == signal && (last == 0 || c.Later.Last < last) {
			last = c.Later.Last
		}
	}
	return last
}

// Knows are the signals of a pair of which the guard on one has taken in values.
func (s *State) Knows(pair TrialPair, signal string) []string {
	for _, t := range s.Trials {
		if t.Key() == pair.Key() {
			return t.knows(signal)
		}
	}
	return nil
}

func (t *TrialState) knows(signal string) (out []string) {
	all := slices.Concat(slices.Collect(maps.Keys(t.Means)), slices.Collect(maps.Keys(t.Shares)))
	for _, of := range all {
		if Covers(signal, of) {
			out = append(out, of)
		}
	}
	slices.Sort(out)
	return out
}

// ValueSignals are those that guards, or a comparison, of terms name and whose values come one by one.
func (p Terms) ValueSignals() (out []string) {
	for _, g := range p.Guards {
		if OfValues(g.Signal) {
			out = append(out, g.Signal)
		}
	}
	if p.Contest != nil && p.Contest.OfValues() && !slices.Contains(out, p.Contest.Signal) {
		out = append(out, p.Contest.Signal)
	}
	return out
}

// cloneValues makes the states of guards on values independent of those that they were copied from.
func (t *TrialState) cloneValues() {
	t.Means, t.Shares = maps.Clone(t.Means), maps.Clone(t.Shares)
	for signal, m := range t.Means {
		m.Over.Logs, m.Under.Logs = slices.Clone(m.Over.Logs), slices.Clone(m.Under.Logs)
		m.Incumbents, m.Candidates = slices.Clone(m.Incumbents), slices.Clone(m.Candidates)
		t.Means[signal] = m
	}
	for signal, s := range t.Shares {
		s.Over.Logs, s.Under.Logs = slices.Clone(s.Over.Logs), slices.Clone(s.Under.Logs)
		t.Shares[signal] = s
	}
}

// readReported moves the guard on values on by those that came. Where it is about several outputs, the worst is told.
func (t *TrialState) readReported(g Guard, e *Pair, level levels) Reading {
	var all []string
	for _, signal := range slices.Sorted(maps.Keys(e.Values)) {
		if Covers(g.Signal, signal) {
			all = append(all, signal)
		}
	}
	if len(all) == 0 {
		return Reading{Sentence: "waits until a value of " + g.Signal + " comes."}
	}
	each := levels{level.alpha / float64(len(all)), level.beta}
	if t.After {
		each = each.half()
	}
	var worst Reading
	least := math.Inf(1)
	for i, signal := range all {
		v := e.Values[signal]
		var r Reading
		if kind, _, _ := strings.Cut(signal, "."); kind == Accuracy {
			r = t.readShare(g, signal, &v, each)
		} else {
			r = t.readMean(g, signal, &v, each)
		}
		least = min(least, r.Enough)
		if i == 0 || r.Progress > worst.Progress {
			worst = r
		}
	}
	worst.Enough = least
	return worst
}

// LeastBefore is of how many values it is known what the incumbent did before.
const LeastBefore = 50

// known reports whether it is known what the incumbent did before a version took over from it.
func (v *Values) known() bool { return v.Before != nil && v.Before.N >= LeastBefore }

// readShare holds the share of the candidate's answers that were wrong against the incumbent's.
func (t *TrialState) readShare(g Guard, signal string, v *Values, level levels) Reading {
	s := t.Shares[signal]
	line := seqtest.Line{Slope: 1, Offset: g.Margin}
	if t.After {
		if !v.known() {
			return Reading{Sentence: unknownBefore(t)}
		}
		n := float64(v.Before.N)
		line = seqtest.Line{Offset: min(0.999, interval.Above(v.Before.Mean*n, n, level.alpha)+g.Margin)}
	}
	if s.Over.Line != line {
		s.Over, s.Under = seqtest.Rate{Line: line}, seqtest.Rate{Line: line, Below: true}
	}
	b := blockOf(s.fresh(v))
	if t.After {
		s.Over.ObserveAlone(b.CandidateRequests, b.CandidateFailed)
		s.Under.ObserveAlone(b.CandidateRequests, b.CandidateFailed)
	} else {
		s.Over.Observe(b)
		s.Under.Observe(b)
	}
	if t.Shares == nil {
		t.Shares = map[string]SharesState{}
	}
	t.Shares[signal] = s
	log := s.Over.LogE()
	r := level.reading(log, s.Under.LogE())
	r.Sentence = t.tells(signal, v, s.Taken) + r.says(log, level.alpha, g.Allows())
	return r
}

// blockOf counts answers of both sides, and those that were wrong.
func blockOf(values []Value) (b seqtest.Block) {
	for _, x := range values {
		n, wrong := &b.IncumbentRequests, &b.IncumbentFailed
		if x.Candidate {
			n, wrong = &b.CandidateRequests, &b.CandidateFailed
		}
		*n++
		if x.X != 0 {
			*wrong++
		}
	}
	return b
}

// tells says what the values of both sides are.
func (t *TrialState) tells(signal string, v *Values, taken Taken) string {
	other, when := taken.Incumbent, ""
	if t.After {
		other, when = Tally{v.Before.N, v.Before.Sum}, " before"
	}
	kind, of, _ := strings.Cut(signal, ".")
	unit := ""
	if v.Unit != "" {
		unit = " " + v.Unit
	}
	switch kind {
	case Accuracy:
		return fmt.Sprintf("got %s wrong in %.3g %% of %d answers whose truth is known, %s in %.3g %% of %d%s", of,
			100*taken.Candidate.Mean(), taken.Candidate.N, t.Incumbent, 100*other.Mean(), other.N, when)
	case MAE:
		return fmt.Sprintf("predicts %s off by %.4g%s on average in %d rows whose truth is known, %s by %.4g%s in "+
			"%d%s", of, taken.Candidate.Mean(), unit, taken.Candidate.N, t.Incumbent, other.Mean(), unit, other.N, when)
	}
	return fmt.Sprintf("has a mean %s of %.4g%s in %d reports, %s %.4g%s in %d%s", of, taken.Candidate.Mean(), unit,
		taken.Candidate.N, t.Incumbent, other.Mean(), unit, other.N, when)
}

// allowsOfValues says what a guard on values allows.
func (g Guard) allowsOfValues() string {
	switch kind, _, _ := strings.Cut(g.Signal, "."); kind {
	case Accuracy:
		return fmt.Sprintf("%.3g points more", 100*g.Margin)
	case MAE:
		return fmt.Sprintf("%.4g more", g.Margin)
	}
	return fmt.Sprintf("worse by %.4g", g.Margin)
}
