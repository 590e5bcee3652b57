// Command guard measures the error guard by simulation: how soon it notices harm, beside
// Wald's test that knows both rates, and how often it rolls back a candidate that is
// exactly as bad as allowed.
package main

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"slices"

	"innerladder/internal/core/seqtest"

	"gonum.org/v1/gonum/stat/distuv"
)

func main() {
	runs := flag.Int("runs", 400, "`N` runs of each case")
	hours := flag.Int("hours", 1, "`N` hours that a harmless trial is watched, second by second")
	flag.Parse()
	r := rand.New(rand.NewPCG(2026, 11))
	const perSecond, share = 200.0, 0.1

	fmt.Println("harm: requests to the trial until the guard fires, α = 0.0005 (two guards share 0.001), 200 " +
		"requests a second, 10 % on trial")
	fmt.Printf("%-10s %-10s %-8s %10s %10s %14s %8s %8s\n", "main", "trial", "margin", "mean", "90 % by", "Wald's test",
		"ratio", "seconds")
	for _, c := range []struct{ main, trial, margin float64 }{
		{0.001, 0.2, 0},
		{0.001, 0.2, 0.005},
		{0.001, 0.05, 0.005},
		{0.01, 0.05, 0.005},
		{0.01, 0.03, 0},
		{0.01, 0.03, 0.005},
		{0.05, 0.08, 0.005},
	} {
		var needed []float64
		for range *runs {
			needed = append(needed, float64(watch(r, c.main, c.trial, c.margin, 0.0005, perSecond, share, 24*3600)))
		}
		slices.Sort(needed)
		mean := 0.0
		for _, n := range needed {
			mean += n / float64(len(needed))
		}
		wald := seqtest.SequentialRatio(c.main+c.margin, c.trial, 0.0005)
		fmt.Printf("%-10v %-10v %-8v %10.0f %10.0f %14.0f %8.1f %8.1f\n", c.main, c.trial, c.margin, mean,
			needed[len(needed)*9/10], wald, mean/wald, mean/perSecond/share)
	}

	fmt.Printf("\nno harm: share of trials rolled back within %d h, α = 0.05 so that it can be seen\n", *hours)
	for _, c := range []struct{ main, trial, margin float64 }{
		{0.01, 0.01, 0},
		{0.001, 0.001, 0},
		{0.2, 0.2, 0},
		{0.01, 0.015, 0.005},
		{0.0, 0.005, 0.005},
	} {
		fired := 0
		for range *runs {
			if watch(r, c.main, c.trial, c.margin, 0.05, perSecond, share, *hours*3600) > 0 {
				fired++
			}
		}
		fmt.Printf("main %v, trial %v, margin %v: %.4f (at most 0.05)\n", c.main, c.trial, c.margin,
			float64(fired)/float64(*runs))
	}
}

// watch returns how many requests the trial had answered when the guard fired, 0 when it
// did not.
func watch(r *rand.Rand, main, trial, margin, alpha, perSecond, share float64, seconds int) uint64 {
	g := seqtest.Rate{Margin: margin}
	var seen uint64
	draw := func(rate float64) uint64 { return uint64(distuv.Poisson{Lambda: rate, Src: r}.Rand()) }
	fail := func(n uint64, p float64) uint64 {
		if n == 0 || p == 0 {
			return 0
		}
		return uint64(distuv.Binomial{N: float64(n), P: p, Src: r}.Rand())
	}
	for range seconds {
		i, c := draw(perSecond*(1-share)), draw(perSecond*share)
		seen += c
		g.Observe(seqtest.Block{
			IncumbentRequests: i, IncumbentFailed: fail(i, main), CandidateRequests: c,
			CandidateFailed: fail(c, trial),
		})
		if g.Fires(alpha) {
			return seen
		}
	}
	return 0
}
