package sketch

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"gonum.org/v1/gonum/stat"
)

// TestNumbers holds numbers that were summed up in parts, some of them stored between, against one pass over all.
func TestNumbers(t *testing.T) {
	laws := map[string]func(*rand.Rand) float64{
		"normal":               func(r *rand.Rand) float64 { return r.NormFloat64() },
		"far from zero":        func(r *rand.Rand) float64 { return 1e9 + r.NormFloat64() },
		"mostly nothing":       func(r *rand.Rand) float64 { return max(0, r.NormFloat64()-1) * 100 },
		"losses":               func(r *rand.Rand) float64 { return -math.Exp(r.NormFloat64()) },
		"all the same":         func(*rand.Rand) float64 { return 3.25 },
		"over many magnitudes": func(r *rand.Rand) float64 { return math.Exp(4 * r.NormFloat64()) },
	}
	for name, law := range laws {
		t.Run(name, func(t *testing.T) {
			r := rand.New(rand.NewPCG(7, 7))
			var whole []float64
			var sum Numbers
			for range 40 {
				var part Numbers
				for range r.IntN(200) {
					x := law(r)
					whole = append(whole, x)
					part.Add(x)
				}
				if err := sum.MergeBinary(part.AppendBinary(nil)); err != nil {
					t.Fatal(err)
				}
			}
			sum.Add(math.NaN())
			sum.Add(math.Inf(1))
			mean, variance := stat.MeanVariance(whole, nil)
			near := func(what string, got, want, scale float64) {
				t.Helper()
				if !(math.Abs(got-want) <= 1e-9*scale) {
					t.Errorf("%s is %v, want %v", what, got, want)
				}
			}
			if sum.N != uint64(len(whole)) {
				t.Fatalf("%d numbers, want %d", sum.N, len(whole))
			}
			near("the mean", sum.Mean, mean, math.Abs(mean)+math.Sqrt(variance))
			near("the variance", sum.Variance(), variance, variance+1e-30)
			near("the least", sum.Min, slices.Min(whole), 0)
			near("the greatest", sum.Max, slices.Max(whole), 0)
			slices.Sort(whole)
			for _, p := range []float64{0.01, 0.1, 0.5, 0.9, 0.99} {
				got := sum.Quantile(p)
				at := p * float64(len(whole)-1)
				low, high := whole[int(at)], whole[min(len(whole)-1, int(at)+1)]
				if got < low-RelativeError*math.Abs(low)-1e-12 || got > high+RelativeError*math.Abs(high)+1e-12 {
					t.Errorf("the %v-quantile is %v, want within 1 %% of %v … %v", p, got, low, high)
				}
			}
		})
	}
}

func TestNumbersThatAreBroken(t *testing.T) {
	var whole Numbers
	for i := range 100 {
		whole.Add(float64(i))
	}
	b := whole.AppendBinary(nil)
	for n := range 20 {
		var s Numbers
		if err := s.MergeBinary(b[:n]); err == nil {
			t.Errorf("the first %d bytes of %d were read as if they were all", n, len(b))
		}
	}
	if err := new(Numbers).MergeBinary(append([]byte{99}, b[1:]...)); err == nil {
		t.Error("an unknown form was read")
	}
}
