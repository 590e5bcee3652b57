package explain

import (
	"cmp"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"
)

const (
	// MostPlaces is at how many values an input is looked at, MostLevels at how many levels.
	MostPlaces = 15
	MostLevels = 12
	// DependenceRows is of how many rows individual curves are found, and Shown how many of them are kept to be drawn.
	DependenceRows = 100
	Shown          = 20
	// middle is the share of individual curves that lies between low and high.
	middle = 0.8
)

// Places are the values at which an input is looked at: all of them where there are few, else quantiles of even shares
// from the least to the most. NaN is left out.
func Places(values []float64) []float64 {
	x := slices.DeleteFunc(slices.Clone(values), math.IsNaN)
	slices.Sort(x)
	different := slices.Compact(slices.Clone(x))
	if len(different) <= MostPlaces {
		return different
	}
	out := make([]float64, MostPlaces)
	for i := range out {
		out[i] = stat.Quantile(float64(i)/(MostPlaces-1), stat.Empirical, x, nil)
	}
	return slices.Compact(out)
}

// Levels are the levels at which an input is looked at, the most frequent first.
func Levels(values []string) []string {
	count := map[string]int{}
	for _, v := range values {
		count[v]++
	}
	var out []string
	for v := range count {
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b string) int { return cmp.Or(cmp.Compare(count[b], count[a]), cmp.Compare(a, b)) })
	return out[:min(len(out), MostLevels)]
}

// Dependence is how predictions go with an input when all else stays (partial dependence: Friedman 2001; individual
// curves: Goldstein, Kapelner, Bleich, Pitkin 2015). All have one number for each place.
type Dependence struct {
	// Mean is over all rows; between Low and High lie four fifths of the individual curves.
	Mean, Low, High []float64
	// Curves are individual ones, of the first rows.
	Curves [][]float64
}

// DependenceOf reads the predictions at each place, for the same rows in the same order. A row that lacks an answer at
// some place (NaN) is left out everywhere, so that the mean is of the same rows.
func DependenceOf(at [][]float64) Dependence {
	var d Dependence
	if len(at) == 0 {
		return d
	}
	var whole []int
	for row := range at[0] {
		if !slices.ContainsFunc(at, func(f []float64) bool { return math.IsNaN(f[row]) }) {
			whole = append(whole, row)
		}
	}
	if len(whole) == 0 {
		return d
	}
	d.Curves = make([][]float64, min(len(whole), Shown))
	for _, f := range at {
		x := make([]float64, len(whole))
		for k, row := range whole {
			x[k] = f[row]
			if k < len(d.Curves) {
				d.Curves[k] = append(d.Curves[k], f[row])
			}
		}
		d.Mean = append(d.Mean, stat.Mean(x, nil))
		slices.Sort(x)
		d.Low = append(d.Low, stat.Quantile((1-middle)/2, stat.Empirical, x, nil))
		d.High = append(d.High, stat.Quantile((1+middle)/2, stat.Empirical, x, nil))
	}
	return d
}
