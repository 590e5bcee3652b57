package judge

import (
	"math"
	"testing"
)

func TestGroupsOfSensitiveColumns(t *testing.T) {
	rows := Rows{
		Number: numbered(210), Segments: map[string][]string{"mix": nil, "hour": nil}, Sensitive: []string{"mix"},
	}
	classes := Rows{Number: numbered(210), Segments: rows.Segments, Sensitive: []string{"mix"}}
	for i := range 210 {
		level, off, class := "old-town", 0.1, "ok"
		if i%2 == 0 {
			level, off, class = "harbour", -0.3, []string{"ok", "leaking"}[i/2%2]
		}
		if i < 5 {
			level = "works" // too few to be told
		}
		rows.Segments["mix"] = append(rows.Segments["mix"], level)
		rows.Segments["hour"] = append(rows.Segments["hour"], "7")
		rows.Truth, rows.Predicted = append(rows.Truth, 1), append(rows.Predicted, 1+off)
		classes.TruthClass = append(classes.TruthClass, "ok")
		classes.PredictedClass = append(classes.PredictedClass, class)
	}
	e, err := Of(rows, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(e.Groups) != 2 || e.Groups[0].Level != "harbour" || e.Groups[1].Level != "old-town" {
		t.Fatalf("%+v", e.Groups)
	}
	g := e.Groups[0]
	if math.Abs(g.Quality["bias"].Value+0.3) > 1e-9 || math.Abs(g.Quality["mae"].Value-0.3) > 1e-9 ||
		math.Abs(g.Predictions["mean"].Value-0.7) > 1e-9 || g.Rows != 102 {
		t.Errorf("%+v", g)
	}
	if e, err = Of(classes, nil); err != nil {
		t.Fatal(err)
	}
	g = e.Groups[0]
	leaking := g.Predictions["leaking"]
	if leaking.Value < 0.45 || leaking.Value > 0.55 || leaking.Low > 0.42 || leaking.High < 0.58 ||
		e.Groups[1].Quality["accuracy"].Value != 1 || g.Quality["accuracy"].High > 0.65 {
		t.Errorf("%+v", e.Groups)
	}
}
