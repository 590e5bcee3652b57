package evidence

import (
	"encoding/json"
	"strings"
	"testing"
)

func TestImportanceInWords(t *testing.T) {
	at := func(x float64) Between { return Between{x, x - 0.1, x + 0.1} }
	loss := func(x float64) *Between { b := at(x); return &b }
	mae := 0.7
	r := ImportanceReport{Rows: 500, Output: "demand_mw", Rounds: 5, Inputs: []InputImportance{
		{Input: "wind_ms", Rows: 480, Moves: at(0.2)},
		{Input: "outdoor_c", Rows: 500, Moves: at(0.9)},
		{Input: "weekday", Rows: 500},
		{Input: "mix"},
	}}
	if got := r.Sentence(); got != "on 500 rows predictions move most with outdoor_c, wind_ms; no effect: weekday; "+
		"not answered with values of other rows: mix" {
		t.Error(got)
	}
	// A version that is off by more than its predictions move is no worse for it.
	r.Measure, r.Loss = "mae", &mae
	r.Inputs[0].Loss, r.Inputs[1].Loss = loss(0.05), loss(0)
	if got := r.Sentence(); !strings.Contains(got, "mae surely rises with none") {
		t.Error(got)
	}
	r.Inputs[0].Loss = loss(0.3)
	if got := r.Sentence(); !strings.Contains(got, "mae rises most with wind_ms;") {
		t.Error(got)
	}
	text, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	if KindOf(strings.NewReader(string(text))) != ImportanceKind {
		t.Error("its kind is not told")
	}
	f, verdict, err := Read(ImportanceKind, "", strings.NewReader(string(text)))
	if err != nil || verdict != Unjudged || f.Importance.Rows != 500 {
		t.Error(f, verdict, err)
	}
	r.Inputs[0].At, r.Inputs[0].Mean = []any{1.0, 2.0}, []float64{1}
	text, _ = json.Marshal(r)
	for _, bad := range []string{string(text), `{"rows":0,"importances":[]}`, `{"rows":1,"odd":1}`} {
		if _, _, err := Read(ImportanceKind, "", strings.NewReader(bad)); err == nil {
			t.Errorf("%s is read", bad)
		}
	}
}

func TestRobustnessInWords(t *testing.T) {
	r := RobustnessReport{Rows: 60, Answered: 60, Likeness: Likeness{Like: "heat-demand@1"}, Tried: []Disturbed{
		{Disturbance: DisturbanceMissing, Input: "wind_ms", Rows: 60, Broke: 60, Verdict: Breaks, Why: "status 500"},
		{Disturbance: DisturbanceAgain, What: "the same rows again", Rows: 60, Answered: 60, Verdict: Holds},
	}}
	r.Limits = r.Allowed()
	text, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	if KindOf(strings.NewReader(string(text))) != RobustnessKind {
		t.Error("its kind is not told")
	}
	f, verdict, err := Read(RobustnessKind, "", strings.NewReader(string(text)))
	if err != nil || verdict != VerdictFailed ||
		f.Says != "2 disturbances with 60 rows: breaks 1, holds 1; breaks is above 0" {
		t.Error(f.Says, verdict, err)
	}
	if got := r.Tried[0].Says(); got != "wind_ms missing: status 500" {
		t.Error(got)
	}
	lost := `{"rows":3,"answered":1,"like":"m@1","tried":[]}`
	if _, _, err := Read(RobustnessKind, "", strings.NewReader(lost)); err == nil {
		t.Error("rows that are lost are read")
	}
}
