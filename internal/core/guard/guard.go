// Package guard is the state machine that watches over the trials of an endpoint: it is
// handed a plan, its own last state, the evidence and the time, and answers with the next
// state and what to do.
package guard

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// The signals that guards may name.
const (
	ErrorRate       = "error_rate"
	LatencyP50      = "latency_p50"
	LatencyP90      = "latency_p90"
	LatencyP95      = "latency_p95"
	LatencyP99      = "latency_p99"
	PredictionDrift = "prediction_drift"
)

// Signals are those that guards may name, in the order in which they are shown.
var Signals = []string{ErrorRate, LatencyP50, LatencyP90, LatencyP95, LatencyP99, PredictionDrift}

// quantileOf is the quantile of a signal of latency.
var quantileOf = map[string]float64{LatencyP50: 0.5, LatencyP90: 0.9, LatencyP95: 0.95, LatencyP99: 0.99}

// Allowed is how much more than the incumbent a candidate may fail: twice as often, or 0.05 points more.
var Allowed = seqtest.Allowance{Ratio: 2, Difference: 0.0005}

// Guard is a condition on a signal of a trial lane against the main lane at the same
// time. When it is surely broken, the trial is rolled back.
type Guard struct {
	Signal string `json:"signal" enum:"error_rate,latency_p50,latency_p90,latency_p95,latency_p99,prediction_drift"`
	// Ratio is how many times the main lane's the signal may be, from 1 on; 0 is as 1. Predictions have
	// none.
	Ratio float64 `json:"ratio,omitempty" minimum:"0" maximum:"100"`
	// Margin is how much worse than the main lane's it may be whatever the ratio: for error_rate a
	// difference of shares, for latency milliseconds, for prediction_drift a gap of cumulative shares.
	Margin float64 `json:"margin" minimum:"0"`
}

// Plan is what a trial is held to.
type Plan struct {
	Guards []Guard `json:"guards"`
	// Alpha is the chance that any of the guards ever fires on a trial that is no worse
	// than its margins allow.
	Alpha float64 `json:"alpha" minimum:"0" maximum:"1"`
}

// DefaultPlan allows twice the failures or 0.05 points more, half as much again of the 99th percentile
// of latency or 5 ms more, and a gap of a tenth in the predictions; it is wrong for fewer than one
// harmless trial in a thousand.
func DefaultPlan() Plan {
	return Plan{Alpha: 0.001, Guards: []Guard{
		{ErrorRate, Allowed.Ratio, Allowed.Difference}, {LatencyP99, 1.5, 5}, {PredictionDrift, 0, 0.1},
	}}
}

// Of is the guard of a signal; there is none for false.
func (p Plan) Of(signal string) (g Guard, there bool) {
	for _, g := range p.Guards {
		if g.Signal == signal {
			return g, true
		}
	}
	return Guard{}, false
}

// Lane is what one version did in a trial since that began. All counts only grow.
type Lane struct {
	Counts  sketch.Counts
	Latency *sketch.Quantiles
	Outputs map[string]*sketch.Column
	// Bodies were read, Rows were in them, Distinct of them were of different inputs.
	Bodies, Rows, Distinct uint64
	// Forms are the outputs that its answers had, with their types.
	Forms sketch.Forms
}

// independent is the share of the rows that tell something of their own: rows of one body belong
// together, and a row that is sent again tells nothing new. It is 1 where nearly all rows differ.
func (l *Lane) independent() float64 {
	if l.Rows == 0 {
		return 1
	}
	n := drift.Numbers{Rows: l.Rows, Weighted: float64(min(l.Bodies, l.Rows)), Distinct: l.Distinct}
	return n.Effective() / float64(l.Rows)
}

// Pair is the evidence of one trial.
type Pair struct {
	Incumbent, Candidate Lane
	// Worst is the main lane's worst moment before the trial began, as far as that is known.
	Worst seqtest.Moment
}

// Evidence is what is known of every trial of an endpoint, by candidate.
type Evidence map[string]Pair

