package guard

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/sketch"
)

var (
	t0     = time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)
	trials = []TrialPair{{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 2, Since: t0}}
)

// pair is the evidence of the one trial.
func pair(main, trial Lane) Evidence {
	return Evidence{trials[0].Key(): {Incumbent: main, Candidate: trial}}
}

// errorsOf is where the guard on errors of the one trial stands.
func errorsOf(s State) *RateState {
	r := s.Trials[0].Rates[ErrorRate]
	return &r
}

// readingOf is what a guard says of the one trial.
func readingOf(s State, signal string) Reading {
	for _, r := range s.Trials[0].Readings {
		if r.Signal == signal {
			return r
		}
	}
	return Reading{}
}

type story struct {
	failing, shift float64
	// slower is how many times as long the trial takes.
	slower   float64
	repeated bool
}

// play runs the watching second by second and returns the second and the action at
// which it rolled back, or 0.
func play(t *testing.T, terms Terms, s story, seconds int) (int, Action, State) {
	t.Helper()
	r := rand.New(rand.NewPCG(1, 7))
	bins := sketch.Bins{Edges: []float64{0, 1, 2, 3, 4, 5, 6, 7, 8}}
	grow := func(l *Lane, n int, failing, shift, slower float64) {
		if l.Outputs == nil {
			l.Outputs = map[string]*sketch.Column{"demand_mw": sketch.NewColumn(bins)}
			l.Latency = &sketch.Quantiles{}
		}
		for range n {
			l.Counts.Requests++
			if r.Float64() < failing {
				l.Counts.ServerErrors++
			} else {
				l.Latency.Add(time.Duration(20e6 * math.Exp(0.4*r.NormFloat64()) * slower))
			}
			l.Outputs["demand_mw"].AddNumber(4 + shift + r.NormFloat64())
		}
		l.Bodies, l.Rows, l.Distinct = l.Counts.Requests, l.Counts.Requests, l.Counts.Requests
		if s.repeated {
			l.Distinct = 2
		}
	}
	state := State{}
	var main, trial Lane
	for sec := 1; sec <= seconds; sec++ {
		grow(&main, 180, 0.001, 0, 1)
		grow(&trial, 20, s.failing, s.shift, max(1, s.slower))
		var actions []Action
		state, actions = Step(terms, 2, trials, state, pair(main, trial), t0.Add(time.Duration(sec)*time.Second))
		if len(actions) > 0 {
			return sec, actions[0], state
		}
	}
	return 0, Action{}, state
}

func TestStories(t *testing.T) {
	cases := []struct {
		name   string
		story  story
		within int // 0: must not roll back
		signal string
		says   string
	}{
		{"good", story{failing: 0.001}, 0, "", ""},
		{"slightly different predictions", story{failing: 0.001, shift: 0.2}, 0, "", ""},
		{"a little slower", story{failing: 0.001, slower: 1.3}, 0, "", ""},
		{
			"fails one in five",
			story{failing: 0.2},
			3, ErrorRate,
			"worse than allowed (2 times as much, or 0.05 points more)",
		},
		{"fails a little", story{failing: 0.01}, 120, ErrorRate, "heat-demand@2 failed"},
		{
			"takes twice as long",
			story{failing: 0.001, slower: 2.2},
			10, LatencyP50,
			"worse than allowed (1.5 times as much, or 5 ms more)",
		},
		{"predicts too much", story{failing: 0.001, shift: 1.5}, 10, PredictionDrift, "predicts demand_mw differently"},
		{"predicts half too much", story{failing: 0.001, shift: 0.5}, 300, PredictionDrift, "the limit is 0.10"},
		{"the same two rows", story{failing: 0.001, shift: 1.5, repeated: true}, 0, "", ""},
	}
	for _, c := range cases {
		at, action, state := play(t, DefaultTerms(), c.story, 300)
		if c.within == 0 && at != 0 {
			t.Errorf("%s: rolled back at second %d: %s", c.name, at, action.Sentence)
		}
		if c.within > 0 && (at == 0 || at > c.within || action.Signal != c.signal ||
			!strings.Contains(action.Sentence, c.says)) {
			t.Errorf("%s: second %d, %s: %q", c.name, at, action.Signal, action.Sentence)
		}
		for _, r := range state.Trials[0].Readings {
			if r.Sentence == "" || r.Progress < 0 || (r.Progress >= 1 && r.Signal != c.signal) {
				t.Errorf("%s: reading %+v", c.name, r)
			}
		}
		if c.story.repeated &&
			!strings.Contains(readingOf(state, PredictionDrift).Sentence, "2 of 50 distinct inputs") {
			t.Errorf("repeated rows: %q", readingOf(state, PredictionDrift).Sentence)
		}
	}
}

