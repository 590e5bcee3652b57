package guard

import (
	"encoding/json"
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
	repeated       bool
}

// play runs the watching second by second and returns the second and the action at
// which it rolled back, or 0.
func play(t *testing.T, plan Plan, s story, seconds int) (int, Action, State) {
	t.Helper()
	r := rand.New(rand.NewPCG(1, 7))
	bins := sketch.Bins{Edges: []float64{0, 1, 2, 3, 4, 5, 6, 7, 8}}
	grow := func(l *Lane, n int, failing, shift float64) {
		if l.Outputs == nil {
			l.Outputs = map[string]*sketch.Column{"demand_mw": sketch.NewColumn(bins)}
		}
		for range n {
			l.Requests++
			if r.Float64() < failing {
				l.Failed++
			}
			l.Outputs["demand_mw"].AddNumber(4 + shift + r.NormFloat64())
		}
		l.Distinct = l.Requests
		if s.repeated {
			l.Distinct = 2
		}
	}
	state := State{}
	var main, trial Lane
	for sec := 1; sec <= seconds; sec++ {
		grow(&main, 180, 0.001, 0)
		grow(&trial, 20, s.failing, s.shift)
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
		{"fails one in five", story{failing: 0.2}, 3, ErrorRate, "worse by more than the 0.5 points allowed"},
		{"fails a little", story{failing: 0.03}, 60, ErrorRate, "heat-demand@2 failed"},
		{"predicts too much", story{failing: 0.001, shift: 1.5}, 60, PredictionDrift, "predicts another demand_mw"},
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
			if r.Sentence == "" || r.Progress < 0 {
				t.Errorf("%s: reading %+v", c.name, r)
			}
		}
		if c.story.repeated && !strings.Contains(state.Trials[0].Readings[1].Sentence, "2 of 50 distinct inputs") {
			t.Errorf("repeated rows: %q", state.Trials[0].Readings[1].Sentence)
		}
	}
}

func TestAGuardFiresOnce(t *testing.T) {
	plan := DefaultPlan()
	state := State{}
	e := pair(Lane{Requests: 1000}, Lane{Requests: 100, Failed: 100})
	state, first := Step(plan, 2, trials, state, e, t0)
	_, second := Step(plan, 2, trials, state, e, t0)
	if len(first) != 1 || len(second) != 0 {
		t.Errorf("%d actions, then %d", len(first), len(second))
	}
}

func TestStepLeavesItsInputAlone(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, 2, trials, State{}, pair(Lane{Requests: 90}, Lane{Requests: 10}), t0)
	before, err := json.Marshal(state)
	if err != nil {
		t.Fatal(err)
	}
	Step(plan, 2, trials, state, pair(Lane{Requests: 900}, Lane{Requests: 100, Failed: 50}), t0)
	if after, _ := json.Marshal(state); string(after) != string(before) {
		t.Errorf("the state handed in changed:\n%s\n%s", before, after)
	}
	var back State
	if err := json.Unmarshal(before, &back); err != nil {
		t.Fatal(err)
	}
	e := pair(Lane{Requests: 900}, Lane{Requests: 100, Failed: 50})
	a, _ := Step(plan, 2, trials, state, e, t0)
	b, _ := Step(plan, 2, trials, back, e, t0)
	if a.Trials[0].Errors.LogE() != b.Trials[0].Errors.LogE() {
		t.Error("a state taken up again goes on differently")
	}
}

func TestCountsLostInACrashAreNoEvidence(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, 2, trials, State{}, pair(Lane{Requests: 900}, Lane{Requests: 100}), t0)
	_, actions := Step(plan, 2, trials, state, pair(Lane{Requests: 850}, Lane{Requests: 95}), t0)
	if len(actions) != 0 {
		t.Errorf("rolled back on counts that went down: %v", actions)
	}
}

// Evidence belongs to the pair: a larger share, which is another split, forgets nothing, and
// a pair that comes again begins anew.
func TestGrowingAShareForgetsNothing(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, 2, trials, State{}, pair(Lane{Requests: 900}, Lane{Requests: 100, Failed: 3}), t0)
	grown, _ := Step(plan, 3, trials, state, pair(Lane{Requests: 1400}, Lane{Requests: 600, Failed: 3}), t0)
	if grown.Split != 3 || grown.Trials[0].Taken.CandidateRequests != 600 || grown.Trials[0].Begun != 2 {
		t.Errorf("%+v", grown)
	}
	again := slices.Clone(trials)
	again[0].Begun = 7
	fresh, _ := Step(plan, 7, again, grown, pair(Lane{Requests: 10}, Lane{Requests: 5}), t0)
	if fresh.Trials[0].Taken.CandidateRequests != 5 || fresh.Trials[0].Fired {
		t.Errorf("%+v", fresh)
	}
	if none, _ := Step(plan, 8, nil, fresh, nil, t0); len(none.Trials) != 0 {
		t.Errorf("%+v", none)
	}
}
