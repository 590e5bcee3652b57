package evaluate

import (
	"fmt"
	"math"
	"slices"
)

// Classification holds the measures of predicted classes.
type Classification struct {
	N int
	// Weight is the sum of the weights, N where there are none.
	Weight float64
	Levels []string
	// Confusion is the weight of rows by [truth][predicted], in the order of Levels.
	Confusion [][]float64
	Accuracy  float64
	// Recall, Precision and F1 are per level; NaN where there is nothing to divide by.
	Recall, Precision, F1 []float64
	// BalancedAccuracy is the mean recall over the levels that occur in the truth.
	BalancedAccuracy float64
	// MacroF1 is the mean F1 over the levels that occur in truth or prediction, WeightedF1 that weighted
	// by how often each occurs in the truth. MacroPrecision and MacroRecall are means over the levels for
	// which they are defined.
	MacroF1, WeightedF1, MacroPrecision, MacroRecall float64
	// Matthews is the correlation of Matthews (1975), for several classes as Gorodkin (2004) has it; NaN
	// when truth or prediction is always one class.
	Matthews float64
	// Undefined says which measures are NaN, and why.
	Undefined []string
}

// OfClassification measures predicted classes against the truth. The two must have the
// same length, at least 1; weights are one for each row, or nil where all count the same.
func OfClassification(truth, predicted []string, weights []float64) (Classification, error) {
	if err := check(len(truth), len(predicted), weights); err != nil {
		return Classification{}, err
	}
	levels := slices.Concat(truth, predicted)
	slices.Sort(levels)
	levels = slices.Compact(levels)
	c := Classification{N: len(truth), Levels: levels, Confusion: make([][]float64, len(levels))}
	for i := range levels {
		c.Confusion[i] = make([]float64, len(levels))
	}
	for i := range truth {
		t, _ := slices.BinarySearch(levels, truth[i])
		p, _ := slices.BinarySearch(levels, predicted[i])
		c.Confusion[t][p] += weightOf(weights, i)
	}
	c.measure()
	return c, nil
}

// measure finds the measures of a matrix.
func (c *Classification) measure() {
	levels := c.Levels
	for _, row := range c.Confusion {
		for _, w := range row {
			c.Weight += w
		}
	}
	var recall, precision, f1, f1Weighted, balanced ratioOf
	right := 0.0
	rows, columns := make([]float64, len(levels)), make([]float64, len(levels))
	for k, level := range levels {
		for j := range levels {
			rows[k] += c.Confusion[k][j]
			columns[k] += c.Confusion[j][k]
		}
		hit := c.Confusion[k][k]
		right += hit
		c.Recall = append(c.Recall, hit/rows[k]) // 0/0 is NaN, as stated
		c.Precision = append(c.Precision, hit/columns[k])
		c.F1 = append(c.F1, 2*hit/(rows[k]+columns[k]))
		if rows[k] > 0 {
			recall.add(c.Recall[k], 1)
			balanced.add(c.Recall[k], 1)
		} else {
			c.Undefined = append(c.Undefined, fmt.Sprintf("recall of %q: it never occurs", level))
		}
		if columns[k] > 0 {
			precision.add(c.Precision[k], 1)
		} else {
			c.Undefined = append(c.Undefined, fmt.Sprintf("precision of %q: it is never predicted", level))
		}
		if rows[k]+columns[k] > 0 {
			f1.add(c.F1[k], 1)
			f1Weighted.add(c.F1[k], rows[k])
		}
	}
	c.Accuracy = right / c.Weight
	c.BalancedAccuracy, c.MacroRecall, c.MacroPrecision = balanced.of(), recall.of(), precision.of()
	c.MacroF1, c.WeightedF1 = f1.of(), f1Weighted.of()
	c.Matthews = matthews(right, c.Weight, rows, columns)
	if math.IsNaN(c.Matthews) {
		c.Undefined = append(c.Undefined, "Matthews' correlation: truth or prediction is always one class")
	}
}

func matthews(right, all float64, rows, columns []float64) float64 {
	var both, truth, predicted float64
	for k := range rows {
		both += rows[k] * columns[k]
		truth += rows[k] * rows[k]
		predicted += columns[k] * columns[k]
	}
	return (right*all - both) / math.Sqrt((all*all-predicted)*(all*all-truth))
}
