// Package guard is the state machine that watches over the trials of an endpoint, and over a version
// that has just taken over: it is handed terms, its own last state, the evidence and the time, and
// answers with the next state and what to do.
package guard

import (
	"cmp"
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
	TimeoutRate     = "timeout_rate"
	LatencyP50      = "latency_p50"
	LatencyP90      = "latency_p90"
	LatencyP95      = "latency_p95"
	LatencyP99      = "latency_p99"
	PredictionDrift = "prediction_drift"
	MissingOutputs  = "missing_outputs"
	Disagreement    = "disagreement"
)

// Signals are those that guards may name, in the order in which they are shown; those of values can have a name behind
// a dot, and custom ones must.
var Signals = []string{
	ErrorRate, TimeoutRate, LatencyP50, LatencyP90, LatencyP95, LatencyP99, PredictionDrift, MissingOutputs,
	Disagreement, MAE, Accuracy, Custom + ".NAME",
}

// Place is where a signal stands among those that are shown, those of values last.
func Place(signal string) int {
	if i := slices.Index(Signals, signal); i >= 0 {
		return i
	}
	return len(Signals)
}

// quantileOf is the quantile of a signal of latency.
var quantileOf = map[string]float64{LatencyP50: 0.5, LatencyP90: 0.9, LatencyP95: 0.95, LatencyP99: 0.99}

// Allowed is how much more than the incumbent a candidate may fail: twice as often, or 0.05 points more.
var Allowed = seqtest.Allowance{Ratio: 2, Difference: 0.0005}

// ofOutputs are signals that have no ratio.
var ofOutputs = []string{PredictionDrift, MissingOutputs, Disagreement}

// Response is what is done when a guard fires.
type Response string

// The responses, from the mildest.
const (
	Notify   Response = "notify"
	Hold     Response = "hold"
	RollBack Response = "roll_back"
)

// Responses are all that there are, from the mildest.
var Responses = []Response{Notify, Hold, RollBack}

// Enum lists them for the document of the API.
func (Response) Enum() (out []any) {
	for _, r := range Responses {
		out = append(out, r)
	}
	return out
}

// Guard is a condition on a signal of a trial lane against the main lane at the same
// time. When it is surely broken, its response follows.
type Guard struct {
	Signal string `json:"signal" required:"true" description:"such as error_rate, latency_p99, mae or custom.NAME"`
	// Ratio is how many times the main lane's the signal may be, from 1 on; 0 is as 1. Predictions have
	// none.
	Ratio float64 `json:"ratio,omitempty" minimum:"0" maximum:"100"`
	// Margin is how much worse than the main lane's it may be whatever the ratio: for error_rate a
	// difference of shares, for latency milliseconds, for prediction_drift a gap of cumulative shares,
	// for missing_outputs, disagreement and accuracy a share of answers, for mae and custom signals in their unit.
	Margin float64 `json:"margin" minimum:"0"`
	// Then is what follows when it fires; roll_back when not given.
	Then Response `json:"then,omitempty" description:"when it fires; else roll_back"`
}

// Response is what follows when the guard fires.
func (g Guard) Response() Response { return cmp.Or(g.Then, RollBack) }

// Terms is what a trial is held to.
type Terms struct {
	Guards []Guard `json:"guards"`
	// Alpha is the chance that any of the guards ever fires on a trial that is no worse
	// than its margins allow.
	Alpha float64 `json:"alpha" minimum:"0" maximum:"1"`
	// Beta is the chance that a trial that is worse than a margin allows is ever called good enough.
	// All guards must call it so, which is why each has the whole of it. 0 is 0.05.
	Beta float64 `json:"beta,omitempty" minimum:"0" maximum:"1" description:"chance a worse one passes; usually 0.05"`
	// Contest is what a comparison decides beside them; nil where nothing is compared.
	Contest *Contest `json:"-"`
}

// UsualBeta is the chance that counts where terms give none.
const UsualBeta = 0.05