// State is where the watching of an endpoint's trials stands; it can be stored and taken up
// again.
type State struct {
	// Split is the one in force at the last step.
	Split  int          `json:"split"`
	Trials []TrialState `json:"trials"`
	At     time.Time    `json:"at"`
}

// TrialState is where the watching of one trial stands. It belongs to the pair from when
// that began: growing a share changes nothing of it.
type TrialState struct {
	TrialPair
	Errors ErrorsState `json:"errors"`
	// Latencies are those of guards on latency, by signal; Outputs those of the predictions, by
	// output; Forms those of whether outputs are there, by output and type.
	Latencies map[string]LatencyState  `json:"latencies,omitempty"`
	Outputs   map[string]seqtest.Edges `json:"outputs,omitempty"`
	Forms     map[string]FormState     `json:"forms,omitempty"`
	Readings  []Reading                `json:"readings"`
	// Fired is set when a guard has fired: once is enough.
	Fired bool `json:"fired"`
}

// Reading is what one guard says now.
type Reading struct {
	Signal string `json:"signal"`
	// Progress is the evidence against the trial as a share of what makes the guard
	// fire: 0 is none, 1 fires.
	Progress float64 `json:"progress"`
	// Enough is the evidence that the trial is good enough, as a share of what would prove it: 1 says
	// that it is surely within what is allowed.
	Enough   float64 `json:"enough"`
	Sentence string  `json:"sentence"`
}

// Action is what is to be done.
type Action struct {
	// RollBack names the version whose trial ends.
	RollBack string
	Signal   string
	// Sentence is why, with the numbers.
	Sentence string
}

// takeUp is where the watching of a trial stands, which begins when state knows nothing of
// it.
func (s *State) takeUp(pair TrialPair) TrialState {
	for _, t := range s.Trials {
		if t.Incumbent == pair.Incumbent && t.Candidate == pair.Candidate && t.Begun == pair.Begun {
			return t.clone()
		}
	}
	return TrialState{TrialPair: pair}
}

// clone returns a copy that can be moved on without a change of the first.
func (t TrialState) clone() TrialState {
	t.Errors.Excess = t.Errors.Excess.Clone()
	t.Latencies, t.Forms = maps.Clone(t.Latencies), maps.Clone(t.Forms)
	for signal, l := range t.Latencies {
		l.Over.Logs, l.Under.Logs = slices.Clone(l.Over.Logs), slices.Clone(l.Under.Logs)
		t.Latencies[signal] = l
	}
	for form, f := range t.Forms {
		f.Lacking.Logs = slices.Clone(f.Lacking.Logs)
		t.Forms[form] = f
	}
	t.Outputs = maps.Clone(t.Outputs)
	for name, e := range t.Outputs {
		t.Outputs[name] = e.Clone()
	}
	return t
}

// Step takes the evidence into account: of the trials that the split with a number has now.
// It answers with at most one action for each trial, and with none for one of which a guard
// has fired before.
func Step(plan Plan, split int, trials []TrialPair, state State, e Evidence, now time.Time) (State, []Action) {
	next := State{Split: split, At: now, Trials: []TrialState{}}
	var actions []Action
	alpha := plan.Alpha / float64(max(1, len(plan.Guards)*len(trials)))
	for _, pair := range trials {
		t := state.takeUp(pair)
		t.Readings = []Reading{}
		evidence := e[t.Candidate]
		for _, g := range plan.Guards {
			var r Reading
			switch g.Signal {
			case ErrorRate:
				r = t.readErrors(g, &evidence, alpha)
			case PredictionDrift:
				r = t.readPredictions(g, &evidence, alpha)
			default:
				r = t.readLatency(g, &evidence, alpha)
			}
			r.Signal = g.Signal
			t.Readings = append(t.Readings, r)
			if r.Progress >= 1 && !t.Fired {
				t.Fired = true
				actions = append(actions, Action{
					RollBack: t.Candidate, Signal: g.Signal,
					Sentence: fmt.Sprintf("%s %s", t.Candidate, r.Sentence),
				})
			}
		}
		next.Trials = append(next.Trials, t)
	}
	return next, actions
}

