package guard

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
)

var (
	t0     = time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)
	trials = []TrialPair{{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 2, Since: t0}}
)

// pair is the evidence of the one trial.
func pair(main, trial Lane) Evidence {
	return Evidence{"heat-demand@2": {Incumbent: main, Candidate: trial}}
}

type story struct {
	failing, shift float64
	// slower is how many times as long the trial takes.
	slower   float64
	repeated bool
}

// play runs the watching second by second and returns the second and the action at
// which it rolled back, or 0.
func play(t *testing.T, plan Plan, s story, seconds int) (int, Action, State) {
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
		state, actions = Step(plan, 2, trials, state, pair(main, trial), t0.Add(time.Duration(sec)*time.Second))
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
			120, LatencyP99,
			"worse than allowed (1.5 times as much, or 5 ms more)",
		},
		{"predicts too much", story{failing: 0.001, shift: 1.5}, 10, PredictionDrift, "predicts another demand_mw"},
		{"predicts half too much", story{failing: 0.001, shift: 0.5}, 300, PredictionDrift, "0.10 is allowed"},
		{"the same two rows", story{failing: 0.001, shift: 1.5, repeated: true}, 0, "", ""},
	}
	for _, c := range cases {
		at, action, state := play(t, DefaultPlan(), c.story, 300)
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
		if c.story.repeated && !strings.Contains(state.Trials[0].Readings[2].Sentence, "2 of 50 distinct inputs") {
			t.Errorf("repeated rows: %q", state.Trials[0].Readings[2].Sentence)
		}
	}
}

// A caller who keeps their version and tries again and again is one failure: twelve of a hundred equal
// versions were rolled back for it.
func TestACallerWhoRetriesIsOneFailure(t *testing.T) {
	burst := Lane{Counts: sketch.Counts{Requests: 120, ServerErrors: 20, Repeated: 19}}
	state, actions := Step(DefaultPlan(), 2, trials, State{}, pair(lane(1000, 1), burst), t0)
	if len(actions) != 0 || state.Trials[0].Errors.Taken.CandidateFailed != 1 {
		t.Errorf("%v, taken %+v", actions, state.Trials[0].Errors.Taken)
	}
	burst.Counts.Repeated = 0
	if _, actions = Step(DefaultPlan(), 2, trials, State{}, pair(lane(1000, 1), burst), t0); len(actions) != 1 {
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
	plan := DefaultPlan()
	state, _ := Step(plan, 2, trials, State{}, pair(lane(900, 0), lane(100, 1)), t0)
	state, _ = Step(plan, 2, trials, state, pair(lane(1800, 0), lane(200, 2)), t0)
	before := state.Trials[0].Errors.LogE()
	plan.Guards[0].Margin = 0.02
	state, _ = Step(plan, 2, trials, state, pair(lane(1800, 0), lane(200, 2)), t0)
	if e := state.Trials[0].Errors; before == 0 || e.LogE() != 0 || e.Taken.CandidateRequests != 200 {
		t.Errorf("before e^%v, after %+v", before, e)
	}
}

// lane is a lane that answered so many requests and failed some of them.
func lane(requests, failed uint64) Lane {
	return Lane{Counts: sketch.Counts{Requests: requests, ServerErrors: failed}, Latency: &sketch.Quantiles{}}
}

func TestAGuardFiresOnce(t *testing.T) {
	plan := DefaultPlan()
	state := State{}
	e := pair(lane(1000, 0), lane(100, 100))
	state, first := Step(plan, 2, trials, state, e, t0)
	_, second := Step(plan, 2, trials, state, e, t0)
	if len(first) != 1 || len(second) != 0 {
		t.Errorf("%d actions, then %d", len(first), len(second))
	}
}

func TestStepLeavesItsInputAlone(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, 2, trials, State{}, pair(lane(90, 0), lane(10, 0)), t0)
	before, err := json.Marshal(state)
	if err != nil {
		t.Fatal(err)
	}
	Step(plan, 2, trials, state, pair(lane(900, 0), lane(100, 50)), t0)
	if after, _ := json.Marshal(state); string(after) != string(before) {
		t.Errorf("the state handed in changed:\n%s\n%s", before, after)
	}
	var back State
	if err := json.Unmarshal(before, &back); err != nil {
		t.Fatal(err)
	}
	e := pair(lane(900, 0), lane(100, 50))
	a, _ := Step(plan, 2, trials, state, e, t0)
	b, _ := Step(plan, 2, trials, back, e, t0)
	if a.Trials[0].Errors.LogE() != b.Trials[0].Errors.LogE() {
		t.Error("a state taken up again goes on differently")
	}
}

func TestCountsLostInACrashAreNoEvidence(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, 2, trials, State{}, pair(lane(900, 0), lane(100, 0)), t0)
	_, actions := Step(plan, 2, trials, state, pair(lane(850, 0), lane(95, 0)), t0)
	if len(actions) != 0 {
		t.Errorf("rolled back on counts that went down: %v", actions)
	}
}

// Evidence belongs to the pair: a larger share, which is another split, forgets nothing, and
// a pair that comes again begins anew.
func TestGrowingAShareForgetsNothing(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, 2, trials, State{}, pair(lane(900, 0), lane(100, 3)), t0)
	grown, _ := Step(plan, 3, trials, state, pair(lane(1400, 0), lane(600, 3)), t0)
	if grown.Split != 3 || grown.Trials[0].Errors.Taken.CandidateRequests != 600 || grown.Trials[0].Begun != 2 {
		t.Errorf("%+v", grown)
	}
	again := slices.Clone(trials)
	again[0].Begun = 7
	fresh, _ := Step(plan, 7, again, grown, pair(lane(10, 0), lane(5, 0)), t0)
	if fresh.Trials[0].Errors.Taken.CandidateRequests != 5 || fresh.Trials[0].Fired {
		t.Errorf("%+v", fresh)
	}
	if none, _ := Step(plan, 8, nil, fresh, nil, t0); len(none.Trials) != 0 {
		t.Errorf("%+v", none)
	}
}
