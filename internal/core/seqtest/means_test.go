package seqtest

import (
	"math"
	"math/rand/v2"
	"testing"
)

// An interval holds the true difference at every moment, as often as it says, and comes to a decision.
func TestAMeanContestKeepsItsPromise(t *testing.T) {
	const rounds, pairs, alpha, margin = 40, 3000, 0.1, 0.25
	for name, c := range map[string]struct {
		truth     float64
		decides   func(low, high float64) bool
		deviation func(i int) float64
	}{
		"the same": {
			0, func(l, h float64) bool { return l >= -margin && h <= margin },
			func(int) float64 { return 1 },
		},
		"worse":  {0.6, func(l, _ float64) bool { return l >= 0 }, func(int) float64 { return 1 }},
		"better": {-0.6, func(_, h float64) bool { return h <= 0 }, func(int) float64 { return 1 }},
		"more restless later": {
			0.6, func(l, _ float64) bool { return l >= 0 },
			func(i int) float64 { return 1 + float64(i/1500) },
		},
	} {
		r := rand.New(rand.NewPCG(3, 5))
		left, decided := 0, 0
		for range rounds {
			contest := NewMeanContest(10, 4, margin)
			out, done := false, false
			for i := range pairs {
				level := 10 + math.Sin(float64(i)/100)
				draw := func(n int, more float64) (values []float64) {
					for range n {
						values = append(values, level+more+c.deviation(i)*r.NormFloat64())
					}
					return values
				}
				contest.Observe(draw(2, 0), draw(1, c.truth))
				if i%10 == 0 {
					low, high := contest.Interval(alpha)
					out = out || c.truth < low || c.truth > high
					done = done || c.decides(low, high)
				}
			}
			if out {
				left++
			}
			if done {
				decided++
			}
		}
		// Beyond 10 of 40 an interval of 90 % comes with a chance of less than one in two hundred.
		if left > 10 || decided < rounds*9/10 {
			t.Errorf("%s: left out in %d of %d, decided in %d", name, left, rounds, decided)
		}
	}
	c := NewMeanContest(0, 1, 0.1)
	if low, high := c.Interval(0.05); !math.IsInf(low, -1) || !math.IsInf(high, 1) {
		t.Errorf("before anything is known the difference is from %v to %v", low, high)
	}
	copied := c.Clone()
	c.Observe([]float64{0}, []float64{1})
	if copied.Above[0].LogE() != 0 {
		t.Error("a copy moved on with the first")
	}
}
