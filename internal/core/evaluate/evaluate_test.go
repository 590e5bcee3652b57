package evaluate

import (
	"math"
	"testing"
)

func TestRegressionByHand(t *testing.T) {
	r, err := OfRegression([]float64{1, 2, 0, 4}, []float64{2, 2, 1, 1})
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
	flat, _ := OfRegression([]float64{0, 0}, []float64{1, 1})
	if !math.IsNaN(flat.R2) || !math.IsNaN(flat.MAPE) {
		t.Errorf("undefined measures must be NaN: %+v", flat)
	}
	if _, err := OfRegression(nil, nil); err == nil {
		t.Error("nothing was evaluated without an error")
	}
}

func TestClassificationByHand(t *testing.T) {
	c, err := OfClassification(
		[]string{"ok", "ok", "ok", "leaking", "leaking", "sticking"},
		[]string{"ok", "ok", "leaking", "leaking", "ok", "ok"})
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
