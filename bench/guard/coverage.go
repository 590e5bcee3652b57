package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"innerladder/internal/core/compare"
	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
)

// coverage counts how often the 95 % intervals of a comparison hold the truth where shares and traffic move.
func coverage(trials, _ int) {
	n := max(1, trials/10)
	fmt.Printf("\nintervals of a comparison that hold the truth, of %d days each: 95 %% are promised\n", n)
	signals := []string{"error_rate", "latency_p50", "latency_p95", "latency_p99"}
	for _, c := range []struct {
		name    string
		strata  int
		stepped bool
		worse   float64
		slower  float64
	}{
		{"alike, shares follow the day", 48, false, 0, 1},
		{"worse at every moment", 48, false, 0.01, 1.5},
		{"alike, shares raised by steps", 48, true, 0, 1},
		{"worse, shares raised by steps", 24, true, 0.02, 1.2},
		{"few strata", 6, true, 0.01, 1.5},
	} {
		held := many(n, func(r *rand.Rand) (in [4]bool) {
			got := compare.Compare(compare.Question{
				Incumbent: "m@1", Candidate: "m@2", Need: drift.DefaultNeed,
				Strata: movingDay(r, c.strata, 40_000/c.strata, c.stepped, c.worse, c.slower),
			})
			for i, signal := range signals {
				for _, row := range got.Rows {
					truth := c.slower
					if signal == "error_rate" {
						truth = c.worse
					}
					if row.Signal == signal {
						in[i] = (row.Low == nil || *row.Low <= truth) && (row.High == nil || truth <= *row.High)
					}
				}
			}
			return in
		})
		for i, signal := range signals {
			k := 0
			for _, in := range held {
				if in[i] {
					k++
				}
			}
			fmt.Printf("%-34s %2d strata  %-12s %s\n", c.name, c.strata, signal, share(k, n))
		}
	}
}

// movingDay is a day in which traffic, failures and latency follow the light; the candidate's share does too,
// or is raised by steps.
func movingDay(r *rand.Rand, strata, each int, stepped bool, worse, slower float64) []compare.Stratum {
	var out []compare.Stratum
	for i := range strata {
		light := math.Sin(math.Pi * float64(i) / float64(strata))
		share := 0.05 + 0.45*light
		if stepped {
			share = []float64{0.05, 0.1, 0.25, 0.5}[i*4/strata]
		}
		side := func(n, worse, slower float64) *sketch.Summary {
			s := &sketch.Summary{}
			for range poisson(r, n) {
				class := sketch.Answered
				if r.Float64() < 0.005+0.045*light+worse {
					class = sketch.ServerError
				}
				s.Traffic.Add(class, time.Duration(4e6*(1+2*light)*slower*math.Exp(0.3*r.NormFloat64())), 0)
			}
			return s
		}
		n := float64(each) * (0.4 + light)
		out = append(out, compare.Stratum{
			Incumbent: side(n*(1-share), 0, 1), Candidate: side(n*share, worse, slower),
		})
	}
	return out
}
