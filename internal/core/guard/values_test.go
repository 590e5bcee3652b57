package guard

import (
	"encoding/json"
	"errors"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/sketch"
)

// came is a story of values that come of both sides of a trial, one for each answer.
type came struct {
	share     float64 // of the candidate
	incumbent func(r *rand.Rand, at time.Time) float64
	candidate func(r *rand.Rand, at time.Time) float64
	higher    bool
}

// values makes some of them, ten a second.
func (c came) values(r *rand.Rand, from, n int) (out []Value) {
	for i := from; i < from+n; i++ {
		at := t0.Add(time.Duration(i) * time.Second / 10)
		v := Value{Seq: int64(i + 1), At: at, Candidate: r.Float64() < c.share}
		if v.X = c.incumbent(r, at); v.Candidate {
			v.X = c.candidate(r, at)
		}
		out = append(out, v)
	}
	return out
}

// watchValues has a guard on a signal look at a story until it fires, or for so many values.
func watchValues(t *testing.T, g Guard, signal string, c came, seed uint64, most int) (at int, state State) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 11))
	terms := Terms{Alpha: 0.01, Beta: 0.05, Guards: []Guard{g}}
	if err := terms.Check(); err != nil {
		t.Fatal(err)
	}
	pairs := []TrialPair{{Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Begun: 2, Since: t0}}
	const each = 50
	for i := 0; i < most; i += each {
		v := Values{Unit: "EUR", HigherIsBetter: c.higher, New: c.values(r, i, each)}
		e := Evidence{pairs[0].Key(): {Values: map[string]Values{signal: v}}}
		var actions []Action
		if state, actions = Step(terms, 2, pairs, state, e, t0); len(actions) > 0 {
			return i + each, state
		}
	}
	return most + 1, state
}

func normal(mean, deviation float64) func(*rand.Rand, time.Time) float64 {
	return func(r *rand.Rand, _ time.Time) float64 { return mean + deviation*r.NormFloat64() }
}

func sometimes(p, x float64) func(*rand.Rand, time.Time) float64 {
	return func(r *rand.Rand, _ time.Time) float64 {
		if r.Float64() < p {
			return x
		}
		return 0
	}
}

// daily is a mean that follows the day, an hour of which is a minute here.
func daily(mean float64) func(*rand.Rand, time.Time) float64 {
	return func(r *rand.Rand, at time.Time) float64 {
		return mean + 3*math.Sin(at.Sub(t0).Minutes()/24*2*math.Pi) + r.NormFloat64()
	}
}

func TestValuesThatAreWorse(t *testing.T) {
	cost := Guard{Signal: "custom.cost", Margin: 0.2}
	for name, c := range map[string]struct {
		guard  Guard
		signal string
		came   came
		within int
	}{
		"dearer by half a deviation": {cost, "custom.cost", came{0.1, normal(3, 1), normal(3.7, 1), false}, 4000},
		"earns less": {
			Guard{Signal: "custom.revenue", Margin: 0.2},
			"custom.revenue",
			came{0.2, normal(-3, 1), normal(-3.7, 1), true},
			2500,
		},
		"a trial with nearly all": {cost, "custom.cost", came{0.9, normal(3, 1), normal(3.7, 1), false}, 4000},
		"sells to half as many": {
			Guard{Signal: "custom.sales", Margin: 0.005},
			"custom.sales",
			came{0.5, sometimes(0.06, 1), sometimes(0.03, 1), true},
			9000,
		},
		"further off": {
			Guard{Signal: "mae", Margin: 0.05},
			"mae.demand_mw",
			came{0.1, normal(0.5, 0.2), normal(0.7, 0.2), false},
			3000,
		},
		"wrong more often": {
			Guard{Signal: "accuracy.state", Margin: 0.02},
			"accuracy.state",
			came{0.1, sometimes(0.03, 1), sometimes(0.15, 1), false},
			4000,
		},
		"dearer, whatever the hour": {cost, "custom.cost", came{0.1, daily(10), daily(11.5), false}, 40_000},
	} {
		t.Run(name, func(t *testing.T) {
			at, state := watchValues(t, c.guard, c.signal, c.came, 3, c.within)
			r := readingOf(state, c.guard.Signal)
			if at > c.within {
				t.Fatalf("%d values, and the guard has not fired: %s", c.within, r.Sentence)
			}
			t.Logf("after %d values: %s", at, r.Sentence)
		})
	}
}

