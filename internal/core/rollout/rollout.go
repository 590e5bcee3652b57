// Package rollout is the state machine that watches over a split with a trial lane: it
// is handed a plan, its own last state, the evidence and the time, and answers with the
// next state and what to do.
package rollout

import (
	"fmt"
	"math"
	"slices"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
)

// The signals that guards may name.
const (
	ErrorRate       = "error_rate"
	PredictionDrift = "prediction_drift"
)

// Guard is a condition on a signal of a trial lane against the main lane at the same
// time. When it is surely broken, the trial is rolled back.
type Guard struct {
	Signal string `json:"signal" enum:"error_rate,prediction_drift"`
	// Margin is how much worse the trial lane may be: for error_rate a difference of
	// shares, for prediction_drift a gap of cumulative shares, both in [0, 1).
	Margin float64 `json:"margin" minimum:"0" maximum:"1"`
}

// Plan is what a trial is held to.
type Plan struct {
	Guards []Guard `json:"guards"`
	// Alpha is the chance that any of the guards ever fires on a trial that is no worse
	// than its margins allow.
	Alpha float64 `json:"alpha" minimum:"0" maximum:"1"`
}

// DefaultPlan allows half a point more errors and a gap of a quarter in the
// predictions, and is wrong for fewer than one harmless trial in a thousand.
func DefaultPlan() Plan {
	return Plan{Alpha: 0.001, Guards: []Guard{{ErrorRate, 0.005}, {PredictionDrift, 0.25}}}
}

// Lane is what one lane did since the split came into force. All counts only grow.
type Lane struct {
	Requests, Failed uint64
	Outputs          map[string]*sketch.Column
	// Distinct is the number of distinct inputs among the rows that were read.
	Distinct uint64
}

// Evidence is what all lanes of a split did, by version.
type Evidence map[string]Lane

// State is where the watching stands; it can be stored and taken up again.
type State struct {
	Split  int          `json:"split"`
	Trials []TrialState `json:"trials"`
	Fired  bool         `json:"fired"`
	Since  time.Time    `json:"since"`
	At     time.Time    `json:"at"`
}

// TrialState is where the watching of one trial lane stands.
type TrialState struct {
	Version string       `json:"version"`
	Errors  seqtest.Rate `json:"errors"`
	// Taken is how much of the evidence the error guard has bet on already.
	Taken    seqtest.Block `json:"taken"`
	Readings []Reading     `json:"readings"`
}

