package judge

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"innerladder/internal/core/evidence"
)

// Paired differences hold what the difference is of all rows that there could be, in about 95 of 100 tables, and are
// far narrower than those of two tables would be.
func TestPairedDifferencesHold(t *testing.T) {
	const tables, n = 200, 400
	held, told := map[string]int{}, map[evidence.Lead]int{}
	r := rand.New(rand.NewPCG(3, 9))
	for range tables {
		rows, other := Rows{Number: numbered(n)}, Other{Version: "m@1"}
		classes, others := Rows{Number: numbered(n)}, Other{Version: "c@1"}
		for range n {
			y, common := r.NormFloat64()*2, r.NormFloat64()
			rows.Truth = append(rows.Truth, y)
			// Both err by the same, one by a little more: mean squares of 1.04 and 1, means of 0.2 and 0.
			rows.Predicted = append(rows.Predicted, y+0.2+common)
			other.Predicted = append(other.Predicted, y+common)
			other.Has = append(other.Has, true)
			// One is right in 0.9, the other in 0.85 of the rows, and never where the first is wrong.
			is, was := "a", "a"
			if u := r.Float64(); u > 0.9 {
				is, was = "b", "b"
			} else if u > 0.85 {
				was = "b"
			}
			classes.TruthClass, classes.PredictedClass = append(classes.TruthClass, "a"),
				append(classes.PredictedClass, is)
			others.PredictedClass, others.Has = append(others.PredictedClass, was), append(others.Has, true)
		}
		for _, one := range []struct {
			rows  Rows
			other Other
			true  map[string]float64
		}{
			{rows, other, map[string]float64{"bias": 0.2, "rmse": 0.0198}},
			{classes, others, map[string]float64{"accuracy": 0.05}},
		} {
			a, err := one.rows.Against(one.other)
			if err != nil {
				t.Fatal(err)
			}
			for name, want := range one.true {
				d := a.Difference(name)
				if d.Bounds[0]-1e-12 <= want && want <= d.Bounds[1]+1e-12 {
					held[name]++
				}
				if name == "accuracy" {
					told[d.Verdict]++
				}
			}
		}
	}
	// The bias differs by exactly as much in every row; the others are random.
	if held["bias"] != tables || held["rmse"] < 178 || held["accuracy"] < 178 || held["rmse"] > 199 {
		t.Errorf("held in %v of %d", held, tables)
	}
	if told[evidence.Better] < 190 || told[evidence.Worse] > 0 {
		t.Errorf("five rows of a hundred that only one has right: %v", told)
	}
}

func TestWhereOneLoses(t *testing.T) {
	rows := Rows{Number: numbered(300), Segments: map[string][]string{"mix": nil}}
	other := Other{Version: "heat-demand@6"}
	for i := range 300 {
		mix, off, was := "old-town", 0.1+0.001*float64(i%5), 0.5
		if i%3 == 0 {
			mix, off = "harbour", 2+0.001*float64(i%5)
		}
		rows.Truth = append(rows.Truth, float64(i%17))
		rows.Predicted = append(rows.Predicted, float64(i%17)+off)
		other.Predicted = append(other.Predicted, float64(i%17)-was)
		other.Has = append(other.Has, i != 7)
		rows.Segments["mix"] = append(rows.Segments["mix"], mix)
	}
	rows.Predicted[40] += 50
	a, err := rows.Against(other)
	if err != nil {
		t.Fatal(err)
	}
	if a.Rows != 299 || a.LeftOut != 1 || a.Worst[0].Row != 41 || a.Worst[0].Other != float64(40%17)-0.5 {
		t.Errorf("%+v", a)
	}
	if s := a.Segments; len(s) != 2 || s[0].Name != "mix: harbour" || !s[0].Worse || s[1].Worse {
		t.Errorf("%+v", s)
	}
	d := a.Difference("bias")
	if d.Verdict != evidence.Worse || d.Was != -0.5 || d.Is < 0 {
		t.Errorf("further from 0 on the other side is worse: %+v", d)
	}
	other.Predicted, other.Has[7] = rows.Predicted, true
	if a, err = rows.Against(other); err != nil || a.Says() != "the same as heat-demand@6" || len(a.Worst) > 0 {
		t.Errorf("%s, %v", a.Says(), err)
	}
	other.Has = make([]bool, 300)
	if a, err = rows.Against(other); err != nil || a.Rows != 0 || len(a.Differences) != 0 {
		t.Errorf("%+v, %v", a, err)
	}
}

func TestScoresOfTwo(t *testing.T) {
	rows, other := Rows{Number: numbered(200), Levels: []string{"no", "yes"}}, Other{Version: "m@1"}
	r := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		p := r.Float64()
		truth := "no"
		if r.Float64() < p {
			truth = "yes"
		}
		noise := min(1, max(0, p+r.NormFloat64()))
		class := func(p float64) string { return map[bool]string{true: "yes", false: "no"}[p > 0.5] }
		rows.TruthClass, rows.PredictedClass = append(rows.TruthClass, truth), append(rows.PredictedClass, class(p))
		rows.Scores = append(rows.Scores, []float64{1 - p, p})
		other.PredictedClass, other.Has = append(other.PredictedClass, class(noise)), append(other.Has, true)
		other.Scores = append(other.Scores, []float64{1 - noise, noise})
	}
	a, err := rows.Against(other)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"roc_auc", "log_loss", "brier", "accuracy"} {
		if d := a.Difference(name); d == nil || d.Verdict != evidence.Better {
			t.Errorf("%s: %+v", name, d)
		}
	}
	other.Scores = nil
	if a, err = rows.Against(other); err != nil || a.Difference("brier") != nil || a.Difference("accuracy") == nil {
		t.Errorf("%v %v", fmt.Sprint(a), err)
	}
}
