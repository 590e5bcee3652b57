// Package evaluate compares predictions with the truth. Undefined cases are NaN and
// stated, never silent zeros.
package evaluate

import (
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/floats"
	"gonum.org/v1/gonum/stat"
)

// Regression holds the measures of numeric predictions, in the unit of the truth
// unless said otherwise.
type Regression struct {
	N int
	// MAE is the mean of |prediction − truth|, RMSE the root of the mean square.
	MAE, RMSE float64
	// MedianError is the median of |prediction − truth|.
	MedianError float64
	// Bias is the mean of prediction − truth.
	Bias float64
	// R2 is 1 − residual sum of squares / total sum of squares; NaN when the truth is
	// constant.
	R2 float64
	// MAPE is the mean of |prediction − truth| / |truth| over rows whose truth is not
	// zero, as a share; NaN when there are none.
	MAPE float64
}

// OfRegression measures predictions against the truth. The two must have the same
// length, at least 1.
func OfRegression(truth, predicted []float64) (Regression, error) {
	if len(truth) != len(predicted) || len(truth) == 0 {
		return Regression{}, fmt.Errorf("evaluating %d predictions against %d truths", len(predicted), len(truth))
	}
	r := Regression{N: len(truth)}
	absolute := make([]float64, r.N)
	mean := stat.Mean(truth, nil)
	var squares, total, relative, defined float64
	for i, y := range truth {
		d := predicted[i] - y
		absolute[i] = math.Abs(d)
		r.Bias += d / float64(r.N)
		squares += d * d
		total += (y - mean) * (y - mean)
		if y != 0 {
			relative += math.Abs(d / y)
			defined++
		}
	}
	r.MAE = stat.Mean(absolute, nil)
	r.RMSE = math.Sqrt(squares / float64(r.N))
	r.R2 = math.NaN()
	if total > 0 {
		r.R2 = 1 - squares/total
	}
	r.MAPE = relative / defined // 0/0 is NaN, as stated
	slices.Sort(absolute)
	r.MedianError = stat.Quantile(0.5, stat.LinInterp, absolute, nil)
	return r, nil
}

// Classification holds the measures of predicted classes.
type Classification struct {
	N      int
	Levels []string
	// Confusion counts rows by [truth][predicted], in the order of Levels.
	Confusion [][]int
	Accuracy  float64
	// Recall and Precision are per level; NaN where there is nothing to divide by.
	Recall, Precision []float64
	// BalancedAccuracy is the mean recall over the levels that occur in the truth.
	BalancedAccuracy float64
	// MacroF1 is the mean F1 over the levels that occur in truth or prediction.
	MacroF1 float64
}

// OfClassification measures predicted classes against the truth. The two must have the
// same length, at least 1.
func OfClassification(truth, predicted []string) (Classification, error) {
	if len(truth) != len(predicted) || len(truth) == 0 {
		return Classification{}, fmt.Errorf("evaluating %d predictions against %d truths", len(predicted), len(truth))
	}
	levels := slices.Concat(truth, predicted)
	slices.Sort(levels)
	levels = slices.Compact(levels)
	c := Classification{N: len(truth), Levels: levels, Confusion: make([][]int, len(levels))}
	for i := range levels {
		c.Confusion[i] = make([]int, len(levels))
	}
	for i := range truth {
		t, _ := slices.BinarySearch(levels, truth[i])
		p, _ := slices.BinarySearch(levels, predicted[i])
		c.Confusion[t][p]++
	}
	var recalls, f1s []float64
	right := 0
	for k := range levels {
		hit, row, column := c.Confusion[k][k], 0, 0
		for j := range levels {
			row += c.Confusion[k][j]
			column += c.Confusion[j][k]
		}
		right += hit
		c.Recall = append(c.Recall, ratio(hit, row))
		c.Precision = append(c.Precision, ratio(hit, column))
		f1s = append(f1s, ratio(2*hit, row+column))
		if row > 0 {
			recalls = append(recalls, ratio(hit, row))
		}
	}
	c.Accuracy = ratio(right, c.N)
	c.BalancedAccuracy = floats.Sum(recalls) / float64(len(recalls))
	c.MacroF1 = floats.Sum(f1s) / float64(len(f1s))
	return c, nil
}

func ratio(a, b int) float64 {
	if b == 0 {
		return math.NaN()
	}
	return float64(a) / float64(b)
}
