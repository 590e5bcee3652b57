package explain

import (
	"math"
	"math/rand/v2"
	"testing"
)

// interacting is a function of eight inputs in which they work together.
func interacting(x []float64) float64 {
	y := 2*x[0] - x[1] + x[2]*x[3] + math.Max(x[4], x[5])
	if x[6] > 0 {
		y += 3 * x[7] * x[0]
	}
	return y
}

// exactly are the Shapley values by all coalitions, over a finite background (Shapley 1953).
func exactly(f func([]float64) float64, x []float64, background [][]float64) []float64 {
	n := len(x)
	factorial := func(k int) float64 { return math.Gamma(float64(k) + 1) }
	out := make([]float64, n)
	row := make([]float64, n)
	for _, z := range background {
		value := make([]float64, 1<<n)
		for s := range value {
			for i := range row {
				if row[i] = z[i]; s&(1<<i) != 0 {
					row[i] = x[i]
				}
			}
			value[s] = f(row)
		}
		for i := range out {
			for s := range value {
				if s&(1<<i) != 0 {
					continue
				}
				size := 0
				for k := range n {
					size += s >> k & 1
				}
				weight := factorial(size) * factorial(n-size-1) / factorial(n)
				out[i] += weight * (value[s|1<<i] - value[s]) / float64(len(background))
			}
		}
	}
	return out
}

// The exact values lie within the stated errors in 95 of 100 cases, and all adds up.
func TestExactValuesLieWithinTheErrors(t *testing.T) {
	const inputs, pairs, rounds = 8, 60, 300
	r := rand.New(rand.NewPCG(4, 2))
	background := make([][]float64, 32)
	for k := range background {
		for range inputs {
			background[k] = append(background[k], r.NormFloat64())
		}
	}
	within, total := 0, 0
	rows := Rows(inputs, pairs)
	if len(rows) != 2*inputs*pairs {
		t.Fatalf("%d rows", len(rows))
	}
	for range rounds {
		x := make([]float64, inputs)
		for i := range x {
			x[i] = 2 * r.NormFloat64()
		}
		drawn := make([]int, pairs)
		for k := range drawn {
			drawn[k] = r.IntN(len(background))
		}
		f := make([]float64, len(rows))
		row := make([]float64, inputs)
		for k, one := range rows {
			for i := range row {
				if row[i] = background[drawn[one.Background]][i]; one.Own[i] {
					row[i] = x[i]
				}
			}
			f[k] = interacting(row)
		}
		e := Shapley(inputs, pairs, f)
		sum := e.Base
		for i, want := range exactly(interacting, x, background) {
			m := e.Inputs[i]
			sum += m.By
			if total++; math.Abs(m.By-want) <= m.Error+1e-12 {
				within++
			}
		}
		if math.Abs(sum-interacting(x)) > 1e-9 || math.Abs(e.Value-interacting(x)) > 1e-12 {
			t.Fatalf("adds up to %v, not to %v", sum, interacting(x))
		}
	}
	if share := float64(within) / float64(total); share < 0.935 || share > 0.985 {
		t.Errorf("%d of %d exact values lie within the error", within, total)
	}
}

// Where the inputs do not work together, the values are known: each coefficient times the distance from the background.
func TestValuesOfASum(t *testing.T) {
	const inputs, pairs = 3, 20
	rows := Rows(inputs, pairs)
	f := make([]float64, len(rows))
	for k, r := range rows {
		for i, own := range r.Own {
			if own {
				f[k] += float64(i+1) * 10
			}
		}
	}
	e := Shapley(inputs, pairs, f)
	for i, m := range e.Inputs {
		if math.Abs(m.By-float64(i+1)*10) > 1e-12 || m.Error > 1e-9 {
			t.Errorf("%+v", m)
		}
	}
	if e.Base != 0 || e.Value != 60 || e.BaseError != 0 {
		t.Errorf("%+v", e)
	}
}
