package guard

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
)

// besideStory plays 300 seconds of a version that took over, of whose requests the one before gets every tenth: it
// predicts more by a shift, and another number in a share of its answers.
func besideStory(shift, other float64) (at int, fired Action, state State) {
	r := rand.New(rand.NewPCG(14, 3))
	after := TrialPair{
		Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 9, Since: t0, After: true, Copied: true,
	}
	mirror := TrialPair{Incumbent: "heat-demand@2", Candidate: "heat-demand@1", Begun: 9, Since: t0, Copies: true}
	bins := sketch.Bins{Edges: []float64{1, 2, 3, 4, 5, 6, 7}}
	lane := func() Lane {
		return Lane{Latency: &sketch.Quantiles{}, Outputs: map[string]*sketch.Column{"y": sketch.NewColumn(bins)}}
	}
	grow := func(l *Lane, y float64) {
		l.Counts.Requests++
		l.Latency.Add(20 * time.Millisecond)
		l.Outputs["y"].AddNumber(y)
		l.Bodies, l.Rows, l.Distinct = l.Counts.Requests, l.Counts.Requests, l.Counts.Requests
	}
	main, former, paired := lane(), lane(), &sketch.Paired{}
	terms := DefaultTerms()
	for i, g := range terms.Guards {
		if g.Signal == Disagreement {
			terms.Guards[i].Then = RollBack
		}
	}
	before := Lane{Counts: sketch.Counts{Requests: 60_000}, Latency: main.Latency.Clone()}
	for range 2000 {
		before.Latency.Add(20 * time.Millisecond)
	}
	for second := 1; second <= 300; second++ {
		for i := range 100 {
			truth := 4 + r.NormFloat64()
			y := truth + shift
			if r.Float64() < other {
				y++
			}
			grow(&main, y)
			if i%10 == 0 {
				grow(&former, truth)
				if paired.Pairs++; y != truth {
					paired.Disagreed++
				}
			}
		}
		e := Evidence{
			after.Key():  {Incumbent: before, Candidate: main},
			mirror.Key(): {Incumbent: main, Candidate: former, Paired: paired},
		}
		var actions []Action
		state, actions = Step(terms, 9, []TrialPair{mirror, after}, state, e, t0.Add(time.Duration(second)*time.Second))
		if len(actions) > 0 {
			return second, actions[0], state
		}
	}
	return 0, Action{}, state
}

// A version that took over is held against what the one before answers to the same requests: whatever the hour, it is
// found out when it predicts otherwise, and only then.
func TestWhatTookOverBesideWhatWasThere(t *testing.T) {
	if at, fired, state := besideStory(0, 0); at != 0 || len(state.Trials) != 1 ||
		readingOf(state, PredictionDrift).Enough < 1 || readingOf(state, Disagreement).Enough < 1 {
		t.Errorf("as good: second %d, %+v\n%+v", at, fired, state.Trials)
	}
	at, fired, state := besideStory(1, 0)
	if at == 0 || at > 60 || fired.Pair.Candidate != "heat-demand@2" || !fired.Pair.After || fired.Then != RollBack {
		t.Errorf("a shift: second %d, %+v", at, fired)
	}
	if r := readingOf(state, PredictionDrift); !strings.Contains(r.Sentence, "predicts y differently") &&
		fired.Signal == PredictionDrift {
		t.Error(r.Sentence)
	}
	at, fired, _ = besideStory(0, 0.2)
	if at == 0 || fired.Signal != Disagreement ||
		!strings.Contains(fired.Sentence, "otherwise than heat-demand@1 answers their copies") {
		t.Errorf("one in five: second %d, %+v", at, fired)
	}
}