// A version that is as good is hardly ever taken for worse, whatever the values are like, and is shown good in time.
func TestValuesThatAreNoWorse(t *testing.T) {
	for name, c := range map[string]struct {
		guard  Guard
		signal string
		came   came
		good   bool
	}{
		"the same": {
			Guard{Signal: "custom.cost", Margin: 0.3},
			"custom.cost",
			came{0.2, normal(3, 1), normal(3, 1), false},
			true,
		},
		"as much worse as is allowed": {
			Guard{Signal: "custom.cost", Margin: 0.3},
			"custom.cost",
			came{0.2, normal(3, 1), normal(3.3, 1), false},
			false,
		},
		"the same with a day": {
			Guard{Signal: "custom.cost", Margin: 0.5}, "custom.cost", came{0.05, daily(10), daily(10), false}, true,
		},
		"as accurate": {
			Guard{Signal: "accuracy", Margin: 0.05},
			"accuracy.state",
			came{0.2, sometimes(0.05, 1), sometimes(0.05, 1), false},
			true,
		},
		"all the same": {
			Guard{Signal: "custom.cost", Margin: 0.3},
			"custom.cost",
			came{0.2, normal(3, 0), normal(3, 0), false},
			true,
		},
	} {
		t.Run(name, func(t *testing.T) {
			fired, good := 0, 0
			const runs = 40
			for seed := range uint64(runs) {
				at, state := watchValues(t, c.guard, c.signal, c.came, seed, 10_000)
				if at <= 10_000 {
					fired++
				}
				if readingOf(state, c.guard.Signal).Enough >= 1 {
					good++
				}
			}
			if fired > 2 { // 0.4 are expected at most
				t.Errorf("%d of %d fired", fired, runs)
			}
			if c.good && good < runs/2 || !c.good && good > runs/5 {
				t.Errorf("%d of %d were shown good", good, runs)
			}
		})
	}
}

// What was handed over before counts once; where a guard stands survives being stored.
func TestValuesCountOnce(t *testing.T) {
	c := came{0.3, normal(3, 1), normal(3.2, 1), false}
	all := c.values(rand.New(rand.NewPCG(5, 5)), 0, 600)
	terms := Terms{Alpha: 0.01, Guards: []Guard{{Signal: "custom.cost", Margin: 0.1}}}
	pairs := []TrialPair{{Incumbent: "a@1", Candidate: "a@2", Begun: 2, Since: t0}}
	step := func(s State, values []Value) State {
		next, _ := Step(terms, 2, pairs, s, Evidence{
			pairs[0].Key(): {Values: map[string]Values{"custom.cost": {New: values}}},
		}, t0)
		raw, err := json.Marshal(next)
		if err != nil {
			t.Fatal(err)
		}
		var back State
		if err := json.Unmarshal(raw, &back); err != nil {
			t.Fatal(err)
		}
		return back
	}
	var once, often State
	once = step(once, all)
	for i := 0; i < len(all); i += 20 {
		often = step(often, all[max(0, i-50):i+20])
	}
	a, b := once.Trials[0].Means["custom.cost"], often.Trials[0].Means["custom.cost"]
	if a.Taken != b.Taken || a.Taken.Candidate.N+a.Taken.Incumbent.N != 600 {
		t.Errorf("at once %+v, little by little %+v", a.Taken, b.Taken)
	}
	if math.Abs(a.Over.LogE()-b.Over.LogE()) > 1 { // how many are held against how many depends on what is known then
		t.Errorf("the evidence is e^%.3f at once and e^%.3f little by little", a.Over.LogE(), b.Over.LogE())
	}
	if n := often.Taken(pairs[0], "custom.cost"); n != 600 {
		t.Errorf("all up to %d were taken in, want 600", n)
	}
	if n := often.Taken(pairs[0], "mae"); n != 0 {
		t.Errorf("of another signal none was, and %d is said", n)
	}
	m := once.Trials[0].Means["custom.cost"]
	before := m.Over.LogE()
	step(once, c.values(rand.New(rand.NewPCG(6, 6)), 600, 200))
	m = once.Trials[0].Means["custom.cost"]
	if after := m.Over.LogE(); after != before {
		t.Error("a step changed the state that it was handed")
	}
}

// Answers that were given hours apart say nothing about each other, and what never finds another side takes no room.
func TestValuesFarApart(t *testing.T) {
	var s MeanState
	s.scale(Spread{N: 100, Mean: 3, Around: 99, Least: 0, Most: 6}, 0.1)
	v := &Values{}
	for i := range 1000 {
		v.New = append(v.New, Value{Seq: int64(i + 1), At: t0.Add(time.Duration(i) * time.Second), X: 3})
	}
	v.New = append(v.New, Value{Seq: 2000, At: t0.Add(9 * time.Hour), Candidate: true, X: 9})
	s.observe(v, 0.1)
	if s.Over.LogE() != 0 || len(s.Incumbents) != 0 || len(s.Candidates) != 1 {
		t.Errorf("e^%.2f, %d and %d wait", s.Over.LogE(), len(s.Incumbents), len(s.Candidates))
	}
	v.New = nil
	for i := range 5000 {
		v.New = append(v.New, Value{Seq: int64(3000 + i), At: t0.Add(10 * time.Hour), Candidate: true, X: 3})
	}
	if s.observe(v, 0.1); len(s.Candidates) > mostWaiting {
		t.Errorf("%d wait", len(s.Candidates))
	}
}

