package check

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/span"
)

// answer is one with an output y.
func answer(y any) Answer { return Answer{Status: 200, Outputs: map[string][]any{"y": {y}}} }

// judged is a case with what came back, and what is said of it.
type judged struct {
	of   Case
	got  []Answer
	says string
}

// answered are cases of one request.
func answered() map[string]judged {
	return map[string]judged{
		"as expected": {Case{Expect: map[string]any{"y": 2.0}, Tolerance: 0.1}, []Answer{answer(2.05)}, ""},
		"off": {
			Case{Expect: map[string]any{"y": 2.0}, Tolerance: 0.1},
			[]Answer{answer(2.2)},
			"y must be 2 and is 2.2",
		},
		"a list": {
			Case{Expect: map[string]any{"y": []any{1.0, 2.0}}},
			[]Answer{{Status: 200, Outputs: map[string][]any{"y": {1.0, 2.0}}}},
			"",
		},
		"a class": {
			Case{Expect: map[string]any{"y": "ok"}},
			[]Answer{answer("leaking")},
			`must be "ok" and is "leaking"`,
		},
		"not there": {
			Case{Expect: map[string]any{"z": 1.0}},
			[]Answer{answer(1.0)},
			"z must be 1 and is not there",
		},
		"between": {Case{Between: map[string][]float64{"y": {0, 4}}}, []Answer{answer(4.0)}, ""},
		"beyond": {
			Case{Between: map[string][]float64{"y": {0, 4}}},
			[]Answer{answer(4.01)},
			"from 0 to 4 and is 4.01",
		},
		"no number": {Case{Between: map[string][]float64{"y": {0, 4}}}, []Answer{answer(nil)}, "from 0 to 4"},
		"failed": {
			Case{Expect: map[string]any{"y": 1.0}},
			[]Answer{{Status: 500, Why: "no wind"}},
			"status 500: no wind",
		},
		"away": {
			Case{Expect: map[string]any{"y": 1.0}},
			[]Answer{{Why: "connection refused"}},
			"not answered: connection",
		},
		"unreadable": {Case{Expect: map[string]any{"y": 1.0}}, []Answer{{Status: 200}}, "not of the protocol"},
		"refused":    {Case{Refused: true}, []Answer{{Status: 400}}, ""},
		"taken":      {Case{Refused: true}, []Answer{answer(1.0)}, "must be refused"},
		"broke":      {Case{Refused: true}, []Answer{{Status: 500}}, "failed with status 500"},
		"quick":      {Case{Within: span.Duration(time.Second)}, []Answer{answer(1.0)}, ""},
		"slow":       {Case{Within: 1}, []Answer{{Status: 200, Took: time.Second}}, "it took 1s"},
	}
}

// moving are cases in which an input moves.
func moving() map[string]judged {
	through := func(v ...any) map[string][]any { return map[string][]any{"x": v} }
	return map[string]judged{
		"rises": {
			Case{RisesWith: through(1.0, 2.0, 3.0)},
			[]Answer{answer(1.0), answer(1.0), answer(2.0)},
			"",
		},
		"sinks": {
			Case{RisesWith: through(1.0, 2.0)},
			[]Answer{answer(2.0), answer(1.0)},
			"with x 2 y is 1, after 2",
		},
		"stays": {
			Case{FallsWith: through(1.0, 2.0)},
			[]Answer{answer(2.0), answer(2.0)},
			"2 at the first value, and 2",
		},
		"falls": {Case{FallsWith: through(1.0, 2.0)}, []Answer{answer(2.0), answer(1.0)}, ""},
		"a class too": {
			Case{RisesWith: through(1.0, 2.0)},
			[]Answer{answer("a"), answer("b")},
			"which is no number",
		},
		"unmoved": {Case{UnmovedBy: through(7.0), Tolerance: 0.1}, []Answer{answer(1.0), answer(1.05)}, ""},
		"moved": {
			Case{UnmovedBy: through(7.0)},
			[]Answer{answer(1.0), answer(1.05)},
			"with x 7 y must be 1 and is 1.05, so it",
		},
		"moved class": {Case{UnmovedBy: through(7.0)}, []Answer{answer("a"), answer("b")}, "so it is moved"},
		"which output": {
			Case{Output: "z", RisesWith: through(1.0, 2.0)},
			[]Answer{answer(1.0), answer(2.0)},
			"z is not there",
		},
	}
}

func TestWhatMustComeBack(t *testing.T) {
	for _, all := range []map[string]judged{answered(), moving()} {
		for name, c := range all {
			if why := c.of.Judge(c.got); (why == "") != (c.says == "") || !strings.Contains(why, c.says) {
				t.Errorf("%s: %q, want %q", name, why, c.says)
			}
		}
	}
}

func TestCasesThatCannotBeMeant(t *testing.T) {
	for code, c := range map[string]Case{
		"":                {Name: "a", Within: 1},
		"cases.name":      {Within: 1},
		"cases.expect":    {Name: "a"},
		"cases.refused":   {Name: "a", Refused: true, Expect: map[string]any{"y": 1.0}},
		"cases.between":   {Name: "a", Between: map[string][]float64{"y": {3, 1}}},
		"cases.tolerance": {Name: "a", Within: 1, Tolerance: -1},
		"cases.within":    {Name: "a", Within: -1},
		"cases.request":   {Name: "a", Within: 1, Request: "{"},
		"cases.output":    {Name: "a", RisesWith: map[string][]any{"x": {1.0}}},
	} {
		all := Cases{Cases: []Case{c}}
		if err := all.Check(); fault.Code(err) != code {
			t.Errorf("%+v: %v, want %q", c, err, code)
		}
	}
	two := Cases{Cases: []Case{{Name: "a", Within: 1}, {Name: "a", Within: 2}}}
	if err := two.Check(); fault.Code(err) != "cases.name" {
		t.Error(err)
	}
	if err := (&Cases{}).Check(); fault.Code(err) != "cases.count" {
		t.Error(err)
	}
}

func TestRequestsOfCases(t *testing.T) {
	s := &signature.Signature{Inputs: []signature.Column{
		{Name: "x", Type: signature.Number}, {Name: "mix", Type: signature.Text},
	}}
	sample := json.RawMessage(`{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]},` +
		`{"name":"mix","shape":[1],"datatype":"BYTES","data":["old-town"]}]}`)
	all := Cases{Base: map[string]any{"mix": "harbour"}, Cases: []Case{
		{Inputs: map[string]any{"x": 2.0}},
		{UnmovedBy: map[string][]any{"mix": {"works", "terraces"}}},
		{FallsWith: map[string][]any{"x": {1.0, 2.0}}},
		{Refused: true, Inputs: map[string]any{"x": "warm"}},
		{Request: `{"inputs":[]}`},
		{Inputs: map[string]any{"x": "warm"}},
		{Inputs: map[string]any{"z": 1.0}},
	}}
	for i, want := range []int{1, 3, 2, 1, 1} {
		got, err := all.Requests(i, s, sample)
		if err != nil || len(got) != want {
			t.Errorf("case %d: %s, %v", i, got, err)
		}
	}
	got, _ := all.Requests(1, s, sample)
	if !strings.Contains(string(got[0]), "harbour") || !strings.Contains(string(got[1]), "works") {
		t.Errorf("%s", got)
	}
	if got, _ = all.Requests(3, s, sample); !strings.Contains(string(got[0]), `"data":["warm"]`) {
		t.Errorf("%s", got)
	}
	for _, i := range []int{5, 6} {
		if _, err := all.Requests(i, s, sample); err == nil {
			t.Errorf("case %d can be asked", i)
		}
	}
}