// A caller who keeps their version and tries again and again is one failure: twelve of a hundred equal
// versions were rolled back for it.
func TestACallerWhoRetriesIsOneFailure(t *testing.T) {
	burst := Lane{Counts: sketch.Counts{Requests: 120, ServerErrors: 20, Repeated: 19}}
	state, actions := Step(DefaultTerms(), 2, trials, State{}, pair(lane(1000, 1), burst), t0)
	if len(actions) != 0 || errorsOf(state).Taken.CandidateFailed != 1 {
		t.Errorf("%v, taken %+v", actions, errorsOf(state).Taken)
	}
	burst.Counts.Repeated = 0
	if _, actions = Step(DefaultTerms(), 2, trials, State{}, pair(lane(1000, 1), burst), t0); len(actions) != 1 {
		t.Errorf("twenty callers who failed: %v", actions)
	}
}

// Rows of one body belong together, and rows that come again tell nothing new.
func TestRowsThatTellNothingOfTheirOwn(t *testing.T) {
	for name, c := range map[string]struct {
		lane Lane
		want float64
	}{
		"all differ":       {Lane{Bodies: 500, Rows: 500, Distinct: 480}, 1},
		"bodies of ten":    {Lane{Bodies: 50, Rows: 500, Distinct: 500}, 0.1},
		"a hundred rows":   {Lane{Bodies: 500, Rows: 500, Distinct: 100}, 0.2},
		"nothing was read": {Lane{}, 1},
	} {
		if got := c.lane.independent(); got != c.want {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
}

// A guard that allows something else from now on begins anew; the others go on.
func TestAnotherMarginBeginsAnew(t *testing.T) {
	terms := DefaultTerms()
	state, _ := Step(terms, 2, trials, State{}, pair(lane(900, 0), lane(100, 1)), t0)
	state, _ = Step(terms, 2, trials, state, pair(lane(1800, 0), lane(200, 2)), t0)
	before := errorsOf(state).LogE()
	terms.Guards[0].Margin = 0.02
	state, _ = Step(terms, 2, trials, state, pair(lane(1800, 0), lane(200, 2)), t0)
	if e := errorsOf(state); before == 0 || e.LogE() != 0 || e.Taken.CandidateRequests != 200 {
		t.Errorf("before e^%v, after %+v", before, e)
	}
}

// lane is a lane that answered so many requests and failed some of them.
func lane(requests, failed uint64) Lane {
	return Lane{Counts: sketch.Counts{Requests: requests, ServerErrors: failed}, Latency: &sketch.Quantiles{}}
}

func TestAGuardFiresOnce(t *testing.T) {
	terms := DefaultTerms()
	state := State{}
	e := pair(lane(1000, 0), lane(100, 100))
	state, first := Step(terms, 2, trials, state, e, t0)
	_, second := Step(terms, 2, trials, state, e, t0)
	if len(first) != 1 || len(second) != 0 {
		t.Errorf("%d actions, then %d", len(first), len(second))
	}
}

func TestStepLeavesItsInputAlone(t *testing.T) {
	terms := DefaultTerms()
	state, _ := Step(terms, 2, trials, State{}, pair(lane(90, 0), lane(10, 0)), t0)
	before, err := json.Marshal(state)
	if err != nil {
		t.Fatal(err)
	}
	Step(terms, 2, trials, state, pair(lane(900, 0), lane(100, 50)), t0)
	if after, _ := json.Marshal(state); string(after) != string(before) {
		t.Errorf("the state handed in changed:\n%s\n%s", before, after)
	}
	var back State
	if err := json.Unmarshal(before, &back); err != nil {
		t.Fatal(err)
	}
	e := pair(lane(900, 0), lane(100, 50))
	a, _ := Step(terms, 2, trials, state, e, t0)
	b, _ := Step(terms, 2, trials, back, e, t0)
	if errorsOf(a).LogE() != errorsOf(b).LogE() {
		t.Error("a state taken up again goes on differently")
	}
}

func TestCountsLostInACrashAreNoEvidence(t *testing.T) {
	terms := DefaultTerms()
	state, _ := Step(terms, 2, trials, State{}, pair(lane(900, 0), lane(100, 0)), t0)
	_, actions := Step(terms, 2, trials, state, pair(lane(850, 0), lane(95, 0)), t0)
	if len(actions) != 0 {
		t.Errorf("rolled back on counts that went down: %v", actions)
	}
}

// Evidence belongs to the pair: a larger share, which is another split, forgets nothing, and
// a pair that comes again begins anew.
func TestGrowingAShareForgetsNothing(t *testing.T) {
	terms := DefaultTerms()
	state, _ := Step(terms, 2, trials, State{}, pair(lane(900, 0), lane(100, 3)), t0)
	grown, _ := Step(terms, 3, trials, state, pair(lane(1400, 0), lane(600, 3)), t0)
	if grown.Split != 3 || errorsOf(grown).Taken.CandidateRequests != 600 || grown.Trials[0].Begun != 2 {
		t.Errorf("%+v", grown)
	}
	again := slices.Clone(trials)
	again[0].Begun = 7
	evidence := Evidence{again[0].Key(): {Incumbent: lane(10, 0), Candidate: lane(5, 0)}}
	fresh, _ := Step(terms, 7, again, grown, evidence, t0)
	if errorsOf(fresh).Taken.CandidateRequests != 5 || len(fresh.Trials[0].Fired) > 0 {
		t.Errorf("%+v", fresh)
	}
	if none, _ := Step(terms, 8, nil, fresh, nil, t0); len(none.Trials) != 0 {
		t.Errorf("%+v", none)
	}
}

// A trial that is as good as main is shown good by every guard before long, and one that is worse than
// allowed is not.
func TestShownGood(t *testing.T) {
	for name, c := range map[string]struct {
		story story
		not   string
	}{
		"good":          {story{failing: 0.001}, ""},
		"fails":         {story{failing: 0.004}, ErrorRate},
		"slow":          {story{failing: 0.001, slower: 1.6}, LatencyP50},
		"predicts more": {story{failing: 0.001, shift: 0.4}, PredictionDrift},
		"repeated":      {story{failing: 0.001, repeated: true}, PredictionDrift},
	} {
		terms := DefaultTerms()
		terms.Alpha = 1e-300 // nothing fires here
		terms.Guards[0].Margin = 0.002
		_, _, state := play(t, terms, c.story, 900)
		for _, r := range state.Trials[0].Readings {
			shown := r.Enough >= 1
			if r.Signal == MissingOutputs || r.Signal == TimeoutRate {
				continue // nothing was read of forms; time-outs never come, which is hardly worth a margin so small
			}
			if shown == (r.Signal == c.not) && (c.not == "" || r.Signal == c.not) {
				t.Errorf("%s: %s is shown good: %v (%.2f): %s", name, r.Signal, shown, r.Enough, r.Sentence)
			}
		}
	}
}

// The sternest response of those that fire counts; a milder one comes afterwards, unless the trial is over.
func TestResponses(t *testing.T) {
	bad := lane(300, 150)
	bad.Counts.TimedOut, bad.Counts.ServerErrors = 150, 0
	terms := Terms{Alpha: 0.001, Guards: []Guard{
		{Signal: ErrorRate, Ratio: 2, Then: Notify}, {Signal: TimeoutRate, Ratio: 2, Then: Hold},
	}}
	state, first := Step(terms, 2, trials, State{}, pair(lane(3000, 3), bad), t0)
	state, second := Step(terms, 2, trials, state, pair(lane(3000, 3), bad), t0)
	_, third := Step(terms, 2, trials, state, pair(lane(3000, 3), bad), t0)
	if len(first) != 1 || first[0].Then != Hold || len(second) != 1 || second[0].Then != Notify || len(third) != 0 {
		t.Errorf("%+v, %+v, %+v", first, second, third)
	}
	terms.Guards[0].Then = ""
	state, first = Step(terms, 2, trials, State{}, pair(lane(3000, 3), bad), t0)
	_, second = Step(terms, 2, trials, state, pair(lane(3000, 3), bad), t0)
	if len(first) != 1 || first[0].Then != RollBack || len(second) != 0 {
		t.Errorf("%+v, %+v", first, second)
	}
	for field, g := range map[string]Guard{
		"then":   {Signal: ErrorRate, Then: "shout"},
		"ratio":  {Signal: MissingOutputs, Ratio: 2},
		"signal": {Signal: "wrath"},
	} {
		if err := (Terms{Alpha: 0.001, Guards: []Guard{g}}).Check(); fault.Code(err) != "guard."+field {
			t.Errorf("%s: %v", field, err)
		}
	}
}

// after is the pair of a version that took over, whose forerunner did something before.
func after(before, now Lane) ([]TrialPair, Evidence) {
	pairs := []TrialPair{{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 9, Since: t0, After: true}}
	return pairs, Evidence{pairs[0].Key(): {Incumbent: before, Candidate: now}}
}

// A version that took over is held against what was before: it fails, is slow, or lacks an output, and
// the guard fires; it is as the other was, and it does not, however long one looks.
func TestAVersionThatTookOver(t *testing.T) {
	y := sketch.Form{Name: "y", Datatype: "FP64"}
	for name, c := range map[string]struct {
		failing, slower float64
		lacks           bool
		want            string
		within          int
	}{
		"good":         {failing: 0.001},
		"half fails":   {failing: 0.5, want: ErrorRate, within: 2},
		"fails a bit":  {failing: 0.01, want: ErrorRate, within: 60},
		"slow":         {failing: 0.001, slower: 2, want: LatencyP50, within: 10},
		"lacks output": {failing: 0.001, lacks: true, want: MissingOutputs, within: 1},
	} {
		r := rand.New(rand.NewPCG(4, 4))
		grow := func(l *Lane, n int, failing, slower float64) {
			if l.Latency == nil {
				l.Latency = &sketch.Quantiles{}
			}
			for range n {
				if l.Counts.Requests++; r.Float64() < failing {
					l.Counts.ServerErrors++
					continue
				}
				l.Latency.Add(time.Duration(20e6 * math.Exp(0.4*r.NormFloat64()) * max(1, slower)))
				if !c.lacks || l.Forms.Answers > 50_000 {
					l.Forms.Add([]sketch.Form{y})
				} else {
					l.Forms.Add(nil)
				}
			}
		}
		var before, now Lane
		lacks := c.lacks
		c.lacks = false
		grow(&before, 60_000, 0.001, 1)
		c.lacks = lacks
		state, at, fired := State{}, 0, Action{}
		for second := 1; second <= 600 && at == 0; second++ {
			grow(&now, 200, c.failing, c.slower)
			pairs, evidence := after(before, now)
			var actions []Action
			state, actions = Step(DefaultTerms(), 9, pairs, state, evidence, t0)
			if len(actions) > 0 {
				at, fired = second, actions[0]
			}
		}
		if fired.Signal != c.want || at > c.within {
			t.Errorf("%s: after %d s: %+v", name, at, fired)
		}
	}
	pairs, evidence := after(Lane{}, lane(100, 100))
	state, actions := Step(DefaultTerms(), 9, pairs, State{}, evidence, t0)
	if len(actions) != 0 || !strings.Contains(readingOf(state, ErrorRate).Sentence, "is not known") ||
		!strings.Contains(readingOf(state, PredictionDrift).Sentence, "other hours") {
		t.Errorf("nothing is known of before: %v, %+v", actions, state.Trials[0].Readings)
	}
}

// Failures follow the day: a version that takes over in the morning is no worse than the other was on the morning
// before, though the hour before was quiet.
func TestATakeoverFollowsTheDay(t *testing.T) {
	minute := func(n, failed uint64) sketch.Counts { return sketch.Counts{Requests: n, ServerErrors: failed} }
	var day []sketch.Counts
	for range 600 {
		day = append(day, minute(200, 10)) // a busy morning: one in twenty
	}
	for range 840 {
		day = append(day, minute(50, 0))
	}
	parts := Parts(day)
	if len(parts) != 81 || parts[0].Requests != 2000 {
		t.Fatalf("%d parts, the first of %d requests", len(parts), parts[0].Requests)
	}
	if few := Parts(day[600:610]); len(few) != 1 || few[0].Requests != 500 {
		t.Errorf("%+v", few)
	}
	play := func(failing float64, day []sketch.Counts) (fired bool) {
		r := rand.New(rand.NewPCG(9, 9))
		before, now, state := lane(3000, 0), lane(0, 0), State{}
		for range 300 {
			for range 20 {
				now.Counts.Requests++
				if r.Float64() < failing {
					now.Counts.ServerErrors++
				}
			}
			pairs, evidence := after(before, now)
			pair := evidence[pairs[0].Key()]
			pair.Day = day
			evidence[pairs[0].Key()] = pair
			var actions []Action
			terms := Terms{Alpha: 0.001, Guards: []Guard{{Signal: ErrorRate, Ratio: 1.5, Margin: 0.01}}}
			state, actions = Step(terms, 9, pairs, state, evidence, t0)
			fired = fired || len(actions) > 0
		}
		return fired
	}
	if !play(0.05, nil) || play(0.05, parts) || !play(0.2, parts) {
		t.Errorf("as on the morning before: %v; without the day %v; worse than ever %v", play(0.05, parts),
			play(0.05, nil), play(0.2, parts))
	}
}