func TestValuesAfterATakeover(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	for name, c := range map[string]struct {
		signal string
		before func(*rand.Rand, time.Time) float64
		now    func(*rand.Rand, time.Time) float64
		fires  bool
	}{
		"dearer":      {"custom.cost", normal(3, 1), normal(4, 1), true},
		"the same":    {"custom.cost", normal(3, 1), normal(3, 1), false},
		"wrong":       {"accuracy.state", sometimes(0.05, 1), sometimes(0.3, 1), true},
		"as accurate": {"accuracy.state", sometimes(0.05, 1), sometimes(0.05, 1), false},
	} {
		t.Run(name, func(t *testing.T) {
			var before sketch.Numbers
			for range 2000 {
				before.Add(c.before(r, t0))
			}
			terms := Terms{Alpha: 0.001, Guards: []Guard{{Signal: c.signal, Margin: 0.1}}}
			pairs := []TrialPair{{Incumbent: "a@1", Candidate: "a@2", Begun: 2, Since: t0, After: true}}
			v := Values{Before: &before}
			for i := range 2000 {
				v.New = append(v.New, Value{Seq: int64(i + 1), At: t0, Candidate: true, X: c.now(r, t0)})
			}
			e := Evidence{pairs[0].Key(): {Values: map[string]Values{c.signal: v}}}
			state, actions := Step(terms, 2, pairs, State{}, e, t0)
			if fired := len(actions) > 0; fired != c.fires {
				t.Errorf("fired: %v; %s", fired, readingOf(state, c.signal).Sentence)
			}
			v.Before = nil
			e[pairs[0].Key()] = Pair{Values: map[string]Values{c.signal: v}}
			state, actions = Step(terms, 2, pairs, State{}, e, t0)
			if says := readingOf(state, c.signal).Sentence; len(actions) > 0 || !strings.Contains(says, "not known") {
				t.Errorf("with nothing known from before: %s", says)
			}
		})
	}
}

// A guard on all outputs watches each, and tells of the worst.
func TestValuesOfSeveralOutputs(t *testing.T) {
	pairs := []TrialPair{{Incumbent: "a@1", Candidate: "a@2", Begun: 2, Since: t0}}
	terms := Terms{Alpha: 0.001, Guards: []Guard{{Signal: "mae", Margin: 0.1}}}
	good := came{0.5, normal(1, 0.3), normal(1, 0.3), false}
	bad := came{0.5, normal(1, 0.3), normal(2, 0.3), false}
	r := rand.New(rand.NewPCG(3, 9))
	e := Evidence{pairs[0].Key(): {Values: map[string]Values{
		"mae.good": {New: good.values(r, 0, 500)}, "mae.bad": {New: bad.values(r, 0, 500)},
		"maeve.other": {New: bad.values(r, 0, 500)},
	}}}
	state, actions := Step(terms, 2, pairs, State{}, e, t0)
	if len(actions) != 1 || !strings.Contains(actions[0].Sentence, "bad off by") {
		t.Errorf("%+v", state.Trials[0].Readings)
	}
	if n := state.Taken(pairs[0], "mae"); n != 500 {
		t.Errorf("all up to %d were taken in, want 500", n)
	}
	if n := len(state.Knows(pairs[0], "mae")); n != 2 {
		t.Errorf("%d signals are watched, want 2", n)
	}
}

func TestGuardsOnValuesAreChecked(t *testing.T) {
	for name, c := range map[string]struct {
		guards []Guard
		code   string
	}{
		"a custom signal":         {[]Guard{{Signal: "custom.cost", Margin: 3000}}, ""},
		"accuracy of all outputs": {[]Guard{{Signal: "accuracy", Margin: 0.02}, {Signal: "mae.y", Margin: 2}}, ""},
		"without a name":          {[]Guard{{Signal: "custom", Margin: 1}}, "guard.signal"},
		"the name of no name":     {[]Guard{{Signal: "custom.NAME", Margin: 1}}, "guard.signal"},
		"a name that cannot be":   {[]Guard{{Signal: "custom.a b", Margin: 1}}, "guard.signal"},
		"an output without one":   {[]Guard{{Signal: "mae.", Margin: 1}}, "guard.signal"},
		"no margin":               {[]Guard{{Signal: "custom.cost"}}, "guard.margin"},
		"a margin of everything":  {[]Guard{{Signal: "accuracy", Margin: 2}}, "guard.margin"},
		"a margin of no number":   {[]Guard{{Signal: "mae", Margin: math.NaN()}}, "guard.margin"},
		"a ratio":                 {[]Guard{{Signal: "mae", Margin: 1, Ratio: 2}}, "guard.ratio"},
		"of one output and all":   {[]Guard{{Signal: "mae.y", Margin: 1}, {Signal: "mae", Margin: 1}}, "guard.twice"},
	} {
		err := Terms{Alpha: 0.01, Guards: c.guards}.Check()
		if c.code == "" && err != nil || c.code != "" && (err == nil || !strings.Contains(codeOf(err), c.code)) {
			t.Errorf("%s: %v, want %q", name, err, c.code)
		}
	}
}

func codeOf(err error) string {
	var f *fault.Fault
	errors.As(err, &f)
	return f.Code
}
