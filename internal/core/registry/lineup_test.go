package registry

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/naming"
)

func TestLineUp(t *testing.T) {
	versions := []Version{
		{
			Ref: "m@1", Metrics: map[string]float64{"rmse": 0.4, "r2": 0.9},
			Params:    map[string]string{"depth": "6", "seed": "1"},
			Artifacts: []Artifact{{Size: 5, Contents: Contents{Format: "onnx"}}},
		},
		{
			Ref: "m@2", Metrics: map[string]float64{"rmse": 0.3, "r2": 0.8},
			Params: map[string]string{"depth": "7", "seed": "1"},
		},
		{Ref: "m@3", Metrics: map[string]float64{"rmse": 0.3}, Params: map[string]string{"seed": "1"}},
	}
	l := LineUp(versions, &versions[0])
	rmse := l.Metrics[slices.IndexFunc(l.Metrics, func(m LineupMetric) bool { return m.Name == "rmse" })]
	r2 := l.Metrics[slices.IndexFunc(l.Metrics, func(m LineupMetric) bool { return m.Name == "r2" })]
	if fmt.Sprint(rmse.Best) != "[m@2 m@3]" || math.Abs(rmse.Against["m@2"]+0.1) > 1e-12 ||
		rmse.Verdicts["m@2"] != "better" || fmt.Sprint(r2.Best) != "[m@1]" || r2.Verdicts["m@2"] != "worse" {
		t.Errorf("metrics: %+v %+v", rmse, r2)
	}
	if len(l.Params) != 1 || l.Params[0].Name != "depth" || l.SameParams != 1 || l.Versions[0].Size != 5 ||
		l.Base != "m@1" {
		t.Errorf("line-up: %+v", l)
	}
	if _, there := l.Params[0].Values["m@3"]; there {
		t.Error("a parameter that is not there has a value")
	}
	if alone := LineUp(versions[:1], nil); alone.Base != "" || alone.Metrics[0].Best != nil {
		t.Errorf("one version alone: %+v", alone)
	}
}

func TestNamesOfThings(t *testing.T) {
	for in, want := range map[string]string{
		"winters-2024": "winters-2024", "winters-2024#2": "winters-2024#2",
		"winters#0": "!", "winters#x": "!", "Winters": "!", "#1": "!",
	} {
		got, err := lineage.ParseDataRef("data", in)
		if (err != nil) != (want == "!") || (err == nil && got.String() != want) {
			t.Errorf("data %q: %v, %v", in, got, err)
		}
	}
	for in, want := range map[string]int64{"run-12": 12, "RUN-3": 3, "run-0": 0, "12": 0, "run-x": 0} {
		if got, err := lineage.ParseRunRef("run", in); got != want || (err != nil) != (want == 0) {
			t.Errorf("run %q: %d, %v", in, got, err)
		}
	}
	for label, code := range map[string]string{
		"beta": "", "12": "label.number", "live": "label.rung",
		"Beta": "name.form", "": "name.empty",
	} {
		if err := CheckLabel("label", label, []string{"draft", "live"}); fault.Code(err) != code {
			t.Errorf("label %q: %v, want %q", label, err, code)
		}
	}
	for tag, good := range map[string]bool{
		"winter": true, "Öl/gas": true, "": false, "two words": false, "a,b": false,
		strings.Repeat("x", 64): false,
	} {
		if err := naming.CheckTag("tag", tag); (err == nil) != good {
			t.Errorf("tag %q: %v", tag, err)
		}
	}
}

func TestDiffOfCardsDataAndImportance(t *testing.T) {
	a := &Version{
		Ref: "m@1", Card: &Card{
			Text: "# Heat\nold",
		}, Data: []lineage.DataUse{
			{Data: "winters#1", Role: lineage.TrainedOn},
		},
		Importance:   map[string]float64{"wind": 0.1},
		Dependencies: []Dependency{{Name: "numpy", Want: "==1.0"}, {Name: "torch"}},
	}
	b := &Version{
		Ref: "m@2", Card: &Card{
			Text: "# Heat\nnew\n",
		}, Data: []lineage.DataUse{
			{Data: "winters#2", Role: lineage.TrainedOn},
		},
		Importance:   map[string]float64{"wind": 0.2},
		Dependencies: []Dependency{{Name: "numpy", Want: "==2.0"}, {Name: "torch"}},
	}
	d := DiffVersions(a, b)
	if !strings.Contains(d.Card, "-old\n+new\n") || len(d.Data) != 1 || d.Data[0].Kind != "changed" ||
		len(d.Dependencies) != 1 || d.Importance[0].Verdict != "changed" {
		t.Errorf("diff: %+v", d)
	}
	if DiffVersions(a, a).Card != "" {
		t.Error("equal cards differ")
	}
}

// A version that was rolled back stands in tables with its numbers, and is neither the best nor
// better than another.
func TestWhatWasRolledBackIsNotPraised(t *testing.T) {
	good := Version{Ref: "m@1", Metrics: map[string]float64{"rmse": 0.4}}
	bad := Version{Ref: "m@2", Metrics: map[string]float64{"rmse": 0.3}, RolledBack: &RolledBack{Endpoint: "e"}}
	worse := Version{Ref: "m@3", Metrics: map[string]float64{"rmse": 0.5}, RolledBack: &RolledBack{Endpoint: "e"}}
	m := LineUp([]Version{good, bad, worse}, &good).Metrics[0]
	if !slices.Equal(m.Best, []string{"m@1"}) || m.Verdicts["m@2"] != "changed" || m.Verdicts["m@3"] != "worse" ||
		m.Values["m@2"] != 0.3 {
		t.Errorf("%+v", m)
	}
	if d := DiffVersions(&good, &bad); d.Metrics[0].Verdict != "changed" {
		t.Errorf("%+v", d.Metrics[0])
	}
	bad.RolledBack = nil
	if m = LineUp([]Version{good, bad, worse}, &good).Metrics[0]; m.Verdicts["m@2"] != "better" ||
		!slices.Equal(m.Best, []string{"m@2"}) {
		t.Errorf("%+v", m)
	}
}
