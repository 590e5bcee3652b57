package rollout

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
)

var (
	t0    = time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)
	split = traffic.Split{Endpoint: "demand-hourly", Number: 2, Lanes: []traffic.Lane{
		{Kind: traffic.Main, Version: "heat-demand@1", Share: 9000}, {Kind: traffic.Trial, Version: "heat-demand@2", Share: 1000}}}
)

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
	state := Start(plan, split, t0)
	var main, trial Lane
	for sec := 1; sec <= seconds; sec++ {
		grow(&main, 180, 0.001, 0)
		grow(&trial, 20, s.failing, s.shift)
		var actions []Action
		state, actions = Step(plan, split, state, Evidence{"heat-demand@1": main, "heat-demand@2": trial}, t0.Add(time.Duration(sec)*time.Second))
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
		if c.within > 0 && (at == 0 || at > c.within || action.Signal != c.signal || !strings.Contains(action.Sentence, c.says)) {
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
	state := Start(plan, split, t0)
	e := Evidence{"heat-demand@1": {Requests: 1000}, "heat-demand@2": {Requests: 100, Failed: 100}}
	state, first := Step(plan, split, state, e, t0)
	_, second := Step(plan, split, state, e, t0)
	if len(first) != 1 || len(second) != 0 {
		t.Errorf("%d actions, then %d", len(first), len(second))
	}
}

func TestStepLeavesItsInputAlone(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, split, Start(plan, split, t0), Evidence{"heat-demand@1": {Requests: 90}, "heat-demand@2": {Requests: 10}}, t0)
	before, err := json.Marshal(state)
	if err != nil {
		t.Fatal(err)
	}
	Step(plan, split, state, Evidence{"heat-demand@1": {Requests: 900}, "heat-demand@2": {Requests: 100, Failed: 50}}, t0)
	if after, _ := json.Marshal(state); string(after) != string(before) {
		t.Errorf("the state handed in changed:\n%s\n%s", before, after)
	}
	var back State
	if err := json.Unmarshal(before, &back); err != nil {
		t.Fatal(err)
	}
	e := Evidence{"heat-demand@1": {Requests: 900}, "heat-demand@2": {Requests: 100, Failed: 50}}
	a, _ := Step(plan, split, state, e, t0)
	b, _ := Step(plan, split, back, e, t0)
	if a.Trials[0].Errors.LogE() != b.Trials[0].Errors.LogE() {
		t.Error("a state taken up again goes on differently")
	}
}

func TestCountsLostInACrashAreNoEvidence(t *testing.T) {
	plan := DefaultPlan()
	state, _ := Step(plan, split, Start(plan, split, t0), Evidence{"heat-demand@1": {Requests: 900}, "heat-demand@2": {Requests: 100}}, t0)
	_, actions := Step(plan, split, state, Evidence{"heat-demand@1": {Requests: 850}, "heat-demand@2": {Requests: 95}}, t0)
	if len(actions) != 0 {
		t.Errorf("rolled back on counts that went down: %v", actions)
	}
}