// DefaultTerms allows twice the failures or 0.05 points more, the same of time-outs with 0.02 points,
// half as much again of the median and the 99th percentile of latency or 5 ms more, a gap of a tenth in
// the predictions, outputs missing in 5 of 100 answers more, and of copies 5 of 100 answered differently,
// of which it only tells; it is wrong for fewer than one harmless
// trial in a thousand.
func DefaultTerms() Terms {
	return Terms{Alpha: 0.001, Beta: UsualBeta, Guards: []Guard{
		{Signal: ErrorRate, Ratio: Allowed.Ratio, Margin: Allowed.Difference},
		{Signal: TimeoutRate, Ratio: 2, Margin: 0.0002},
		{Signal: LatencyP50, Ratio: 1.5, Margin: 5},
		{Signal: LatencyP99, Ratio: 1.5, Margin: 5},
		{Signal: PredictionDrift, Margin: 0.1},
		{Signal: MissingOutputs, Margin: 0.05},
		{Signal: Disagreement, Margin: 0.05, Then: Notify},
	}}
}

// Of is the guard of a signal; there is none for false.
func (p Terms) Of(signal string) (g Guard, there bool) {
	for _, g := range p.Guards {
		if g.Signal == signal {
			return g, true
		}
	}
	return Guard{}, false
}

// For are the guards that can say something of a pair: whether answers agree is only known where one of both gets
// copies, and of what only gets copies nobody reports anything later.
func (p Terms) For(pair TrialPair) (out []Guard) {
	for _, g := range p.Guards {
		if g.Signal == Disagreement && !pair.Copies && !pair.Copied || OfValues(g.Signal) && pair.Copies {
			continue
		}
		out = append(out, g)
	}
	return out
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
	// Values are what came of signals whose values come one by one, by signal.
	Values map[string]Values
	// Paired is how the candidate answered copies of main's requests; nil where it gets none.
	Paired *sketch.Paired
	// Day is what the incumbent did in the day before another version took over from it, in parts, and Hours its
	// latency by the hour: a version that took over is no worse than the incumbent was at its worst hour.
	// Both are empty for trials.
	Day   []sketch.Counts
	Hours []*sketch.Quantiles
	// Beside is what the incumbent answers now to copies of what the candidate answers that took over from it; nil
	// where it gets none.
	Beside *Beside
}

// Beside is what two versions did with the same requests: main, and the version that it took over from, which gets
// copies of a share of them.
type Beside struct {
	Main, Former Lane
	Paired       *sketch.Paired
}

// leastPart is how many requests a part of a day must have to have a rate of its own.
const leastPart = 2000

// Parts puts the minutes of a day together, in the order of time, so that each part has enough requests to have a
// rate of its own. What is left over at the end belongs to the last.
func Parts(minutes []sketch.Counts) (out []sketch.Counts) {
	var open sketch.Counts
	for _, m := range minutes {
		if open = open.Plus(m); open.Requests >= leastPart {
			out, open = append(out, open), sketch.Counts{}
		}
	}
	switch {
	case open.Requests == 0:
	case len(out) == 0:
		out = append(out, open)
	default:
		out[len(out)-1] = out[len(out)-1].Plus(open)
	}
	return out
}

// Evidence is what is known of every trial of an endpoint, and of a version that took over.
type Evidence map[TrialKey]Pair

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
	// Rates are those of guards on failures of some kind, by signal.
	Rates map[string]RateState `json:"rates,omitempty"`
	// Latencies are those of guards on latency, by signal; Outputs those of the predictions, by
	// output; Forms those of whether outputs are there, by output and type.
	Latencies map[string]LatencyState  `json:"latencies,omitempty"`
	Outputs   map[string]seqtest.Edges `json:"outputs,omitempty"`
	Forms     map[string]FormState     `json:"forms,omitempty"`
	// Means and Shares are those of guards on values, by signal.
	Means  map[string]MeanState   `json:"means,omitempty"`
	Shares map[string]SharesState `json:"shares,omitempty"`
	// Differs is that of a guard on whether copies are answered as main answered.
	Differs *DifferState `json:"differs,omitempty"`
	// Contest is where a comparison stands, Verdict what it says; nil where there is none.
	Contest  *ContestState `json:"contest,omitempty"`
	Verdict  *Judgement    `json:"verdict,omitempty"`
	Readings []Reading     `json:"readings"`
	// Fired are the signals whose guards have fired: once is enough. Ended is set when one rolled back.
	Fired []string `json:"fired_by,omitempty"`
	Ended bool     `json:"ended,omitempty"`
}

