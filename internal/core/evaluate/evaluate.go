// Package evaluate compares predictions with the truth. Rows may have weights. Undefined cases are NaN and
// named, never silent zeros.
package evaluate

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
)

// Regression holds the measures of numeric predictions, in the unit of the truth
// unless said otherwise.
type Regression struct {
	N int
	// Weight is the sum of the weights, N where there are none.
	Weight float64
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
	// SMAPE is the mean of 2·|prediction − truth| / (|prediction| + |truth|), from 0 to 2, over rows in
	// which not both are zero; NaN when there are none.
	SMAPE float64
	// Residuals are quantiles of prediction − truth, at each of ResidualQuantiles.
	Residuals []float64
	// Undefined says which measures are NaN or leave rows out, and why.
	Undefined []string
}

// ResidualQuantiles are the shares at which residuals are given.
var ResidualQuantiles = []float64{0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99}

// check refuses rows that do not fit together.
func check(truths, predictions int, weights []float64) error {
	if truths != predictions || truths == 0 {
		return fmt.Errorf("evaluating %d predictions against %d truths", predictions, truths)
	}
	if weights == nil {
		return nil
	}
	if len(weights) != truths {
		return fmt.Errorf("evaluating %d rows with %d weights", truths, len(weights))
	}
	sum := 0.0
	for i, w := range weights {
		if !(w >= 0) || math.IsInf(w, 0) {
			return fmt.Errorf("the weight of row %d is %v; weights are finite and not below 0", i+1, w)
		}
		sum += w
	}
	if sum == 0 {
		return fmt.Errorf("all %d weights are 0", truths)
	}
	return nil
}

// weightOf is the weight of a row.
func weightOf(weights []float64, i int) float64 {
	if weights == nil {
		return 1
	}
	return weights[i]
}

// OfRegression measures predictions against the truth. The two must have the same
// length, at least 1; weights are one for each row, or nil where all count the same.
func OfRegression(truth, predicted, weights []float64) (Regression, error) {
	if err := check(len(truth), len(predicted), weights); err != nil {
		return Regression{}, err
	}
	for i := range truth {
		if math.IsNaN(truth[i]) || math.IsInf(truth[i], 0) || math.IsNaN(predicted[i]) || math.IsInf(predicted[i], 0) {
			return Regression{}, fmt.Errorf("row %d is %v for a truth of %v; both must be finite", i+1, predicted[i],
				truth[i])
		}
	}
	r := Regression{N: len(truth)}
	residuals, absolute := make([]weighted, r.N), make([]weighted, r.N)
	low, high := math.Inf(1), math.Inf(-1)
	var mae, bias, squares, relative, symmetric ratioOf
	for i, y := range truth {
		w, d := weightOf(weights, i), predicted[i]-y
		r.Weight += w
		residuals[i], absolute[i] = weighted{d, w}, weighted{math.Abs(d), w}
		if w > 0 {
			low, high = min(low, y), max(high, y)
		}
		mae.add(math.Abs(d), w)
		bias.add(d, w)
		squares.add(d*d, w)
		if y != 0 {
			relative.add(math.Abs(d/y), w)
		}
		if both := math.Abs(y) + math.Abs(predicted[i]); both != 0 {
			symmetric.add(2*math.Abs(d)/both, w)
		}
	}
	r.MAE, r.Bias, r.RMSE = mae.of(), bias.of(), math.Sqrt(squares.of())
	r.MAPE, r.SMAPE = relative.of(), symmetric.of()
	r.R2 = math.NaN()
	if low < high {
		_, variance := stat.PopMeanVariance(truth, weights)
		r.R2 = 1 - squares.of()/variance
	} else {
		r.Undefined = append(r.Undefined, "R² is undefined: the truth is constant")
	}
	if left := r.Weight - relative.weight; left > 0 {
		r.Undefined = append(r.Undefined, fmt.Sprintf("MAPE leaves out %.4g of %.4g rows whose truth is 0", left,
			r.Weight))
	}
	if left := r.Weight - symmetric.weight; left > 0 {
		r.Undefined = append(r.Undefined, fmt.Sprintf("SMAPE leaves out %.4g of %.4g rows in which truth and "+
			"prediction are 0", left, r.Weight))
	}
	r.MedianError = quantiles(absolute, 0.5)[0]
	r.Residuals = quantiles(residuals, ResidualQuantiles...)
	return r, nil
}

// weighted is a value with its weight.
type weighted struct{ value, weight float64 }

// quantiles are the values at shares of the weight: the least value at or below which more than a share lies,
// and the middle of two where one has exactly that share below it (Hyndman and Fan 1996, type 2). It
// sorts what it is given.
func quantiles(x []weighted, shares ...float64) []float64 {
	slices.SortFunc(x, func(a, b weighted) int { return cmp.Compare(a.value, b.value) })
	x = slices.DeleteFunc(x, func(v weighted) bool { return v.weight == 0 })
	total := 0.0
	for _, v := range x {
		total += v.weight
	}
	out := make([]float64, len(shares))
	for k, share := range shares {
		goal, below := share*total, 0.0
		out[k] = x[len(x)-1].value
		for i, v := range x {
			below += v.weight
			near := 1e-12 * total
			if below > goal+near {
				out[k] = v.value
				break
			}
			if below >= goal-near && i+1 < len(x) {
				out[k] = (v.value + x[i+1].value) / 2
				break
			}
		}
	}
	return out
}

// ratioOf is a weighted mean; NaN when nothing was added.
type ratioOf struct{ sum, weight float64 }

func (r *ratioOf) add(x, w float64) { r.sum, r.weight = r.sum+w*x, r.weight+w }

func (r *ratioOf) of() float64 { return r.sum / r.weight } // 0/0 is NaN, as stated
