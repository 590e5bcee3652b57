// Package guard is the state machine that watches over the trials of an endpoint: it is
// handed a plan, its own last state, the evidence and the time, and answers with the next
// state and what to do.
package guard

import (
	"fmt"
	"math"
	"slices"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
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

// Lane is what one version did in a trial since that began. All counts only grow.
type Lane struct {
	Requests, Failed uint64
	Outputs          map[string]*sketch.Column
	// Distinct is the number of distinct inputs among the rows that were read.
	Distinct uint64
	// Forms are the outputs that its answers had, with their types.
	Forms sketch.Forms
}

// Pair is the evidence of one trial.
type Pair struct{ Incumbent, Candidate Lane }

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
	Errors seqtest.Rate `json:"errors"`
	// Taken is how much of the evidence the error guard has bet on already.
	Taken    seqtest.Block `json:"taken"`
	Readings []Reading     `json:"readings"`
	// Fired is set when a guard has fired: once is enough.
	Fired bool `json:"fired"`
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

// start is the state in which the watching of a trial begins.
func start(plan Plan, pair TrialPair) TrialState {
	t := TrialState{TrialPair: pair, Readings: []Reading{}}
	for _, g := range plan.Guards {
		if g.Signal == ErrorRate {
			t.Errors.Margin = g.Margin
		}
	}
	return t
}

// takeUp is where the watching of a trial stands, which begins when state knows nothing of
// it.
func (s *State) takeUp(plan Plan, pair TrialPair) TrialState {
	for _, t := range s.Trials {
		if t.Incumbent == pair.Incumbent && t.Candidate == pair.Candidate && t.Begun == pair.Begun {
			t.Errors.Logs = slices.Clone(t.Errors.Logs)
			return t
		}
	}
	return start(plan, pair)
}

// Step takes the evidence into account: of the trials that the split with a number has now.
// It answers with at most one action for each trial, and with none for one of which a guard
// has fired before.
func Step(plan Plan, split int, trials []TrialPair, state State, e Evidence, now time.Time) (State, []Action) {
	next := State{Split: split, At: now, Trials: []TrialState{}}
	var actions []Action
	alpha := plan.Alpha / float64(max(1, len(plan.Guards)*len(trials)))
	for _, pair := range trials {
		t := state.takeUp(plan, pair)
		t.Readings = []Reading{}
		incumbent, candidate := e[t.Candidate].Incumbent, e[t.Candidate].Candidate
		for _, g := range plan.Guards {
			var r Reading
			switch g.Signal {
			case ErrorRate:
				r = t.readErrors(t.Incumbent, incumbent, candidate, alpha)
			case PredictionDrift:
				// Half of alpha each: for whether the outputs are there, and for their values.
				if r = readForms(g, t.Incumbent, incumbent, candidate, alpha/2); r.Sentence == "" {
					r = readDrift(g, incumbent, candidate, alpha/2)
					r.Sentence = onlyTrial(t.Incumbent, &incumbent.Forms, &candidate.Forms) + r.Sentence
				}
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
		verdict = fmt.Sprintf(": worse by more than the %.2g points allowed. The evidence is %s to 1; the guard "+
			"fires at %s.",
			t.Errors.Margin*100, odds(log), odds(-math.Log(alpha)))
	case log > 1:
		verdict = fmt.Sprintf("; the evidence that it is worse than allowed is %s to 1, the guard fires at %s.",
			odds(log), odds(-math.Log(alpha)))
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
			// With too little or too repetitive data a guard does not fire, and its progress is
			// at most the share of the data that it needs.
			r.Progress = math.Min(r.Progress,
				drift.DefaultNeed.Met(min(p.Seen(), q.Seen()), min(main.Distinct, trial.Distinct)))
			r.Sentence = fmt.Sprintf("predicts %s; not enough to tell: %s.", name, lacking)
		case gap.Low > g.Margin:
			r.Sentence = fmt.Sprintf("predicts another %s: the cumulative shares differ by %.2f, surely by %.2f, and "+
				"%.2f is allowed.%s",
				name, gap.Seen, gap.Low, g.Margin, means(p, q))
		default:
			r.Sentence = fmt.Sprintf("predicts %s with a gap of %.2f in the cumulative shares; the guard "+
				"fires at %.2f.", name, gap.Seen, g.Margin+gap.Noise)
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
		return fault.New(fault.Invalid, "plan.alpha", "alpha is %v", p.Alpha).In("plan.alpha").
			Do("give a chance of false alarm between 0 and 1, such as 0.001")
	}
	seen := map[string]bool{}
	for i, g := range p.Guards {
		field := fmt.Sprintf("plan.guards[%d]", i)
		switch {
		case g.Signal != ErrorRate && g.Signal != PredictionDrift:
			return fault.New(fault.Invalid, "guard.signal", "%q is no signal that a guard can watch", g.Signal).
				In(field+".signal").Do("use %s or %s", ErrorRate, PredictionDrift)
		case seen[g.Signal]:
			return fault.New(fault.Invalid, "guard.twice", "two guards watch %s", g.Signal).In(field + ".signal").
				Do("give one guard for each signal")
		case !(g.Margin >= 0 && g.Margin < 1):
			return fault.New(fault.Invalid, "guard.margin", "the margin of %s is %v", g.Signal, g.Margin).
				In(field + ".margin").Do("give a share from 0 to below 1, such as 0.005")
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