// Reading is what one guard says now.
type Reading struct {
	Signal string `json:"signal"`
	// Progress is the evidence against the trial as a share of what makes the guard
	// fire: 0 is none, 1 fires.
	Progress float64 `json:"progress"`
	// Enough is the evidence that the trial is good enough, as a share of what would prove it: 1 says
	// that it is surely within what is allowed.
	Enough float64 `json:"enough"`
	// Then is what follows when it fires.
	Then     Response `json:"then"`
	Sentence string   `json:"sentence"`
}

// Action is what is to be done.
type Action struct {
	// Pair is what the guard watched.
	Pair   TrialPair
	Signal string
	Then   Response
	// Sentence is why, with the numbers.
	Sentence string
}

// takeUp is where the watching of a trial stands, which begins when state knows nothing of
// it.
func (s *State) takeUp(pair TrialPair) TrialState {
	for _, t := range s.Trials {
		if t.Key() == pair.Key() {
			return t.clone()
		}
	}
	return TrialState{TrialPair: pair}
}

// clone returns a copy that can be moved on without a change of the first.
func (t TrialState) clone() TrialState {
	t.Fired = slices.Clone(t.Fired)
	t.Rates, t.Latencies, t.Forms = maps.Clone(t.Rates), maps.Clone(t.Latencies), maps.Clone(t.Forms)
	for signal, r := range t.Rates {
		r.Excess, r.Over.Logs = r.Excess.Clone(), slices.Clone(r.Over.Logs)
		t.Rates[signal] = r
	}
	for signal, l := range t.Latencies {
		l.Over.Logs, l.Under.Logs = slices.Clone(l.Over.Logs), slices.Clone(l.Under.Logs)
		t.Latencies[signal] = l
	}
	for form, f := range t.Forms {
		f.Lacking.Logs, f.Given.Logs = slices.Clone(f.Lacking.Logs), slices.Clone(f.Given.Logs)
		t.Forms[form] = f
	}
	t.cloneValues()
	if t.Differs != nil {
		d := *t.Differs
		d.Over.Logs, d.Under.Logs = slices.Clone(d.Over.Logs), slices.Clone(d.Under.Logs)
		t.Differs = &d
	}
	if t.Contest != nil {
		c := *t.Contest
		c.Contest = c.Contest.Clone()
		c.Later.Incumbents, c.Later.Candidates = slices.Clone(c.Later.Incumbents), slices.Clone(c.Later.Candidates)
		if c.Means != nil {
			means := c.Means.Clone()
			c.Means = &means
		}
		t.Contest = &c
	}
	t.Outputs = maps.Clone(t.Outputs)
	for name, e := range t.Outputs {
		t.Outputs[name] = e.Clone()
	}
	return t
}

// Step takes the evidence into account: of the pairs that an endpoint has with the split of a number.
// It answers with at most one action for each, of the sternest response, and with none for a guard that
// has fired before or for a pair that was rolled back.
func Step(terms Terms, split int, pairs []TrialPair, state State, e Evidence, now time.Time) (State, []Action) {
	next := State{Split: split, At: now, Trials: []TrialState{}}
	var actions []Action
	pairs, besides := asides(pairs)
	for _, pair := range pairs {
		t := state.takeUp(pair)
		t.TrialPair, t.Readings = pair, []Reading{}
		evidence := e[pair.Key()]
		if beside, there := besides[pair.Key()]; there {
			both := e[beside]
			evidence.Beside = &Beside{both.Incumbent, both.Candidate, both.Paired}
		}
		var action *Action
		guards := terms.For(pair)
		level := levels{terms.Alpha / float64(max(1, len(guards)*len(pairs))), cmp.Or(terms.Beta, UsualBeta)}
		for _, g := range guards {
			r := t.read(g, &evidence, level)
			r.Signal, r.Then = g.Signal, g.Response()
			t.Readings = append(t.Readings, r)
			if r.Progress >= 1 && !slices.Contains(t.Fired, g.Signal) &&
				(action == nil || sternness(r.Then) > sternness(action.Then)) {
				action = &Action{
					Pair: pair, Signal: g.Signal, Then: r.Then,
					Sentence: fmt.Sprintf("%s %s", t.Candidate, r.Sentence),
				}
			}
		}
		if terms.Contest != nil && !pair.After && !pair.Copies {
			t.readContest(*terms.Contest, &evidence)
		}
		if action != nil && !t.Ended {
			t.Fired = append(t.Fired, action.Signal)
			t.Ended = action.Then == RollBack
			actions = append(actions, *action)
		}
		next.Trials = append(next.Trials, t)
	}
	return next, actions
}

