package evaluate

import (
	"encoding/json"
	"math"
	"os"
	"testing"
)

// golden are figures of scikit-learn, SciPy and NumPy; bench/golden/make.py wrote them.
type golden struct {
	Regression []struct {
		Truth, Predicted, Weights []float64
		Want                      struct {
			MAE, RMSE, R2, Bias, MAPE, SMAPE float64
			MedianError                      *float64 `json:"median_error"`
			Residuals                        []float64
		}
	}
	Classification []struct {
		Levels, Truth, Predicted []string
		Scores                   [][]float64
		Weights                  []float64
		// Curves are x and y, by class.
		Curves struct {
			Receiver        [][2][]float64
			PrecisionRecall [][2][]float64 `json:"precision_recall"`
		}
		Want struct {
			Confusion             [][]float64
			Accuracy, Balanced    float64
			Precision, Recall, F1 []float64
			MacroF1               float64   `json:"macro_f1"`
			WeightedF1            float64   `json:"weighted_f1"`
			LogLoss               float64   `json:"log_loss"`
			CalibrationError      float64   `json:"calibration_error"`
			ROCAUC                []float64 `json:"roc_auc"`
			PRAUC                 []float64 `json:"pr_auc"`
			Matthews, Brier       float64
		}
	}
}

func near(t *testing.T, what string, got, want float64) {
	t.Helper()
	if !(math.Abs(got-want) <= 1e-9*max(1, math.Abs(want))) {
		t.Errorf("%s: got %.15g, want %.15g", what, got, want)
	}
}

func allNear(t *testing.T, what string, got, want []float64) {
	t.Helper()
	if len(got) != len(want) {
		t.Fatalf("%s: %d figures, want %d", what, len(got), len(want))
	}
	for i := range got {
		near(t, what, got[i], want[i])
	}
}

func TestAgainstOthers(t *testing.T) {
	var all golden
	raw, err := os.ReadFile("testdata/golden.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		t.Fatal(err)
	}
	for _, c := range all.Regression {
		r, err := OfRegression(c.Truth, c.Predicted, c.Weights)
		if err != nil {
			t.Fatal(err)
		}
		w := c.Want
		allNear(t, "MAE, RMSE, R², bias, MAPE, SMAPE", []float64{r.MAE, r.RMSE, r.R2, r.Bias, r.MAPE, r.SMAPE},
			[]float64{w.MAE, w.RMSE, w.R2, w.Bias, w.MAPE, w.SMAPE})
		if w.MedianError != nil {
			near(t, "median error", r.MedianError, *w.MedianError)
			allNear(t, "residuals", r.Residuals, w.Residuals)
		}
	}
	for _, c := range all.Classification {
		r, err := OfClassification(c.Truth, c.Predicted, c.Weights)
		if err != nil {
			t.Fatal(err)
		}
		s, err := OfScores(c.Levels, c.Truth, c.Scores, c.Weights)
		if err != nil {
			t.Fatal(err)
		}
		w := c.Want
		for i := range w.Confusion {
			allNear(t, "confusion", r.Confusion[i], w.Confusion[i])
		}
		allNear(t, "precision", r.Precision, w.Precision)
		allNear(t, "recall", r.Recall, w.Recall)
		allNear(t, "F1", r.F1, w.F1)
		allNear(t, "accuracy, balanced, macro and weighted F1, Matthews",
			[]float64{r.Accuracy, r.BalancedAccuracy, r.MacroF1, r.WeightedF1, r.Matthews},
			[]float64{w.Accuracy, w.Balanced, w.MacroF1, w.WeightedF1, w.Matthews})
		allNear(t, "log loss, Brier, calibration", []float64{s.LogLoss, s.Brier, s.CalibrationError},
			[]float64{w.LogLoss, w.Brier, w.CalibrationError})
		allNear(t, "area under the receiver's curve", s.ROCAUC, w.ROCAUC)
		allNear(t, "average precision", s.PRAUC, w.PRAUC)
		for k := range c.Levels {
			x, y := Receiver(c.Levels, c.Truth, c.Scores, c.Weights, k, 1e6)
			allNear(t, "receiver's curve, x", x, c.Curves.Receiver[k][0])
			allNear(t, "receiver's curve, y", y, c.Curves.Receiver[k][1])
			x, y = PrecisionRecall(c.Levels, c.Truth, c.Scores, c.Weights, k, 1e6)
			allNear(t, "recall", x, c.Curves.PrecisionRecall[k][0])
			allNear(t, "precision", y, c.Curves.PrecisionRecall[k][1])
		}
	}
}
