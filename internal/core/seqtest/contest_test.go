package seqtest

import (
	"math/rand/v2"
	"testing"
)

// watched looks at a contest every second and says whether its interval ever left a difference out, and when it
// decided that the difference is above 0, or below, or within the margin either way.
func watched(r *rand.Rand, seconds int, margin, truth, alpha float64, p func(s int) float64) (wrong bool, decided int) {
	c := NewContest(margin)
	for s := range seconds {
		a := p(s)
		n, m := uint64(60+r.IntN(120)), uint64(60+r.IntN(120))
		c.Observe(Block{
			IncumbentRequests: n, IncumbentFailed: binomial(r, n, a),
			CandidateRequests: m, CandidateFailed: binomial(r, m, a+truth),
		})
		low, high := c.Interval(alpha)
		wrong = wrong || low > truth || high < truth
		if decided == 0 && (low >= 0 || high <= 0 || (low >= -margin && high <= margin)) {
			decided = s + 1
		}
	}
	return wrong, decided
}

// However often one looks, the interval leaves the true difference out as seldom as it promises, also where the rates
// swing with the day; and it decides.
func TestAContestKeepsItsPromise(t *testing.T) {
	const rounds, seconds, alpha = 24, 160, 0.1
	for name, c := range map[string]struct {
		margin, truth float64
		rate          func(s int) float64
		decides       bool
	}{
		"the same":            {0.02, 0, func(int) float64 { return 0.05 }, true},
		"the same, by swings": {0.02, 0, func(s int) float64 { return 0.05 + 0.04*float64(s/60%2) }, true},
		"worse":               {0.02, 0.03, func(int) float64 { return 0.05 }, true},
		"better":              {0.02, -0.03, func(int) float64 { return 0.08 }, true},
		"between the grid":    {0.02, 0.0037, func(int) float64 { return 0.3 }, false},
		"never failing":       {0.02, 0, func(int) float64 { return 0 }, true},
	} {
		r := rand.New(rand.NewPCG(7, 11))
		left, decided := 0, 0
		for range rounds {
			wrong, at := watched(r, seconds, c.margin, c.truth, alpha, c.rate)
			if wrong {
				left++
			}
			if at > 0 {
				decided++
			}
		}
		// Beyond 7 of 24 an interval of 90 % comes with a chance of less than one in a hundred.
		if left > 7 || (c.decides && decided < rounds*9/10) {
			t.Errorf("%s: left out in %d of %d, decided in %d", name, left, rounds, decided)
		}
	}
}
