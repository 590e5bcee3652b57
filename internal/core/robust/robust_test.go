package robust

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/score"
	"innerladder/internal/core/signature"
)

// town is a profile of outdoor temperatures, hours and mixes with the demand that goes with them.
func town(t *testing.T) Source {
	t.Helper()
	r := rand.New(rand.NewPCG(1, 1))
	var table [][]signature.Cell
	for range 3000 {
		outdoor, hour := 5+8*r.NormFloat64(), float64(r.IntN(24))
		mix := []string{"old-town", "harbour"}[r.IntN(2)]
		table = append(table, []signature.Cell{
			{Kind: signature.NumberCell, Number: outdoor},
			{Kind: signature.NumberCell, Number: hour},
			{Kind: signature.TextCell, Text: mix},
			{Kind: signature.NumberCell, Number: demand(outdoor, hour, mix) + 0.1*r.NormFloat64()},
			{Kind: signature.TextCell, Text: state(outdoor)},
		})
	}
	p := profile.NewProfiler(nil)
	if err := p.Add([]string{"outdoor_c", "hour", "mix", "demand_mw", "valve"}, table); err != nil {
		t.Fatal(err)
	}
	s, err := p.Signature([]string{"demand_mw", "valve"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return Source{
		Profile: p.Profile([]string{"demand_mw", "valve"}), Exact: s, Declared: s, Request: s.SampleRequest(p.First),
		Rows: UsualRows, Seed: 7,
	}
}

func demand(outdoor, hour float64, mix string) float64 {
	y := 2 - outdoor/10 + 0.2*math.Sin(hour/24*2*math.Pi)
	if mix == "harbour" {
		y += 0.3
	}
	return y
}

func state(outdoor float64) string {
	if outdoor < 0 {
		return "sticking"
	}
	return "ok"
}

// row is what a server gets of one row; what is null or not there is not in it.
type row map[string]any

func rowOf(t *testing.T, r signature.Row) row {
	t.Helper()
	out := row{}
	for _, in := range r.Inputs {
		var v any
		if err := json.Unmarshal(in.Data[0], &v); err != nil {
			t.Fatal(err)
		}
		if v != nil {
			out[in.Name] = v
		}
	}
	return out
}

func number(y float64) score.Answer { return score.Answer{Status: 200, Values: []any{y}} }

// good is a server that refuses what it cannot use, and answers the rest.
func good(r row) score.Answer {
	outdoor, is := r["outdoor_c"].(float64)
	hour, _ := r["hour"].(float64)
	mix, known := r["mix"].(string)
	if !is || !known {
		return score.Answer{Status: 400, Why: ": an input is missing"}
	}
	return number(demand(outdoor, hour, mix))
}

// put disturbs a server; a row takes a millisecond, and more where slow says so.
func put(t *testing.T, s Source, output string, answer func(row) score.Answer, slow func(*Test, int) time.Duration,
) *evidence.RobustnessReport {
	t.Helper()
	p, err := NewPlan(s)
	if err != nil {
		t.Fatal(err)
	}
	ask := func(rows []signature.Row) (out []score.Answer) {
		for _, r := range rows {
			out = append(out, answer(rowOf(t, r)))
		}
		return out
	}
	j := Judging{Reference: s.Profile.Columns[output]}
	answered := j.Base(ask(p.Base), time.Duration(len(p.Base))*time.Millisecond)
	if len(answered) == 0 {
		return j.Report()
	}
	for i := range p.Len() {
		one := p.Test(i, answered)
		took := time.Duration(len(one.Rows)) * time.Millisecond
		if slow != nil {
			took += slow(&one, len(one.Rows))
		}
		j.Take(&one, ask(one.Rows), took, max(one.Batch, 1))
	}
	r := j.Report()
	r.Limits = r.Allowed()
	return r
}

func one(t *testing.T, r *evidence.RobustnessReport, kind evidence.Disturbance, input string) evidence.Disturbed {
	t.Helper()
	all := r.Of(kind, input)
	if len(all) == 0 {
		t.Fatalf("%s was not put to %s", input, kind)
	}
	return all[0]
}

func TestAGoodVersionHolds(t *testing.T) {
	r := put(t, town(t), "demand_mw", good, nil)
	if broken := r.Broken(r.Limits); broken != "" || r.Answered != UsualRows || *r.Off > 0.25 {
		t.Fatalf("%s; %+v", broken, r)
	}
	for kind, want := range map[evidence.Disturbance]string{
		evidence.DisturbanceMissing: evidence.Refuses, evidence.DisturbanceLeftOut: evidence.Refuses,
		evidence.DisturbanceLowest: evidence.Moves, evidence.DisturbanceBelow: evidence.Moves,
		evidence.DisturbanceNoise: evidence.Holds,
	} {
		if got := one(t, r, kind, "outdoor_c"); got.Verdict != want {
			t.Errorf("%s: %+v", kind, got)
		}
	}
	// A tenth of the spread of the only number that matters, but for the mix, is a tenth of that of the predictions.
	if x := *one(t, r, evidence.DisturbanceNoise, "outdoor_c").Moved; x < 0.05 || x > 0.13 {
		t.Errorf("noise moves predictions by %v", x)
	}
	low := one(t, r, evidence.DisturbanceBelow, "outdoor_c")
	if want := "-"; !strings.HasPrefix(low.What, want) || *low.Moved < 3 {
		t.Errorf("%+v", low)
	}
	if len(r.Of(evidence.DisturbanceNoise, "hour"))+len(r.Of(evidence.DisturbanceUnit, "hour")) > 0 {
		t.Error("what is counted has noise, or another unit")
	}
	if got := one(t, r, evidence.DisturbanceUnknown, "mix"); got.What != "unheard-of" || got.Answered != got.Rows {
		t.Errorf("%+v", got)
	}
}

// What counts against a version, one by one.
func TestWhatDoesNotHold(t *testing.T) {
	asked := 0
	for name, c := range map[string]struct {
		answer  func(row) score.Answer
		measure string
		want    float64
		says    string
	}{
		"it fails at a missing hour": {func(r row) score.Answer {
			if r["hour"] == nil {
				return score.Answer{Status: 500, Why: ": KeyError: 'hour'"}
			}
			return good(r)
		}, "breaks", 2, "hour missing: status 500: KeyError: 'hour'"},
		"it is lost far out": {func(r row) score.Answer {
			if x, _ := r["outdoor_c"].(float64); x < -40 {
				return score.Answer{Why: "the connection broke"}
			}
			return good(r)
		}, "breaks", 3, "the connection broke"},
		"it gives no number": {func(r row) score.Answer {
			if r["mix"] == "unheard-of" {
				return score.Answer{Status: 200, Values: []any{nil}}
			}
			return good(r)
		}, "breaks", 1, "mix unknown level: the prediction is <nil>"},
		"it refuses the coldest day that it was made from": {func(r row) score.Answer {
			if x, _ := r["outdoor_c"].(float64); x < -15 {
				return score.Answer{Status: 422, Why: ": out of range"}
			}
			return good(r)
		}, "refuses_usual", 1, "outdoor_c lowest: status 422: out of range"},
		"it says something else each time": {func(r row) score.Answer {
			asked++
			a := good(r)
			if len(a.Values) > 0 {
				a.Values = []any{a.Values[0].(float64) + float64(asked)*1e-3}
			}
			return a
		}, "unsteady", 6, "the same rows again: 60 of 60 rows got another answer"},
		"it takes degrees Fahrenheit": {func(r row) score.Answer {
			if x, is := r["outdoor_c"].(float64); is {
				r["outdoor_c"] = (x - 32) / 1.8
			}
			return good(r)
		}, "misreads", 1, "with outdoor_c in degrees Fahrenheit and not Celsius its predictions lie"},
		"it jumps": {func(r row) score.Answer {
			x, _ := r["outdoor_c"].(float64)
			r["outdoor_c"] = 40 * math.Sin(40*x)
			return good(r)
		}, "noise", 1, ""},
	} {
		r := put(t, town(t), "demand_mw", c.answer, nil)
		if broken := r.Broken(r.Limits); !strings.Contains(broken, c.measure) {
			t.Errorf("%s: %q", name, broken)
		}
		if got := r.Values()[c.measure]; got < c.want {
			t.Errorf("%s: %s is %v", name, c.measure, got)
		}
		said := ""
		for _, tried := range r.Tried {
			if tried.Fault {
				said += tried.Says() + "\n"
			}
		}
		if !strings.Contains(said, c.says) {
			t.Errorf("%s: %s", name, said)
		}
	}
}

func TestClassesAreTestedForRobustness(t *testing.T) {
	classes := func(shift float64) func(row) score.Answer {
		return func(r row) score.Answer {
			x, is := r["outdoor_c"].(float64)
			if !is {
				return score.Answer{Status: 400}
			}
			return score.Answer{Status: 200, Values: []any{state(x + shift)}}
		}
	}
	r := put(t, town(t), "valve", classes(0), nil)
	if !r.Classes || r.Broken(r.Limits) != "" || *r.Off > 0.1 {
		t.Errorf("%s: %+v", r.Broken(r.Limits), r)
	}
	if got := one(t, r, evidence.DisturbanceAbove, "outdoor_c"); *got.Moved < 0.1 || *got.Moved > 0.5 {
		t.Errorf("%+v", got)
	}
	// One that was made from kelvin calls every valve stuck.
	r = put(t, town(t), "valve", classes(-273.15), nil)
	for _, tried := range r.Of(evidence.DisturbanceUnit, "outdoor_c") {
		if misread := tried.Verdict == evidence.Misreads; misread != strings.HasPrefix(tried.What, "in kelvin") {
			t.Errorf("%+v", tried)
		}
	}
}

// What only takes longer counts against nobody, and is told.
func TestWhatOnlySlows(t *testing.T) {
	r := put(t, town(t), "demand_mw", good, func(one *Test, rows int) time.Duration {
		switch {
		case one.Disturbance == evidence.DisturbanceUnknown, one.AtOnce == 16:
			return time.Duration(rows) * 3 * time.Millisecond
		}
		return 0
	})
	crowd := r.Of(evidence.DisturbanceAtOnce, "")
	if one(t, r, evidence.DisturbanceUnknown, "mix").Verdict != evidence.Moves || crowd[0].Verdict != evidence.Holds ||
		crowd[1].Verdict != evidence.Slows || r.Values()["slower"] != 4 || r.Broken(r.Limits) != "" {
		t.Errorf("%+v %+v", crowd, r.Values())
	}
}

func TestNothingIsAnswered(t *testing.T) {
	r := put(t, town(t), "demand_mw", func(row) score.Answer { return score.Answer{Status: 400, Why: ": no"} }, nil)
	if r.Answered != 0 || r.Refused != r.Rows || len(r.Tried) != 0 || r.Values()["refuses_usual"] != 1 ||
		r.Why != "status 400: no" {
		t.Errorf("%+v", r)
	}
	few := put(t, town(t), "demand_mw", func(r row) score.Answer {
		if hour, _ := r["hour"].(float64); hour < 12 {
			return score.Answer{Status: 500, Why: ": night"}
		}
		return good(r)
	}, nil)
	if few.Answered+few.Broke != few.Rows || few.Broke == 0 ||
		!strings.HasPrefix(few.Sentence(), fmt.Sprint(few.Answered)) {
		t.Errorf("%+v", few)
	}
}

func TestWhatCannotBePlanned(t *testing.T) {
	s := town(t)
	s.Profile = &profile.Profile{}
	if _, err := NewPlan(s); err == nil || !strings.Contains(err.Error(), "in the reference profile") {
		t.Error(err)
	}
	s = town(t)
	s.Request = json.RawMessage(`{}`)
	if _, err := NewPlan(s); err == nil {
		t.Error("a request of nothing")
	}
	if CheckRows(LeastRows-1) == nil || CheckRows(MostRows+1) == nil || CheckRows(UsualRows) != nil {
		t.Error("so many rows")
	}
}
