package interval

import (
	"math"
	"math/rand/v2"
	"sort"
	"testing"
)

func TestNewcombeAgainstPublishedExamples(t *testing.T) {
	// Newcombe 1998, table II, method 10: 56/70 − 48/80 and its neighbours.
	cases := []struct {
		k1, n1, k2, n2 float64
		low, high      float64
	}{
		{48, 80, 56, 70, 0.0524, 0.3339},
		{3, 10, 9, 10, 0.1705, 0.8090},
		{0, 10, 10, 10, 0.6075, 1.0000},
	}
	for _, c := range cases {
		got := Newcombe(c.k1, c.n1, c.k2, c.n2, 0.95)
		if math.Abs(got.Low-c.low) > 5e-4 || math.Abs(got.High-c.high) > 5e-4 {
			t.Errorf("%v/%v against %v/%v: got %.4f to %.4f, want %.4f to %.4f", c.k2, c.n2, c.k1, c.n1, got.Low,
				got.High, c.low, c.high)
		}
	}
	if got := Newcombe(0, 0, 1, 5, 0.95); got.Low != -1 || got.High != 1 {
		t.Errorf("nothing seen must bound nothing, got %v", got)
	}
}

func TestQuantileRanksCover(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	const n, rounds = 400, 3000
	for _, q := range []float64{0.5, 0.9, 0.95} {
		low, high := QuantileRanks(n, q, 0.95)
		truth := -math.Log(1 - q) // of the unit exponential
		hit := 0
		for range rounds {
			x := make([]float64, n)
			for i := range x {
				x[i] = r.ExpFloat64()
			}
			sort.Float64s(x)
			if x[low-1] <= truth && truth <= x[high-1] {
				hit++
			}
		}
		if share := float64(hit) / rounds; share < 0.94 {
			t.Errorf("q=%v: ranks %d..%d cover %.3f of the time, want at least 0.95", q, low, high, share)
		}
	}
}

func TestQuantileRanksSayWhenTheyCannotBound(t *testing.T) {
	if low, high := QuantileRanks(100, 0.99, 0.95); high != 101 || low == 0 {
		t.Errorf("100 values cannot bound p99 from above: got %d..%d", low, high)
	}
	if low, high := QuantileRanks(2, 0.5, 0.95); low != 0 || high != 3 {
		t.Errorf("two values bound no median: got %d..%d", low, high)
	}
}

func TestRatio(t *testing.T) {
	same := Ratio(10, Interval{9, 11}, 10, Interval{9, 11})
	if same.Low > 1 || same.High < 1 || math.Abs(same.Low*same.High-1) > 0.02 {
		t.Errorf("equal sides give %v, want it around 1", same)
	}
	twice := Ratio(10, Interval{9.9, 10.1}, 20, Interval{19.8, 20.2})
	if twice.Low < 1.9 || twice.High > 2.1 {
		t.Errorf("got %v, want close to 2", twice)
	}
	if open := Ratio(10, Interval{9, 11}, 20, Interval{15, math.Inf(1)}); !math.IsInf(open.High, 1) || open.Low < 1 {
		t.Errorf("an open end must stay open and only that end: %v", open)
	}
}
