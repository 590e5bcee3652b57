package guard

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/sketch"
)

// contested watches a trial beside main for some seconds, and says how the comparison stands.
func contested(c Contest, seconds int, second func(e *Pair)) *Judgement {
	terms := Terms{Alpha: 0.001, Contest: &c}
	pair := TrialPair{Incumbent: "m@1", Candidate: "m@2", Begun: 4}
	e := Pair{Incumbent: Lane{Latency: &sketch.Quantiles{}}, Candidate: Lane{Latency: &sketch.Quantiles{}}}
	var state State
	for range seconds {
		second(&e)
		state, _ = Step(terms, 4, []TrialPair{pair}, state, Evidence{pair.Key(): e}, time.Time{})
	}
	return state.Trials[0].Verdict
}

// A comparison decides failures and latency, either way, or that the difference does not matter; of an hour that is as
// noisy as the other it decides nothing.
func TestContests(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	fails := func(a, b float64) func(*Pair) {
		lane := func(l *Lane, p float64) {
			for range 50 {
				l.Counts.Requests++
				if r.Float64() < p {
					l.Counts.ServerErrors++
				}
			}
		}
		return func(e *Pair) { lane(&e.Incumbent, a); lane(&e.Candidate, b) }
	}
	takes := func(factor float64) func(*Pair) {
		lane := func(l *Lane, factor float64) {
			for range 50 {
				l.Counts.Requests++
				l.Latency.Add(time.Duration(factor * (5 + 10*r.Float64()) * float64(time.Millisecond)))
			}
		}
		return func(e *Pair) { lane(&e.Incumbent, 1); lane(&e.Candidate, factor) }
	}
	for name, c := range map[string]struct {
		contest Contest
		seconds int
		second  func(*Pair)
		want    Decision
		says    string
	}{
		"fails more":   {Contest{ErrorRate, 0.02, 0}, 200, fails(0.02, 0.08), Worse, "so it does worse"},
		"fails less":   {Contest{ErrorRate, 0.02, 0}, 200, fails(0.08, 0.02), Better, "so it does better"},
		"fails alike":  {Contest{ErrorRate, 0.04, 0}, 400, fails(0.02, 0.02), NoDifference, "that would matter"},
		"hardly begun": {Contest{ErrorRate, 0.001, 0}, 5, fails(0.02, 0.02), Undecided, "not decided yet"},
		"slower":       {Contest{LatencyP50, 0.05, 0}, 100, takes(1.3), Worse, "slower than m@1 at its p50"},
		"faster":       {Contest{LatencyP90, 0.02, 0}, 200, takes(0.8), Better, "so it does better"},
		"as fast":      {Contest{LatencyP50, 0.1, 0}, 200, takes(1), NoDifference, "that would matter"},
		"no time-outs": {Contest{TimeoutRate, 0.02, 0}, 200, fails(0.02, 0.2), NoDifference, "timed out in 0 %"},
		"not one call": {Contest{ErrorRate, 0.02, 0}, 3, func(*Pair) {}, Undecided, "a difference of anything"},
	} {
		v := contested(c.contest, c.seconds, c.second)
		if v.Decision != c.want || !strings.Contains(v.Sentence, c.says) || v.Decided() != (c.want != Undecided) {
			t.Errorf("%s: %+v", name, v)
		}
	}
}

func TestContestsThatCannotBeHeld(t *testing.T) {
	for _, c := range []Contest{
		{"prediction_drift", 0.1, 0}, {ErrorRate, 0, 0}, {ErrorRate, 1, 0}, {ErrorRate, 0.1, 1},
	} {
		if fault.Code(c.Check("compare")) == "" {
			t.Errorf("%+v", c)
		}
	}
}

// A comparison decides what comes after the answers, whichever way is better, and says it in the signal's unit; it goes
// on where it was after it was stored.
func TestContestsOfValues(t *testing.T) {
	for name, c := range map[string]struct {
		contest Contest
		came    came
		want    Decision
		says    string
	}{
		"dearer": {
			Contest{"custom.cost", 0.2, 0}, came{0.5, normal(3, 1), normal(3.8, 1), false}, Worse, "so it does worse",
		},
		"earns more": {
			Contest{"custom.earned", 0.2, 0},
			came{0.5, normal(3, 1), normal(3.8, 1), true},
			Better, "so it does better",
		},
		"earns less": {
			Contest{"custom.earned", 0.2, 0}, came{0.3, normal(3, 1), normal(2.2, 1), true}, Worse, "mean earned of 2.",
		},
		"costs as much": {
			Contest{"custom.cost", 0.5, 0},
			came{0.5, normal(3, 1), normal(3, 1), false},
			NoDifference, "no difference of 0.5 EUR",
		},
		"further off": {
			Contest{"mae.demand", 0.1, 0},
			came{0.5, normal(1, 0.2), normal(1.3, 0.2), false},
			Worse, "predicts demand off",
		},
		"right more often": {
			Contest{"accuracy.state", 0.02, 0},
			came{0.5, sometimes(0.2, 1), sometimes(0.05, 1), false},
			Better, "got state wrong in",
		},
		"hardly begun": {
			Contest{"custom.cost", 0.01, 0}, came{0.01, normal(3, 1), normal(3, 1), false}, Undecided, "of anything",
		},
	} {
		r := rand.New(rand.NewPCG(4, 4))
		terms := Terms{Alpha: 0.001, Contest: &c.contest}
		pair := TrialPair{Incumbent: "m@1", Candidate: "m@2", Begun: 4, Since: t0}
		var state State
		for i := 0; i < 3000; i += 50 {
			v := Values{Unit: "EUR", HigherIsBetter: c.came.higher, New: c.came.values(r, i, 50)}
			state, _ = Step(terms, 4, []TrialPair{pair}, state,
				Evidence{pair.Key(): {Values: map[string]Values{c.contest.Signal: v}}}, t0)
			raw, err := json.Marshal(state)
			if err != nil {
				t.Fatal(err)
			}
			state = State{}
			if err := json.Unmarshal(raw, &state); err != nil {
				t.Fatal(err)
			}
			if d := state.Trials[0].Verdict.Decision; d != Undecided {
				break
			}
		}
		v := state.Trials[0].Verdict
		if v.Decision != c.want || !strings.Contains(v.Sentence, c.says) || v.Low < -v.Bound || v.High > v.Bound {
			t.Errorf("%s: %+v", name, v)
		}
		if n := state.Taken(pair, c.contest.Signal); n == 0 {
			t.Errorf("%s: nothing was taken in", name)
		}
	}
	for contest, wrong := range map[Contest]string{
		{"custom.cost", 300, 0}: "", {"mae.y", 3, 0}: "", {"accuracy.y", 0.1, 0}: "", {
			"accuracy.y", 2,
			0,
		}: "contest.margin",
		{"custom.cost", 0, 0}: "contest.margin", {"custom.NAME", 1, 0}: "contest.signal", {
			"mae", 1,
			0,
		}: "contest.signal",
		{"mae.OUTPUT", 1, 0}: "",
	} {
		if err := contest.Check("compare"); fault.Code(err) != wrong {
			t.Errorf("%+v: %v, want %q", contest, err, wrong)
		}
	}
}
