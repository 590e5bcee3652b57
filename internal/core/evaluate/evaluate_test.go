package evaluate

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestRegressionByHand(t *testing.T) {
	r, err := OfRegression([]float64{1, 2, 0, 4}, []float64{2, 2, 1, 1}, nil)
	if err != nil {
		t.Fatal(err)
	}
	for name, pair := range map[string][2]float64{
		"MAE": {r.MAE, 1.25}, "RMSE": {r.RMSE, math.Sqrt(11.0 / 4)}, "bias": {r.Bias, -0.25},
		"R2": {r.R2, 1 - 11/8.75}, "MAPE": {r.MAPE, (1 + 0 + 0.75) / 3}, "median": {r.MedianError, 1},
	} {
		if math.Abs(pair[0]-pair[1]) > 1e-12 {
			t.Errorf("%s: got %v, want %v", name, pair[0], pair[1])
		}
	}
	flat, _ := OfRegression([]float64{0, 0}, []float64{1, 1}, nil)
	if !math.IsNaN(flat.R2) || !math.IsNaN(flat.MAPE) {
		t.Errorf("undefined measures must be NaN: %+v", flat)
	}
	if _, err := OfRegression(nil, nil, nil); err == nil {
		t.Error("nothing was evaluated without an error")
	}
}

func TestClassificationByHand(t *testing.T) {
	c, err := OfClassification(
		[]string{"ok", "ok", "ok", "leaking", "leaking", "sticking"},
		[]string{"ok", "ok", "leaking", "leaking", "ok", "ok"}, nil)
	if err != nil {
		t.Fatal(err)
	}
	// levels: leaking, ok, sticking
	if c.Confusion[0][0] != 1 || c.Confusion[0][1] != 1 || c.Confusion[2][1] != 1 {
		t.Errorf("confusion %v", c.Confusion)
	}
	if math.Abs(c.Accuracy-0.5) > 1e-12 || math.Abs(c.BalancedAccuracy-(0.5+2.0/3+0)/3) > 1e-12 {
		t.Errorf("accuracy %v, balanced %v", c.Accuracy, c.BalancedAccuracy)
	}
	if !math.IsNaN(c.Precision[2]) {
		t.Errorf("precision of a class never predicted is undefined, got %v", c.Precision[2])
	}
	if want := (0.5 + 4.0/7 + 0) / 3; math.Abs(c.MacroF1-want) > 1e-12 {
		t.Errorf("macro F1 %v, want %v", c.MacroF1, want)
	}
}

// The median of {1, 2, 3} came out as 1.5, and the R² of a constant truth as −1e28.
func TestWhatWasWrong(t *testing.T) {
	r, err := OfRegression([]float64{0, 0, 0}, []float64{1, 2, 3}, nil)
	if err != nil || r.MedianError != 2 {
		t.Errorf("median error %v, %v", r.MedianError, err)
	}
	r, _ = OfRegression([]float64{0.1, 0.1, 0.1}, []float64{0.2, 0.1, 0.1}, nil)
	if !math.IsNaN(r.R2) || len(r.Undefined) != 1 || !strings.Contains(r.Undefined[0], "constant") {
		t.Errorf("R² of a constant truth: %v, %q", r.R2, r.Undefined)
	}
	far := []float64{1e9, 1e9 + 1, 1e9 + 2, 1e9 + 3}
	if r, _ = OfRegression(far, []float64{1e9 + 0.5, 1e9 + 1, 1e9 + 2, 1e9 + 3}, nil); math.Abs(r.R2-0.95) > 1e-9 {
		t.Errorf("R² far from 0: %v", r.R2)
	}
}

func TestRowsThatCannotBeMeasured(t *testing.T) {
	one := []float64{1}
	for name, err := range map[string]error{
		"no rows":             second(OfRegression(nil, nil, nil)),
		"a weight below 0":    second(OfRegression(one, one, []float64{-1})),
		"all weights 0":       second(OfRegression(one, one, []float64{0})),
		"too few weights":     second(OfRegression(one, one, []float64{})),
		"not a number":        second(OfRegression(one, []float64{math.NaN()}, nil)),
		"infinite":            second(OfRegression([]float64{math.Inf(1)}, one, nil)),
		"an unknown class":    second(OfScores([]string{"a"}, []string{"b"}, [][]float64{{1}}, nil)),
		"too few scores":      second(OfScores([]string{"a", "b"}, []string{"b"}, [][]float64{{1}}, nil)),
		"no probability":      second(OfScores([]string{"a"}, []string{"a"}, [][]float64{{1.5}}, nil)),
		"scores that add up":  second(OfScores([]string{"a", "b"}, []string{"a"}, [][]float64{{0.9, 0.9}}, nil)),
		"classes of no truth": second(OfClassification([]string{"a"}, nil, nil)),
	} {
		if err == nil {
			t.Errorf("%s was measured", name)
		}
	}
}

func second[T any](_ T, err error) error { return err }