// asides tells the pairs that are guarded from those that only show, for a version that took over, what the one
// before it answers to the same requests. besides are the latter, by the former.
func asides(pairs []TrialPair) (guarded []TrialPair, besides map[TrialKey]TrialKey) {
	besides = map[TrialKey]TrialKey{}
	for _, p := range pairs {
		i := slices.IndexFunc(pairs, func(after TrialPair) bool { return after.Copied && p.Mirrors(after) })
		if i < 0 {
			guarded = append(guarded, p)
			continue
		}
		besides[pairs[i].Key()] = p.Key()
	}
	return guarded, besides
}

func sternness(r Response) int { return slices.Index(Responses, r) }

// read moves one guard on by what is new in the evidence.
func (t *TrialState) read(g Guard, e *Pair, level levels) Reading {
	if OfValues(g.Signal) {
		return t.readReported(g, e, level)
	}
	switch g.Signal {
	case ErrorRate, TimeoutRate:
		return t.readRate(g, e, level)
	case PredictionDrift:
		return t.readPredictions(g, e, level)
	case MissingOutputs:
		return t.readForms(g, e, level)
	case Disagreement:
		return t.readDiffers(g, e, level)
	}
	return t.readLatency(g, e, level)
}

// levels are the chances of an error of either kind for one guard.
type levels struct {
	// alpha is that it fires on a trial that is no worse than allowed, beta that it calls one good
	// enough that is.
	alpha, beta float64
}

// reading is how far evidence has come on the way to firing, and to proving the opposite.
func (l levels) reading(log, enough float64) Reading {
	share := func(x, level float64) float64 { return math.Max(0, x/-math.Log(level)) }
	return Reading{Progress: share(log, l.alpha), Enough: math.Min(1, share(enough, l.beta))}
}

// half is for what takes two steps that may both be wrong.
func (l levels) half() levels { return levels{l.alpha / 2, l.beta} }