// Reading is what one guard says now.
type Reading struct {
	Signal string `json:"signal"`
	// Progress is the evidence against the trial as a share of what makes the guard
	// fire: 0 is none, 1 fires.
	Progress float64 `json:"progress"`
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

// Start is the state in which the watching of a split begins.
func Start(plan Plan, split traffic.Split, now time.Time) State {
	s := State{Split: split.Number, Since: now, At: now, Trials: []TrialState{}}
	for _, l := range split.Trials() {
		t := TrialState{Version: l.Version, Readings: []Reading{}}
		for _, g := range plan.Guards {
			if g.Signal == ErrorRate {
				t.Errors.Margin = g.Margin
			}
		}
		s.Trials = append(s.Trials, t)
	}
	return s
}

// Step takes the evidence into account. It answers with at most one action, and with
// none once a guard has fired.
func Step(plan Plan, split traffic.Split, state State, e Evidence, now time.Time) (State, []Action) {
	next := state
	next.At = now
	next.Trials = slices.Clone(state.Trials)
	var actions []Action
	alpha := plan.Alpha / float64(max(1, len(plan.Guards)*len(next.Trials)))
	main := e[split.Main().Version]
	for i := range next.Trials {
		t := &next.Trials[i]
		t.Errors.Logs = slices.Clone(t.Errors.Logs)
		t.Readings = []Reading{}
		for _, g := range plan.Guards {
			var r Reading
			switch g.Signal {
			case ErrorRate:
				r = t.readErrors(split.Main().Version, main, e[t.Version], alpha)
			case PredictionDrift:
				r = readDrift(g, main, e[t.Version], alpha)
			}
			r.Signal = g.Signal
			t.Readings = append(t.Readings, r)
			if r.Progress >= 1 && !next.Fired {
				next.Fired = true
				actions = append(actions, Action{RollBack: t.Version, Signal: g.Signal,
					Sentence: fmt.Sprintf("%s %s", t.Version, r.Sentence)})
			}
		}
	}
	return next, actions
}

// readErrors moves the error guard on by what is new in the evidence.
func (t *TrialState) readErrors(mainVersion string, main, trial Lane, alpha float64) Reading {
	seen := seqtest.Block{
		IncumbentRequests: main.Requests, IncumbentFailed: main.Failed,
		CandidateRequests: trial.Requests, CandidateFailed: trial.Failed,
	}
	t.Errors.Observe(since(t.Taken, seen))
	t.Taken = seen
	log := t.Errors.LogE()
	r := Reading{Progress: math.Max(0, log/-math.Log(alpha))}
	var verdict string
	switch {
	case t.Errors.Fires(alpha):
		verdict = fmt.Sprintf(": worse by more than the %.2g points allowed. The evidence is %s to 1; the guard fires at %s.",
			t.Errors.Margin*100, odds(log), odds(-math.Log(alpha)))
	case log > 1:
		verdict = fmt.Sprintf("; the evidence that it is worse than allowed is %s to 1, the guard fires at %s.", odds(log), odds(-math.Log(alpha)))
	default:
		verdict = "; no sign that it is worse than allowed."
	}
	r.Sentence = fmt.Sprintf("failed %d of %d requests (%.2f %%), %s %d of %d (%.2f %%)%s",
		trial.Failed, trial.Requests, percent(trial.Failed, trial.Requests),
		mainVersion, main.Failed, main.Requests, percent(main.Failed, main.Requests), verdict)
	return r
}

// since is what came after the counts in before. Counts that went down mean that what
// was counted in memory was lost with a crash; what is there then counts as nothing new.
func since(before, now seqtest.Block) seqtest.Block {
	less := func(a, b uint64) uint64 {
		if b < a {
			return 0
		}
		return b - a
	}
	b := seqtest.Block{
		IncumbentRequests: less(before.IncumbentRequests, now.IncumbentRequests),
		IncumbentFailed:   less(before.IncumbentFailed, now.IncumbentFailed),
		CandidateRequests: less(before.CandidateRequests, now.CandidateRequests),
		CandidateFailed:   less(before.CandidateFailed, now.CandidateFailed),
	}
	b.IncumbentFailed = min(b.IncumbentFailed, b.IncumbentRequests)
	b.CandidateFailed = min(b.CandidateFailed, b.CandidateRequests)
	return b
}

// readDrift looks at every output and reports the one that moved most.
func readDrift(g Guard, main, trial Lane, alpha float64) Reading {
	r := Reading{Sentence: "has no predictions to compare yet."}
	var names []string
	for name := range trial.Outputs {
		if o, ok := main.Outputs[name]; ok && o.Bins.Equal(trial.Outputs[name].Bins) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		p, q := main.Outputs[name], trial.Outputs[name]
		gap := seqtest.CDFGap(p.Cells(), q.Cells(), alpha/float64(len(names)))
		progress := gap.Seen / (g.Margin + gap.Noise)
		if progress < r.Progress {
			continue
		}
		r.Progress = progress
		lacking := drift.DefaultNeed.Lacking(min(p.Seen(), q.Seen()), min(main.Distinct, trial.Distinct))
		switch {
		case lacking != "":
			// A guard never fires on too little or too repetitive data, and has come no
			// further than its data has.
			r.Progress = math.Min(r.Progress, drift.DefaultNeed.Met(min(p.Seen(), q.Seen()), min(main.Distinct, trial.Distinct)))
			r.Sentence = fmt.Sprintf("predicts %s; not enough to tell: %s.", name, lacking)
		case gap.Low > g.Margin:
			r.Sentence = fmt.Sprintf("predicts another %s: the cumulative shares differ by %.2f, surely by %.2f, and %.2f is allowed.%s",
				name, gap.Seen, gap.Low, g.Margin, means(p, q))
		default:
			r.Sentence = fmt.Sprintf("predicts %s with a gap of %.2f in the cumulative shares; the guard fires at %.2f.", name, gap.Seen, g.Margin+gap.Noise)
		}
	}
	return r
}

func means(p, q *sketch.Column) string {
	if !p.Bins.Numeric() {
		return ""
	}
	return fmt.Sprintf(" The mean is %.3g against %.3g.", q.Mean(), p.Mean())
}

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
		return fault.New(fault.Invalid, "plan.alpha", "alpha is %v", p.Alpha).In("plan.alpha").Do("give a chance of false alarm between 0 and 1, such as 0.001")
	}
	seen := map[string]bool{}
	for i, g := range p.Guards {
		field := fmt.Sprintf("plan.guards[%d]", i)
		switch {
		case g.Signal != ErrorRate && g.Signal != PredictionDrift:
			return fault.New(fault.Invalid, "guard.signal", "%q is no signal that a guard can watch", g.Signal).In(field+".signal").Do("use %s or %s", ErrorRate, PredictionDrift)
		case seen[g.Signal]:
			return fault.New(fault.Invalid, "guard.twice", "two guards watch %s", g.Signal).In(field + ".signal").Do("give one guard for each signal")
		case !(g.Margin >= 0 && g.Margin < 1):
			return fault.New(fault.Invalid, "guard.margin", "the margin of %s is %v", g.Signal, g.Margin).In(field + ".margin").Do("give a share from 0 to below 1, such as 0.005")
		}
		seen[g.Signal] = true
	}
	return nil
}
