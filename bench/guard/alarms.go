package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/stat/distuv"
)

// traffic is what reaches an endpoint in one second, of equal versions.
type traffic struct {
	name string
	// second gives the requests of the second, and how likely one fails.
	second func(r *rand.Rand, s int) (requests, failing float64)
	// retries is how many requests a caller makes who fails, all in that second; kept is set when such
	// callers keep their version.
	retries int
	kept    bool
}

var traffics = []traffic{
	{name: "steady", second: evenly(200, 0.01)},
	{name: "bursty", second: func(_ *rand.Rand, s int) (float64, float64) {
		if s%11 == 0 {
			return 2000, 0.03
		}
		return 40, 0.01
	}},
	{name: "seasonal", second: func(_ *rand.Rand, s int) (float64, float64) {
		light := math.Pow(math.Sin(float64(s)/60), 2)
		return 20 + 300*light, 0.001 + 0.05*light
	}},
	{name: "a caller retries, drawn", second: evenly(200, 0.002), retries: 10},
	{name: "a caller retries, keeps", second: evenly(200, 0.002), retries: 10, kept: true},
}

// evenly has as many requests in every second.
func evenly(requests, failing float64) func(*rand.Rand, int) (float64, float64) {
	return func(*rand.Rand, int) (float64, float64) { return requests, failing }
}

// block is one second of two equal lanes, and what of it repeats a failure.
func (t traffic) block(r *rand.Rand, s int, share float64) seqtest.Block {
	requests, failing := t.second(r, s)
	i, c := poisson(r, requests*(1-share)), poisson(r, requests*share)
	b := seqtest.Block{
		IncumbentRequests: i, IncumbentFailed: binomial(r, i, failing), CandidateRequests: c,
		CandidateFailed: binomial(r, c, failing),
	}
	if t.retries == 0 || r.Float64() > 0.1 {
		return b
	}
	n := uint64(t.retries)
	toTrial := binomial(r, n, share)
	if t.kept { // one caller on one lane: the first failure counts, the others are repeated
		n, toTrial = 1, binomial(r, 1, share)
	}
	b.CandidateRequests, b.CandidateFailed = b.CandidateRequests+toTrial, b.CandidateFailed+toTrial
	b.IncumbentRequests, b.IncumbentFailed = b.IncumbentRequests+n-toTrial, b.IncumbentFailed+n-toTrial
	return b
}

// falseAlarms counts how often each guard ends a trial of a version that is exactly as good: what is
// allowed is no difference, which is harder than any margin.
func falseAlarms(trials, seconds int) {
	fmt.Printf("equal versions rolled back in %d s, of %d trials (latency and predictions: a twentieth of that), with "+
		"no margin at all: at α = 0.05, and at 0.001\n", seconds, trials)
	for _, at := range []float64{0.01, 0.05, 0.5} {
		for _, t := range traffics {
			report("errors, "+t.name, at, many(trials, func(r *rand.Rand) float64 {
				e, most := seqtest.NewExcess(seqtest.Allowance{}), 0.0
				var bursts seqtest.Bursts
				for s := range seconds {
					b := t.block(r, s, at)
					e.Observe(b)
					bursts.Observe(b.IncumbentFailed, b.IncumbentRequests)
					most = max(most, e.LogE()-bursts.Worst.For(at/(1-at)))
				}
				return most
			}))
		}
		report("errors, both out for 5 s now and then", at, many(trials, func(r *rand.Rand) float64 {
			return outages(r, seconds, at)
		}))
		fewer := max(1, trials/20)
		report("p99 of latency, seasonal", at, many(fewer, func(r *rand.Rand) float64 {
			return watched(r, guard.Guard{Signal: guard.LatencyP99, Ratio: 1}, at, seconds, false, 0, 1)
		}))
		report("predictions, seasonal, margin 0.02", at, many(fewer, func(r *rand.Rand) float64 {
			return watched(r, guard.Guard{Signal: guard.PredictionDrift, Margin: 0.02}, at, seconds, false, 0, 1)
		}))
		report("predictions, 200 rows that come again", at, many(fewer, func(r *rand.Rand) float64 {
			return watched(r, guard.Guard{Signal: guard.PredictionDrift, Margin: 0.02}, at, seconds, true, 0, 1)
		}))
	}
}