// says ends a sentence with what the evidence amounts to; allowed says what is allowed.
func (r Reading) says(log, alpha float64, allowed string) string {
	fires := -math.Log(alpha)
	switch {
	case r.Progress >= 1:
		return fmt.Sprintf(": worse than allowed (%s). %s", allowed, chance(log, fires))
	case r.Enough >= 1:
		return "; surely no worse than allowed."
	case log > 1:
		return fmt.Sprintf("; it may be worse than allowed (%s). %s", allowed, chance(log, fires))
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

// chance says how seldom a candidate that is no worse than allowed ever comes as far as the evidence has, by chance
// alone, and at which chance a guard fires; both as logarithms of one over it.
func chance(log, fires float64) string {
	far := fmt.Sprintf("1 time in %.0f", math.Exp(max(0, log)))
	if log > math.Log(1e6) {
		far = "less than 1 time in a million"
	}
	return fmt.Sprintf("Chance alone comes this far %s; the guard fires at 1 in %.0f.", far, math.Exp(fires))
}

// Check says whether terms can be kept to.
func (p Terms) Check() error {
	if !(p.Alpha > 0 && p.Alpha < 1) {
		return fault.New(fault.Invalid, "terms.alpha", "alpha is %v", p.Alpha).In("terms.alpha").
			Do("give a chance of false alarm between 0 and 1, such as 0.001")
	}
	if !(p.Beta >= 0 && p.Beta < 1) {
		return fault.New(fault.Invalid, "terms.beta", "beta is %v", p.Beta).In("terms.beta").
			Do("give a chance of a wrong good word between 0 and 1, such as 0.05")
	}
	seen := map[string]bool{}
	for i, g := range p.Guards {
		field := fmt.Sprintf("terms.guards[%d]", i)
		most, unit := g.mostMargin()
		switch {
		case !slices.Contains(Signals, g.Signal) && !OfValues(g.Signal) || g.Signal == Custom+".NAME":
			return fault.New(fault.Invalid, "guard.signal", "%q is no signal that a guard can watch", g.Signal).
				In(field+".signal").Do("use one of %s", strings.Join(Signals, ", "))
		case seen[g.Signal]:
			return fault.New(fault.Invalid, "guard.twice", "two guards watch %s", g.Signal).In(field + ".signal").
				Do("give one guard for each signal")
		case p.twice(i) != "":
			return fault.New(fault.Invalid, "guard.twice", "%s is watched by the guard on %s too", g.Signal,
				p.twice(i)).
				In(field + ".signal").Do("give one guard for each signal")
		case !(g.Margin >= 0 && g.Margin < most) || OfValues(g.Signal) && g.Margin == 0:
			return fault.New(fault.Invalid, "guard.margin", "the margin of %s is %v", g.Signal, g.Margin).
				In(field+".margin").Do("give %s", unit)
		case g.Then != "" && sternness(g.Then) < 0:
			return fault.New(fault.Invalid, "guard.then", "%q is no response of a guard", g.Then).In(field+".then").
				Do("use one of %s, %s, %s", Notify, Hold, RollBack)
		case (slices.Contains(ofOutputs, g.Signal) || OfValues(g.Signal)) && g.Ratio != 0:
			return fault.New(fault.Invalid, "guard.ratio", "%s has a ratio, and can have none", g.Signal).
				In(field + ".ratio").Do("leave it out")
		case g.Ratio != 0 && !(g.Ratio >= 1 && g.Ratio <= 100):
			return fault.New(fault.Invalid, "guard.ratio", "the ratio of %s is %v", g.Signal, g.Ratio).
				In(field + ".ratio").Do("give how many times the main lane's it may be, from 1 to 100")
		}
		seen[g.Signal] = true
	}
	return nil
}

// mostMargin is what the margin must be below, and how it is written.
func (g Guard) mostMargin() (most float64, unit string) {
	switch kind, _, _ := strings.Cut(g.Signal, "."); {
	case Quantile(g.Signal) > 0:
		return 3_600_000, "milliseconds from 0 on, such as 5"
	case kind == MAE || kind == Custom:
		return 1e60, "how much worse than the main lane's it may be, in its unit and above 0"
	case kind == Accuracy:
		return 1, "how many more may be wrong, as a share above 0, such as 0.02"
	}
	return 1, "a share from 0 to below 1, such as 0.0005"
}

// twice is the signal of another guard that covers that of the guard at i; empty for none.
func (p Terms) twice(i int) string {
	for j, g := range p.Guards {
		if j != i && OfValues(g.Signal) && Covers(g.Signal, p.Guards[i].Signal) {
			return g.Signal
		}
	}
	return ""
}

// TrialKey names a trial of an endpoint.
type TrialKey struct {
	Incumbent, Candidate string
	Begun                int
}

// Key names the pair.
func (p TrialPair) Key() TrialKey { return TrialKey{p.Incumbent, p.Candidate, p.Begun} }

// TrialPair is a candidate beside its incumbent on an endpoint, from the split with which that
// began, however the shares change. Evidence belongs to it.
type TrialPair struct {
	Incumbent string `json:"incumbent"`
	Candidate string `json:"candidate"`
	// Begun is the number of the split with which it began, Since the time of that.
	Begun int       `json:"begun"`
	Since time.Time `json:"since"`
	// After is set where the candidate has taken over: then it is held against what the incumbent did
	// before that.
	After bool `json:"after,omitempty"`
	// Copies is set where the candidate only gets copies of main's requests, and answers nobody.
	Copies bool `json:"copies,omitempty" description:"the candidate gets copies and answers nobody"`
	// Copied is set where the candidate has taken over and the incumbent gets copies of its requests, so that what
	// both predict is of the same inputs.
	Copied bool `json:"copied,omitempty" description:"took over, and the version before gets copies"`
}

// Mirrors reports whether p is the version that gets copies of what another answers that took over from it.
func (p TrialPair) Mirrors(after TrialPair) bool {
	return p.Copies && after.After && p.Incumbent == after.Candidate && p.Candidate == after.Incumbent
}

// Progress is one reading of a guard in time.
type Progress struct {
	At       time.Time `json:"at"`
	Split    int       `json:"split"`
	Version  string    `json:"version"`
	Signal   string    `json:"signal"`
	Progress float64   `json:"progress" description:"1 fires"`
	Enough   float64   `json:"enough" description:"1 shows it good"`
}
