package evaluate

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"innerladder/internal/core/interval"
)

// resamples is how often rows are drawn anew for an interval.
const resamples = 400

// Estimate is a measure with its interval.
type Estimate struct {
	Value float64
	interval.Interval
}

// Measured finds a measure of rows by its value for given weights, such as the MAE of OfRegression.
type Measured func(weights []float64) float64

// Resampled is the interval of a measure of n rows: the rows are drawn anew many times (Efron 1979) with a
// seed of its own, so that the same rows give the same interval, and the interval leaves as much of what
// came out at either end. Draws in which the measure is undefined are left out; with less than half of them
// defined the interval is open. weights are nil where all count the same.
func Resampled(n int, weights []float64, confidence float64, of Measured) Estimate {
	plain := make([]float64, n)
	for i := range plain {
		plain[i] = weightOf(weights, i)
	}
	e := Estimate{Value: of(plain)}
	var found []float64
	redraw(n, 1, func(times []float64) {
		for i := range times {
			times[i] *= plain[i]
		}
		if x := of(times); !math.IsNaN(x) {
			found = append(found, x)
		}
	})
	e.Interval = middle(found, confidence)
	return e
}

// redraw draws n of n things anew, again and again, and hands on how often each was drawn.
func redraw(n int, seed uint64, each func(times []float64)) {
	r := rand.New(rand.NewPCG(seed, uint64(n)))
	times := make([]float64, n)
	for range resamples {
		clear(times)
		for range n {
			times[r.IntN(n)]++
		}
		each(times)
	}
}

// middle is the interval that leaves as much of what was found at either end; open where less than half of all draws
// found something.
func middle(found []float64, confidence float64) interval.Interval {
	if 2*len(found) < resamples {
		return interval.Interval{Low: math.Inf(-1), High: math.Inf(1)}
	}
	slices.Sort(found)
	tail := int((1 - confidence) / 2 * float64(len(found)))
	return interval.Interval{Low: found[tail], High: found[len(found)-1-tail]}
}

// Mean is the mean of n independent values, from their sum and that of their squares, with its interval.
func Mean(sum, squares, n, confidence float64) Estimate {
	mean := sum / n
	return Estimate{mean, interval.Mean(mean, squares/n-mean*mean, n, confidence)}
}

// Segment is one level, or one quarter, of a column, and how a measure of its rows compares with that of
// all.
type Segment struct {
	Column, Level string
	N             int
	Estimate
	// Worse is set when it is surely worse than all rows together: with a chance of at most 0.05 that any
	// of the segments is said to be so by chance.
	Worse bool
}

// Segments measures the rows of each level of each column, the worst first. columns have a level for each of
// the n rows; levels of fewer than least rows are left out. of measures some of the rows at a confidence,
// which is adjusted for how many segments are looked at (Bonferroni). It also gives the measure of all rows.
func Segments(n, least int, columns map[string][]string, higherIsBetter bool,
	of func(rows []int, confidence float64) Estimate,
) (all Estimate, segments []Segment, err error) {
	rows := map[[2]string][]int{}
	every := make([]int, n)
	for i := range every {
		every[i] = i
	}
	for name, levels := range columns {
		if len(levels) != n {
			return all, nil, fmt.Errorf("column %q has %d levels for %d rows", name, len(levels), n)
		}
		for i, level := range levels {
			rows[[2]string{name, level}] = append(rows[[2]string{name, level}], i)
		}
	}
	for key, of := range rows {
		if len(of) < least {
			delete(rows, key)
		}
	}
	all = of(every, 0.95)
	confidence := 1 - 0.05/float64(max(1, len(rows)))
	for key, some := range rows {
		s := Segment{Column: key[0], Level: key[1], N: len(some), Estimate: of(some, confidence)}
		s.Worse = s.Low > all.Value
		if higherIsBetter {
			s.Worse = s.High < all.Value
		}
		segments = append(segments, s)
	}
	slices.SortFunc(segments, func(a, b Segment) int {
		x, y := a.Value, b.Value
		if higherIsBetter {
			x, y = -x, -y
		}
		return cmp.Or(cmp.Compare(y, x), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Level, b.Level))
	})
	return all, segments, nil
}

// Quarters gives each number the quarter of the column that it lies in, as a level; one that is missing (NaN)
// is "missing". A column of few different numbers has fewer.
func Quarters(x []float64) []string {
	var sorted []float64
	for _, v := range x {
		if !math.IsNaN(v) {
			sorted = append(sorted, v)
		}
	}
	out := make([]string, len(x))
	slices.Sort(sorted)
	var cuts []float64
	for k := 1; k < 4 && len(sorted) > 0; k++ {
		if cut := sorted[k*len(sorted)/4]; cut > sorted[0] && (len(cuts) == 0 || cut > cuts[len(cuts)-1]) {
			cuts = append(cuts, cut+0) // of two zeros, the one without a sign
		}
	}
	for i, v := range x {
		if math.IsNaN(v) {
			out[i] = "missing"
			continue
		}
		k := 0
		for k < len(cuts) && v >= cuts[k] {
			k++
		}
		switch {
		case len(cuts) == 0:
			out[i] = "all"
		case k == 0:
			out[i] = fmt.Sprintf("below %.4g", cuts[0])
		case k == len(cuts):
			out[i] = fmt.Sprintf("%.4g and above", cuts[k-1])
		default:
			out[i] = fmt.Sprintf("%.4g to %.4g", cuts[k-1], cuts[k])
		}
	}
	return out
}
