package answers

import (
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

func TestWhatComesBackMustBeWhatIsKnown(t *testing.T) {
	k := &Known{Cases: []Case{{Outputs: map[string][]any{
		"demand_mw": {3.0, 40000.0}, "state": {"ok"}, "open": {true},
	}}}, Tolerance: 0.01}
	if err := k.Check(); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		got  map[string][]any
		says string
	}{
		"the same": {map[string][]any{"demand_mw": {3.0, 40000.0}, "state": {"ok"}, "open": {true}}, ""},
		"within": {
			map[string][]any{"demand_mw": {3.009, 40000.3}, "state": {"ok"}, "open": {true}, "more": {1.0}},
			"",
		},
		"beyond": {
			map[string][]any{"demand_mw": {3.02, 40000.0}, "state": {"ok"}, "open": {true}},
			"demand_mw must be [3 40000] and is [3.02 40000]",
		},
		"another": {
			map[string][]any{"demand_mw": {3.0, 40000.0}, "state": {"leaking"}, "open": {true}},
			`state must be "ok" and is "leaking"`,
		},
		"a text": {
			map[string][]any{"demand_mw": {"3", 40000.0}, "state": {"ok"}, "open": {true}},
			"demand_mw must be",
		},
		"missing": {
			map[string][]any{"demand_mw": {nil, 40000.0}, "state": {"ok"}, "open": {true}},
			"demand_mw must be",
		},
		"too few": {map[string][]any{"demand_mw": {3.0}, "state": {"ok"}, "open": {true}}, "is 3"},
		"not a truth": {
			map[string][]any{"demand_mw": {3.0, 40000.0}, "state": {"ok"}, "open": {1.0}},
			"open must be true and is 1",
		},
		"not there": {
			map[string][]any{"demand_mw": {3.0, 40000.0}, "state": {"ok"}},
			"open must be true and is not there",
		},
	} {
		var parts []string
		for _, d := range k.Differences(k.Cases[0], c.got) {
			parts = append(parts, d.String())
		}
		got := strings.Join(parts, ", ")
		if (c.says == "") != (got == "") || !strings.Contains(got, c.says) {
			t.Errorf("%s: %q, want %q", name, got, c.says)
		}
	}
	told := Told(map[int][]string{4: {"d"}, 1: {"a", "b"}, 2: {"c"}, 9: {"e"}})
	if told != "known answer 1: a, b; known answer 2: c; known answer 4: d; and 1 more" {
		t.Error(told)
	}
}

func TestKnownAnswersAreChecked(t *testing.T) {
	good := Case{Outputs: map[string][]any{"y": {1.0}}}
	for code, k := range map[string]Known{
		"answers.wrong":     {},
		"answers.tolerance": {Cases: []Case{good}, Tolerance: -1},
		"":                  {Cases: []Case{good}},
	} {
		if err := k.Check(); fault.Code(err) != code {
			t.Errorf("%v, want %s", err, code)
		}
	}
	if err := (&Known{Cases: make([]Case, Most+1)}).Check(); fault.Code(err) != "answers.wrong" {
		t.Error(err)
	}
	if err := (&Known{Cases: []Case{good, {}}}).Check(); err == nil || !strings.Contains(err.Error(), "answer 2") {
		t.Error(err)
	}
}

func TestRequestsOfKnownAnswers(t *testing.T) {
	s := &signature.Signature{Inputs: []signature.Column{
		{Name: "x", Type: signature.Number, Datatype: "FP32", Shape: []int64{-1, 1}},
		{Name: "window", Type: signature.Number, Datatype: "FP32", Shape: []int64{-1, 2}},
	}}
	c := Case{Inputs: map[string]any{"x": 1.5, "window": []any{1.0, 2.0}}}
	if got := string(c.Of(s)); got != `{"inputs":[{"name":"x","shape":[1,1],"datatype":"FP32","data":[1.5]},`+
		`{"name":"window","shape":[1,2],"datatype":"FP32","data":[1,2]}]}` {
		t.Error(got)
	}
	c.Inputs["window"] = []any{1.0}
	if got := c.Of(s); got != nil {
		t.Errorf("a row that is too narrow: %s", got)
	}
	if got := string((Case{Request: []byte(`{"inputs":[]}`)}).Of(s)); got != `{"inputs":[]}` {
		t.Errorf("a request is sent as it is, not %s", got)
	}
}
