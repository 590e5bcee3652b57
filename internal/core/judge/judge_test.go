package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"innerladder/internal/core/evidence"
)

func numbered(n int) (out []int64) {
	for i := range n {
		out = append(out, int64(i+1))
	}
	return out
}

// The intervals of measures hold what the measures are of all rows that there could be, in about 95 of 100 tables.
func TestIntervalsHold(t *testing.T) {
	const tables, n = 200, 700
	held := map[string]int{}
	r := rand.New(rand.NewPCG(7, 7))
	for range tables {
		rows := Rows{Number: numbered(n)}
		classes := Rows{Number: numbered(n), Levels: []string{"no", "yes"}}
		for range n {
			y := r.NormFloat64() * 2
			rows.Truth, rows.Predicted = append(rows.Truth, y), append(rows.Predicted, y+0.3+r.NormFloat64())
			// The score of yes is right: so many of those who have it are yes.
			p, truth, predicted := r.Float64(), "no", "no"
			if r.Float64() < p {
				truth = "yes"
			}
			if p > 0.5 {
				predicted = "yes"
			}
			classes.TruthClass, classes.PredictedClass = append(classes.TruthClass, truth),
				append(classes.PredictedClass, predicted)
			classes.Scores = append(classes.Scores, []float64{1 - p, p})
		}
		for _, one := range []struct {
			rows Rows
			true map[string]float64
		}{
			{rows, map[string]float64{
				"bias": 0.3, "rmse": math.Sqrt(1.09), "r2": 1 - 1.09/4, "mae": 0.8332, "median_error": 0.7048,
			}},
			// Scores that are even: three of four are right, the area is 5/6, the mean square twice 1/6.
			{classes, map[string]float64{"accuracy": 0.75, "roc_auc": 5.0 / 6, "brier": 1.0 / 3, "log_loss": 0.5}},
		} {
			e, err := Of(one.rows, nil)
			if err != nil {
				t.Fatal(err)
			}
			for name, want := range one.true {
				if b, there := e.Bounds[name]; there && b[0] <= want && want <= b[1] {
					held[name]++
				}
			}
		}
	}
	for _, name := range []string{
		"bias", "rmse", "r2", "mae", "median_error", "accuracy", "roc_auc", "brier", "log_loss",
	} {
		if held[name] < 178 || held[name] > 199 { // 190 of 200, by four standard deviations
			t.Errorf("the interval of %s holds it in %d of %d", name, held[name], tables)
		}
	}
}

func TestPartsAndWorstRows(t *testing.T) {
	rows := Rows{Number: numbered(200), Segments: map[string][]string{"mix": nil}}
	for i := range 200 {
		mix, off := "old-town", 0.01*float64(i%7)
		if i%4 == 0 {
			mix, off = "harbour", 1+0.01*float64(i%7)
		}
		rows.Truth, rows.Predicted = append(rows.Truth, float64(i%13)), append(rows.Predicted, float64(i%13)+off)
		rows.Segments["mix"] = append(rows.Segments["mix"], mix)
	}
	rows.Predicted[41] = 99
	most := 0.2
	e, err := Of(rows, map[string]evidence.Limit{"mae": {AtMost: &most}})
	if err != nil {
		t.Fatal(err)
	}
	if s := e.Segments[0]; s.Name != "mix: harbour" || s.Rows != 50 || e.Limits["mae"].AtMost == nil {
		t.Errorf("%+v", e.Segments)
	}
	if w := e.Worst[0]; w.Row != 42 || w.Predicted != 99.0 || len(e.Worst) != worst {
		t.Errorf("%+v", e.Worst)
	}
	total := 0
	for _, n := range e.Residuals.Counts {
		total += n
	}
	if total != 200 || len(e.Curves) != 1 || len(e.Curves[0].X) != 20 {
		t.Errorf("%d residuals, %d curves", total, len(e.Curves))
	}
	if _, err := Of(rows, map[string]evidence.Limit{"accuracy": {AtMost: &most}}); err == nil ||
		!strings.Contains(err.Error(), "no accuracy") {
		t.Errorf("%v", err)
	}
}

func TestClassesAndTheirCurves(t *testing.T) {
	rows := Rows{Number: numbered(90), Levels: []string{"a", "b", "c"}}
	for i := range 90 {
		truth := rows.Levels[i%3]
		scores := []float64{0.1, 0.1, 0.1}
		scores[(i+i/80)%3] = 0.8
		rows.TruthClass = append(rows.TruthClass, truth)
		rows.PredictedClass = append(rows.PredictedClass, rows.Levels[(i+i/80)%3])
		rows.Scores = append(rows.Scores, scores)
	}
	e, err := Of(rows, nil)
	if err != nil {
		t.Fatal(err)
	}
	if e.Metrics["accuracy"] != 80.0/90 || e.Confusion.Counts[0][0]+e.Confusion.Counts[1][1]+e.Confusion.Counts[2][2] !=
		80 || len(e.Worst) != 10 || e.Worst[0].Row < 81 {
		t.Errorf("%+v", e)
	}
	var names []string
	for _, c := range e.Curves {
		names = append(names, c.Name)
		last := len(c.X) - 1
		if c.X[last] != 1 || strings.HasPrefix(c.Name, "receiver") && c.Y[last] != 1 {
			t.Errorf("%s ends at %v, %v", c.Name, c.X[last], c.Y[last])
		}
	}
	if fmt.Sprint(names) != "[receiver of a precision of a receiver of b precision of b "+
		"receiver of c precision of c]" {
		t.Errorf("%v", names)
	}
	for i := range rows.Scores {
		rows.PredictedClass[i], rows.TruthClass[i] = fmt.Sprint(i), fmt.Sprint(-i)
	}
	rows.Scores = nil
	if _, err := Of(rows, nil); err == nil || !strings.Contains(err.Error(), "classes") {
		t.Errorf("%v", err)
	}
}
