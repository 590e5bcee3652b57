package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"

	"gonum.org/v1/gonum/stat/distuv"
)

// alpha is that of one guard of the default plan.
const alpha = 0.001 / 3

// harm counts how many requests are exposed until a guard fires, beside tests that know what is to come.
func harm(trials, _ int) {
	fmt.Println("\nharm: requests to the trial until a guard fires, at α = 0.001 / 3, and beside a test that knows " +
		"both rates and the margin; latency and predictions are looked at after every ten requests to the trial")
	allowed := guard.Allowed
	for _, at := range []float64{0.05, 0.5} {
		for _, c := range []struct{ main, trial float64 }{
			{0.01, 0.03}, {0.01, 0.05}, {0.001, 0.05}, {0.01, 0.5},
		} {
			for _, each := range []float64{1, 20} {
				needed := many(max(1, trials/10), func(r *rand.Rand) float64 {
					return errorsUntil(r, allowed, c.main, c.trial, at, each)
				})
				line := seqtest.Line{Slope: allowed.Ratio}
				if c.main*allowed.Ratio < c.main+allowed.Difference {
					line = seqtest.Line{Slope: 1, Offset: allowed.Difference}
				}
				bound := line.Bound(c.main, c.trial, at, alpha)
				m, text := mean(needed)
				fmt.Printf("errors %5.3f → %5.3f  %3.0f %% on trial, %2.0f requests a look  %16s   90 %% by %6.0f   "+
					"bound %6.1f   ratio %.2f\n", c.main, c.trial, 100*at, each, text, quantile(needed, 0.9), bound,
					m/bound)
			}
		}
	}
	for _, slower := range []float64{1.3, 1.5, 2} {
		for _, ratio := range []float64{1.1, 1.5} {
			if slower <= ratio {
				continue
			}
			g := guard.Guard{Signal: guard.LatencyP99, Ratio: ratio}
			needed := many(max(1, trials/100), func(r *rand.Rand) float64 { return rowsUntil(r, g, 0, slower) })
			// A test that knows main's p99 sees how many of the trial's answers are beyond what is allowed.
			beyond := 1 - distuv.UnitNormal.CDF((0.4*distuv.UnitNormal.Quantile(0.99)+math.Log(ratio/slower))/0.4)
			bound := seqtest.Line{Slope: 1}.Bound(0.01, beyond, 0.1, alpha)
			m, text := mean(needed)
			fmt.Printf("p99 %.1f × slower, %.1f × allowed  10 %% on trial  %16s   90 %% by %6.0f   bound %6.1f   "+
				"ratio %.2f\n", slower, ratio, text, quantile(needed, 0.9), bound, m/bound)
		}
	}
	for _, c := range []struct{ shift, margin float64 }{{0.25, 0.02}, {0.5, 0.02}, {0.5, 0.1}, {1, 0.1}} {
		g := guard.Guard{Signal: guard.PredictionDrift, Margin: c.margin}
		needed := many(max(1, trials/100), func(r *rand.Rand) float64 { return rowsUntil(r, g, c.shift, 1) })
		// Wald's test knows both laws and no margin; the other knows the best edge and the margin.
		wald := -math.Log(alpha) / (c.shift * c.shift / 2)
		best := math.Inf(1)
		for _, e := range edges {
			p, q := 1-distuv.UnitNormal.CDF(e), 1-distuv.UnitNormal.CDF(e-c.shift)
			if q > p+c.margin {
				best = min(best, seqtest.Line{Slope: 1, Offset: c.margin}.Bound(p, q, 0.1, alpha))
			}
		}
		m, text := mean(needed)
		fmt.Printf("predictions %.2f sd, %.2f allowed  10 %% on trial  %16s   90 %% by %6.0f   Wald %6.1f, "+
			"ratio %.2f   with the margin %6.1f, ratio %.2f\n", c.shift, c.margin, text,
			quantile(needed, 0.9), wald, m/wald, best, m/best)
	}
}

// errorsUntil is how many requests the trial had when the guard on errors fired, looked at after so many of
// them.
func errorsUntil(r *rand.Rand, a seqtest.Allowance, main, trial, at, each float64) float64 {
	e, seen := seqtest.NewExcess(a), 0.0
	for seen < 200_000 {
		i, c := poisson(r, each/at*(1-at)), poisson(r, each)
		seen += float64(c)
		e.Observe(seqtest.Block{
			IncumbentRequests: i, IncumbentFailed: binomial(r, i, main), CandidateRequests: c,
			CandidateFailed: binomial(r, c, trial),
		})
		if e.LogE() >= -math.Log(alpha) {
			break
		}
	}
	return seen
}

// rowsUntil is how many rows the trial had when a guard fired, looked at after each ten. The main lane had a
// while to be known.
func rowsUntil(r *rand.Rand, g guard.Guard, shift, slower float64) float64 {
	terms := guard.Terms{Alpha: alpha, Guards: []guard.Guard{g}}
	trials := []guard.TrialPair{{Incumbent: "m@1", Candidate: "m@2", Begun: 2}}
	lanes := [2]*laneOf{newLane(r, false), newLane(r, false)}
	lanes[0].second(r, 1000, 0, 0, 1)
	var state guard.State
	for lanes[1].Rows < 100_000 {
		lanes[0].second(r, 90, 0, 0, 1)
		lanes[1].second(r, 10, 0, shift, slower)
		var actions []guard.Action
		state, actions = guard.Step(terms, 2, trials, state, guard.Evidence{
			trials[0].Key(): {Incumbent: lanes[0].Lane, Candidate: lanes[1].Lane},
		}, time.Time{})
		if len(actions) > 0 {
			break
		}
	}
	return float64(lanes[1].Rows)
}
