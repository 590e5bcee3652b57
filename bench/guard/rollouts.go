package main

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/span"
)

// ending is how one simulated rollout ended.
type ending struct {
	phase rollout.Phase
	held  bool
	// reached is set when the candidate ever had everything.
	reached bool
	// seconds is how long it took, exposed how many requests the candidate answered, bad how many of
	// them failed.
	seconds, exposed, bad float64
}

// usualFailing is the rate of failure of main.
const usualFailing = 0.01

// plans are those that are simulated: their guard allows twice the failures or one point more.
func plans() []rollout.Plan {
	guards := []guard.Guard{{Signal: guard.ErrorRate, Ratio: 2, Margin: 0.01}}
	seconds := func(n int) span.Duration { return span.Duration(time.Duration(n) * time.Second) }
	all := []rollout.Plan{
		{
			Name: "canary", Kind: rollout.Canary, Guards: guards,
			Steps: []rollout.PlanStep{
				{Share: 500, Time: seconds(10), Requests: 100},
				{Share: 2500, Time: seconds(10), Requests: 100},
				{Share: 5000, Time: seconds(10), Requests: 100},
			},
			Bake: rollout.Bake{Time: seconds(60)},
		},
		{Name: "twin", Kind: rollout.BlueGreen, Guards: guards, Warm: 1, Bake: rollout.Bake{Time: seconds(120)}},
	}
	for i := range all {
		all[i].Patience = seconds(1800)
		all[i].Complete()
		if err := all[i].Check(); err != nil {
			panic(err)
		}
	}
	return all
}

// rollouts simulates whole rollouts, of good and of bad candidates.
func rollouts(trials, _ int) {
	trials = max(1, trials/2)
	for _, p := range plans() {
		for _, t := range traffics {
			for _, c := range []struct {
				name    string
				failing float64 // a share more than main's
			}{
				{"as good", 0},
				{"1 point worse, as allowed", 0.01},
				{"3 points worse", 0.03},
				{"10 points worse", 0.1},
				{"half fails", 0.5},
			} {
				ends := many(trials, func(r *rand.Rand) ending { return play(r, p, t, c.failing) })
				tell(p, t, c.name, c.failing, ends)
			}
		}
	}
}

// play plays one rollout by seconds.
func play(r *rand.Rand, p rollout.Plan, t traffic, worse float64) (out ending) {
	now := time.Date(2026, 1, 12, 9, 0, 0, 0, time.UTC)
	o := rollout.Rollout{
		ID: "R-1", Endpoint: "e", Incumbent: "m@1", Candidate: "m@2", Plan: p, State: rollout.Start(now),
	}
	seen := rollout.Seen{
		Ready: true, CandidateHealthy: 1, IncumbentHealthy: 1, Split: 1, Warmed: p.Warm, PairSince: now,
	}
	var state guard.State
	var before sketch.Counts // what main did in its last hour
	var day []sketch.Counts
	for s := -3600; s < 0; s++ {
		n, failing := t.second(r, s)
		did := second(r, n, failing)
		before, day = before.Plus(did), append(day, did)
	}
	parts := guard.Parts(day)
	pair := guard.TrialPair{Incumbent: "m@1", Candidate: "m@2", Begun: 2}
	var main, candidate sketch.Counts
	for s := 0; s < 7200 && !o.Phase.Over(); s++ {
		now = now.Add(time.Second)
		if share := float64(o.Share) / 10_000; share > 0 {
			n, failing := t.second(r, s)
			mine := second(r, n*share, math.Min(1, failing+worse))
			candidate = candidate.Plus(mine)
			if share < 1 {
				main = main.Plus(second(r, n*(1-share), failing))
			}
			out.exposed += float64(mine.Requests)
			out.bad += float64(mine.Failed())
			e := guard.Evidence{pair.Key(): {
				Incumbent: guard.Lane{Counts: main}, Candidate: guard.Lane{Counts: candidate}, Day: parts,
			}}
			var actions []guard.Action
			state, actions = guard.Step(p.Terms(), seen.Split, []guard.TrialPair{pair}, state, e, now)
			seen.Readings, seen.Actions = state.Trials[0].Readings, actions
			seen.Candidate, seen.Incumbent = candidate, main
		}
		next, d := rollout.Step(o, seen, now)
		if d != nil && next.Share != o.Share {
			seen.Split++
			next.Split = seen.Split
			if next.Share == 10_000 {
				pair = guard.TrialPair{Incumbent: "m@1", Candidate: "m@2", Begun: seen.Split, After: true}
				main, candidate = before.Plus(main), sketch.Counts{}
				seen.Candidate, seen.Incumbent, seen.PairSince, seen.Readings = candidate, main, now, nil
				out.reached = true
			}
		}
		o.State, out.seconds = next, float64(s+1)
		if o.Held != nil {
			out.held = true
			break
		}
	}
	out.phase = o.Phase
	return out
}

// second is what a lane did in a second.
func second(r *rand.Rand, rate, failing float64) sketch.Counts {
	n := poisson(r, rate)
	return sketch.Counts{Requests: n, ServerErrors: binomial(r, n, failing)}
}

// tell writes how rollouts ended.
func tell(p rollout.Plan, t traffic, name string, worse float64, ends []ending) {
	var back, finished, reached, held int
	var took, exposed, bad []float64
	for _, e := range ends {
		switch {
		case e.held:
			held++
		case e.phase == rollout.RolledBack:
			back++
			exposed, bad = append(exposed, e.exposed), append(bad, e.bad)
		case e.phase == rollout.Finished:
			finished++
			took = append(took, e.seconds)
		}
		if e.reached {
			reached++
		}
	}
	n := len(ends)
	fmt.Printf("%-7s %-9s %-27s rolled back %s, finished %s, held %s, had everything %s", p.Name, t.name, name,
		share(back, n), share(finished, n), share(held, n), share(reached, n))
	if len(took) > 0 {
		_, text := mean(took)
		fmt.Printf(", took %s s", text)
	}
	if back > n/2 {
		m, text := mean(exposed)
		_, failed := mean(bad)
		fmt.Printf(", exposed %s requests, %s failed", text, failed)
		if len(p.Steps) > 0 {
			line := seqtest.Line{Slope: 2}
			bound := line.Bound(usualFailing, usualFailing+worse, float64(p.Steps[0].Share)/10_000, p.Alpha)
			fmt.Printf(" (%.2f times the bound)", m/bound)
		}
	}
	fmt.Println()
}