// reading is how far evidence has come on the way to firing at alpha, and to proving the opposite.
func reading(log, enough, alpha float64) Reading {
	share := func(x float64) float64 { return math.Max(0, x/-math.Log(alpha)) }
	return Reading{Progress: share(log), Enough: math.Min(1, share(enough))}
}

// says ends a sentence with what the evidence amounts to; allowed says what is allowed.
func (r Reading) says(log, alpha float64, allowed string) string {
	fires := odds(-math.Log(alpha))
	switch {
	case r.Progress >= 1:
		return fmt.Sprintf(": worse than allowed (%s). The evidence is %s to 1; the guard fires at %s.", allowed,
			odds(log), fires)
	case r.Enough >= 1:
		return "; surely no worse than allowed."
	case log > 1:
		return fmt.Sprintf("; the evidence that it is worse than allowed (%s) is %s to 1, the guard fires at %s.",
			allowed, odds(log), fires)
	}
	return "; no sign that it is worse than allowed."
}

// grown is what came after a count before. One that went down means that what was counted in memory
// was lost with a crash; what is there then counts as nothing new.
func grown(before, now uint64) uint64 { return now - min(before, now) }

func percent(k, n uint64) float64 {
	if n == 0 {
		return 0
	}
	return 100 * float64(k) / float64(n)
}

// odds writes e^log as people read it.
func odds(log float64) string {
	if log > math.Log(1e6) {
		return "more than a million"
	}
	return fmt.Sprintf("%.0f", math.Exp(log))
}

// Check says whether a plan can be followed.
func (p Plan) Check() error {
	if !(p.Alpha > 0 && p.Alpha < 1) {
		return fault.New(fault.Invalid, "plan.alpha", "alpha is %v", p.Alpha).In("plan.alpha").
			Do("give a chance of false alarm between 0 and 1, such as 0.001")
	}
	seen := map[string]bool{}
	for i, g := range p.Guards {
		field := fmt.Sprintf("plan.guards[%d]", i)
		most, unit := 1.0, "a share from 0 to below 1, such as 0.0005"
		if _, latency := quantileOf[g.Signal]; latency {
			most, unit = 3_600_000, "milliseconds from 0 on, such as 5"
		}
		switch {
		case !slices.Contains(Signals, g.Signal):
			return fault.New(fault.Invalid, "guard.signal", "%q is no signal that a guard can watch", g.Signal).
				In(field+".signal").Do("use one of %s", strings.Join(Signals, ", "))
		case seen[g.Signal]:
			return fault.New(fault.Invalid, "guard.twice", "two guards watch %s", g.Signal).In(field + ".signal").
				Do("give one guard for each signal")
		case !(g.Margin >= 0 && g.Margin < most):
			return fault.New(fault.Invalid, "guard.margin", "the margin of %s is %v", g.Signal, g.Margin).
				In(field+".margin").Do("give %s", unit)
		case g.Signal == PredictionDrift && g.Ratio != 0:
			return fault.New(fault.Invalid, "guard.ratio", "%s has a ratio, and predictions have none", g.Signal).
				In(field + ".ratio").Do("leave it out")
		case g.Ratio != 0 && !(g.Ratio >= 1 && g.Ratio <= 100):
			return fault.New(fault.Invalid, "guard.ratio", "the ratio of %s is %v", g.Signal, g.Ratio).
				In(field + ".ratio").Do("give how many times the main lane's it may be, from 1 to 100")
		}
		seen[g.Signal] = true
	}
	return nil
}

// TrialPair is a candidate beside its incumbent on an endpoint, from the split with which that
// began, however the shares change. Evidence belongs to it.
type TrialPair struct {
	Incumbent string `json:"incumbent"`
	Candidate string `json:"candidate"`
	// Begun is the number of the split with which it began, Since the time of that.
	Begun int       `json:"begun"`
	Since time.Time `json:"since"`
}

// Progress is one reading of a guard in time.
type Progress struct {
	At       time.Time `json:"at"`
	Split    int       `json:"split"`
	Version  string    `json:"version"`
	Signal   string    `json:"signal"`
	Progress float64   `json:"progress" description:"1 fires"`
}
