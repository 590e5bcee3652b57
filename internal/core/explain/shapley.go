// Package explain says which inputs moved a prediction, whatever model gave it: Shapley values by sampling (Strumbelj
// and Kononenko 2014), each with how sure it is. It asks nobody: it says which rows are to be asked, and reads the
// answers.
package explain

import (
	"math"
	"math/rand/v2"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

const (
	// UsualPairs is how many pairs of orders are drawn where nothing is said, MostPairs at most, LeastPairs at least.
	UsualPairs = 100
	MostPairs  = 2000
	LeastPairs = 10
	// confidence is that of the errors.
	confidence = 0.95
)

// Row is one that is to be asked: the inputs that Own names have the values that are explained, the others those of the
// background with that number.
type Row struct {
	Background int
	Own        []bool
}

// order is one order of the inputs, the same for the same number.
func order(inputs, pair int) []int {
	return rand.New(rand.NewPCG(12, uint64(pair))).Perm(inputs)
}

// Rows are those that are asked to explain a prediction by so many inputs: for each pair, one background and one order,
// in which the inputs take their own values one after the other, and the same order backwards, which keeps the error
// small. Shapley reads the answers in the same order. There are 2·inputs rows for each pair.
func Rows(inputs, pairs int) []Row {
	out := make([]Row, 0, 2*inputs*pairs)
	for pair := range pairs {
		o := order(inputs, pair)
		own := make([]bool, inputs)
		add := func() { out = append(out, Row{pair, append([]bool(nil), own...)}) }
		add()
		for _, i := range o {
			own[i] = true
			add()
		}
		clear(own)
		for k := inputs - 1; k > 0; k-- { // both ends are known
			own[o[k]] = true
			add()
		}
	}
	return out
}

// Moved is by how much an input moved a prediction.
type Moved struct {
	// By is in the unit of the output; Error is half the width of its interval of 95 %.
	By, Error float64
}

// Explanation is of one prediction: Base and what each input moved add up to Value.
type Explanation struct {
	// Base is the mean prediction for the background, with BaseError as half its interval; Value is what is explained.
	Base, BaseError, Value float64
	Inputs                 []Moved
}

// Shapley reads the predictions for Rows. They must be as many as those.
func Shapley(inputs, pairs int, f []float64) Explanation {
	samples := make([][]float64, inputs)
	base := make([]float64, pairs)
	e := Explanation{Inputs: make([]Moved, inputs)}
	for i := range samples {
		samples[i] = make([]float64, pairs)
	}
	for pair := range pairs {
		at := f[2*inputs*pair:]
		o := order(inputs, pair)
		base[pair], e.Value = at[0], at[inputs]
		for k, i := range o {
			samples[i][pair] = (at[k+1] - at[k]) / 2
		}
		last := at[0]
		for k := inputs - 1; k >= 0; k-- {
			next := at[inputs] // with the first of the order, all have their own values
			if k > 0 {
				next = at[inputs+inputs-k]
			}
			samples[o[k]][pair] += (next - last) / 2
			last = next
		}
	}
	for i, x := range samples {
		e.Inputs[i] = Moved{stat.Mean(x, nil), halfOf(x)}
	}
	e.Base, e.BaseError = stat.Mean(base, nil), halfOf(base)
	return e
}

// halfOf is half the width of the interval of 95 % of a mean. Contributions are seldom normal: most are small and a few
// large, which makes Student's interval too narrow. The quantile is corrected for the skewness and kurtosis that the
// numbers have (Hall 1992, The Bootstrap and Edgeworth Expansion, section 2.6), to at most twice as wide.
func halfOf(x []float64) float64 {
	n := float64(len(x))
	if n < 2 {
		return math.Inf(1)
	}
	deviation := stat.StdDev(x, nil)
	if deviation == 0 {
		return 0
	}
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}.Quantile(0.5 + confidence/2)
	if n >= LeastPairs {
		skew, tails := stat.Skew(x, nil), stat.ExKurtosis(x, nil)
		z2 := t * t
		wider := t * (skew*skew*(z2*z2+2*z2-3)/18 - tails*(z2-3)/12) / n
		t = math.Min(math.Max(t, t+wider), 2*t)
	}
	return t * deviation / math.Sqrt(n)
}