func TestUndefinedMeasuresAreNamed(t *testing.T) {
	c, err := OfClassification([]string{"ok", "ok"}, []string{"ok", "leaking"}, nil)
	if err != nil || !math.IsNaN(c.Recall[0]) || !math.IsNaN(c.Matthews) || len(c.Undefined) != 2 {
		t.Errorf("%+v, %v", c, err)
	}
	s, err := OfScores([]string{"ok", "leaking"}, []string{"ok", "ok"}, [][]float64{{1, 0}, {0.5, 0.5}}, nil)
	if err != nil || !math.IsNaN(s.ROCAUC[0]) || !math.IsNaN(s.MacroPRAUC) || len(s.Undefined) != 2 {
		t.Errorf("%+v, %v", s, err)
	}
	if s, _ = OfScores([]string{"ok", "leaking"}, []string{"ok"}, [][]float64{{0, 1}}, nil); math.IsInf(s.LogLoss, 0) {
		t.Error("one row made the log loss infinite")
	}
}

// A weight is as good as so many rows.
func TestAWeightIsSoManyRows(t *testing.T) {
	truth, predicted := []float64{1, 4, 2, 8}, []float64{2, 4, 1, 5}
	once, err := OfRegression(truth, predicted, []float64{2, 1, 0, 3})
	if err != nil {
		t.Fatal(err)
	}
	often, _ := OfRegression([]float64{1, 1, 4, 8, 8, 8}, []float64{2, 2, 4, 5, 5, 5}, nil)
	once.N = often.N
	for i := range often.Residuals {
		if math.Abs(once.Residuals[i]-often.Residuals[i]) > 1e-12 {
			t.Errorf("residuals %v and %v", once.Residuals, often.Residuals)
		}
	}
	if math.Abs(once.R2-often.R2) > 1e-12 || once.MAE != often.MAE || once.MedianError != often.MedianError ||
		once.Weight != 6 {
		t.Errorf("%+v\n%+v", once, often)
	}
}

func TestSegmentsWorstFirst(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	const n = 2000
	truth, predicted := make([]float64, n), make([]float64, n)
	mix, wind := make([]string, n), make([]float64, n)
	for i := range n {
		mix[i] = []string{"harbour", "old-town", "works", "terraces"}[r.IntN(4)]
		wind[i] = r.Float64() * 20
		noise := 1.0
		if mix[i] == "works" {
			noise = 2
		}
		truth[i] = r.NormFloat64()
		predicted[i] = truth[i] + noise*r.NormFloat64()
	}
	wind[0] = math.NaN()
	mae := func(rows []int, confidence float64) Estimate {
		a, b := make([]float64, len(rows)), make([]float64, len(rows))
		for k, i := range rows {
			a[k], b[k] = truth[i], predicted[i]
		}
		return Resampled(len(rows), nil, confidence, func(w []float64) float64 {
			m, err := OfRegression(a, b, w)
			if err != nil {
				return math.NaN()
			}
			return m.MAE
		})
	}
	all, segments, err := Segments(n, 30, map[string][]string{"mix": mix, "wind": Quarters(wind)}, false, mae)
	if err != nil || len(segments) != 8 { // the one that is missing is too few
		t.Fatalf("%d segments, %v", len(segments), err)
	}
	worst := segments[0]
	if worst.Level != "works" || !worst.Worse || worst.Low <= all.Value || worst.Value < 1.4 || worst.Value > 1.8 {
		t.Errorf("%+v of %+v", worst, all)
	}
	for _, s := range segments[1:] {
		if s.Worse || s.Value > worst.Value || !(s.Low < s.Value && s.Value < s.High) {
			t.Errorf("%+v", s)
		}
	}
	if _, _, err := Segments(2, 1, map[string][]string{"x": {"a"}}, false, mae); err == nil {
		t.Error("a column of other length was taken")
	}
	if q := Quarters([]float64{5, 5, 5}); q[0] != "all" {
		t.Errorf("quarters of one value: %q", q)
	}
	q := Quarters([]float64{1, 2, 3, 4, 5, 6, 7, 8})
	if q[0] != "below 3" || q[7] != "7 and above" || q[2] != "3 to 5" {
		t.Errorf("quarters: %q", q)
	}
}

// The interval of a mean is what theory says.
func TestResampledIntervals(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	x := make([]float64, 400)
	for i := range x {
		x[i] = r.NormFloat64()
	}
	mean := func(w []float64) float64 {
		var m ratioOf
		for i, v := range x {
			m.add(v, w[i])
		}
		return m.of()
	}
	e := Resampled(len(x), nil, 0.95, mean)
	if half := (e.High - e.Low) / 2; math.Abs(half-1.96/20) > 0.02 || e.Low > e.Value || e.High < e.Value {
		t.Errorf("%+v", e)
	}
	if again := Resampled(len(x), nil, 0.95, mean); again != e {
		t.Errorf("the same rows gave %+v and %+v", e, again)
	}
	if open := Resampled(3, nil, 0.95, func([]float64) float64 { return math.NaN() }); open.Bounded() {
		t.Errorf("what is undefined has the interval %+v", open)
	}
}