// outages is the most evidence against a trial that is wholly out for five seconds once in 400, as main is,
// which has been seen for an hour before.
func outages(r *rand.Rand, seconds int, at float64) (most float64) {
	lane := func(rate float64) func() (failed, requests uint64) {
		left := 0
		return func() (uint64, uint64) {
			n := poisson(r, rate)
			if left--; left <= 0 && r.Float64() < 1.0/400 {
				left = 5
			}
			if left > 0 {
				return n, n
			}
			return binomial(r, n, 0.001), n
		}
	}
	main, trial := lane(200*(1-at)), lane(200*at)
	e := seqtest.NewExcess(guard.Allowed)
	var bursts seqtest.Bursts
	for s := range seconds + 3600 {
		k, n := main()
		bursts.Observe(k, n)
		if s < 3600 {
			continue
		}
		failed, requests := trial()
		e.Observe(seqtest.Block{
			IncumbentRequests: n, IncumbentFailed: k, CandidateRequests: requests, CandidateFailed: failed,
		})
		most = max(most, e.LogE()-bursts.Worst.For(at/(1-at)))
	}
	return most
}

// report prints how many of the trials came to the evidence that fires.
func report(name string, at float64, most []float64) {
	var often, seldom int
	for _, log := range most {
		if log >= -math.Log(0.05) {
			often++
		}
		if log >= -math.Log(0.001) {
			seldom++
		}
	}
	fmt.Printf("%-38s %4.0f %% on trial   %s   %s\n", name, 100*at, share(often, len(most)), share(seldom, len(most)))
}

// edges are bins at the twentieths of a normal law.
var edges = func() (out []float64) {
	for i := range 21 {
		out = append(out, distuv.UnitNormal.Quantile(min(0.9999, max(0.0001, float64(i)/20))))
	}
	return out
}()

// watched watches one guard over a trial and returns the most evidence that there was, as the logarithm of
// an e-value. The trial is shifted by so many standard deviations and slower by so many times.
func watched(r *rand.Rand, g guard.Guard, at float64, seconds int, again bool, shift, slower float64) (most float64) {
	const alpha = 0.001
	terms := guard.Terms{Alpha: alpha, Guards: []guard.Guard{g}}
	trials := []guard.TrialPair{{Incumbent: "m@1", Candidate: "m@2", Begun: 2}}
	lanes := [2]*laneOf{newLane(r, again), newLane(r, again)}
	var state guard.State
	for s := range seconds {
		season := math.Sin(float64(s) / 40)
		rate := 100 + 60*season
		lanes[0].second(r, poisson(r, rate*(1-at)), season, 0, 1)
		lanes[1].second(r, poisson(r, rate*at), season, shift, slower)
		state, _ = guard.Step(terms, 2, trials, state, guard.Evidence{
			trials[0].Key(): {Incumbent: lanes[0].Lane, Candidate: lanes[1].Lane},
		}, time.Time{})
		most = max(most, state.Trials[0].Readings[0].Progress*-math.Log(alpha))
	}
	return most
}

// laneOf is a lane that answers with normal predictions and log-normal latencies.
type laneOf struct {
	guard.Lane
	rows []float64
}

func newLane(r *rand.Rand, again bool) *laneOf {
	l := &laneOf{Lane: guard.Lane{
		Latency: &sketch.Quantiles{},
		Outputs: map[string]*sketch.Column{"y": sketch.NewColumn(sketch.Bins{Edges: edges})},
	}}
	for range 200 {
		if again {
			l.rows = append(l.rows, r.NormFloat64())
		}
	}
	return l
}

func (l *laneOf) second(r *rand.Rand, n uint64, season, shift, slower float64) {
	for range n {
		x := r.NormFloat64() + season/2
		if l.rows != nil {
			x = l.rows[r.IntN(len(l.rows))]
		}
		l.Outputs["y"].AddNumber(x + shift)
		l.Latency.Add(time.Duration(20e6 * math.Exp(0.4*r.NormFloat64()+0.3*season) * slower))
	}
	l.Counts.Requests += n
	l.Bodies, l.Rows = l.Bodies+n, l.Rows+n
	if l.Distinct += n; l.rows != nil {
		l.Distinct = min(l.Distinct, uint64(len(l.rows)))
	}
}
