package compare

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
)

// told are values of both versions in some strata; the law of a stratum is handed its number.
func told(signal string, higher bool, strata int, n func(i int) (incumbent, candidate int),
	law func(r *rand.Rand, i int, candidate bool) float64, seed uint64,
) Values {
	r := rand.New(rand.NewPCG(seed, 17))
	v := Values{Signal: signal, Unit: "EUR", HigherIsBetter: higher}
	for i := range strata {
		var s ValueStratum
		a, b := n(i)
		for range a {
			s.Incumbent.Add(law(r, i, false))
		}
		for range b {
			s.Candidate.Add(law(r, i, true))
		}
		v.Strata = append(v.Strata, s)
	}
	return v
}

func evenly(n, m int) func(int) (int, int) { return func(int) (int, int) { return n, m } }

// apart is a law whose candidate is further by so much.
func apart(by float64) func(*rand.Rand, int, bool) float64 {
	return func(r *rand.Rand, _ int, candidate bool) float64 {
		if candidate {
			return 10 + by + r.NormFloat64()
		}
		return 10 + r.NormFloat64()
	}
}

// mistakes is a law of wrong answers.
func mistakes(p, q float64) func(*rand.Rand, int, bool) float64 {
	return func(r *rand.Rand, _ int, candidate bool) float64 {
		if share := map[bool]float64{false: p, true: q}[candidate]; r.Float64() < share {
			return 1
		}
		return 0
	}
}

// cost are costs of which the candidate's are higher by so much, state answers of which shares are wrong.
func cost(strata, n, m int, more float64) Values {
	return told("custom.cost", false, strata, evenly(n, m), apart(more), 1)
}

func state(strata, n, m int, p, q float64) Values {
	return told("accuracy.state", false, strata, evenly(n, m), mistakes(p, q), 1)
}

func TestValuesInVerdicts(t *testing.T) {
	for name, c := range map[string]struct {
		values Values
		want   Verdict
		says   string
	}{
		"dearer":        {cost(30, 40, 20, 1), Worse, "EUR higher, which is worse"},
		"cheaper":       {cost(30, 40, 20, -1), Better, "EUR lower, which is better"},
		"alike":         {cost(60, 40, 40, 0), Same, "no difference that matters"},
		"a little more": {cost(99, 90, 90, 0.2), WorseWithin, "less than the 0.5"},
		"too few":       {cost(3, 20, 3, 5), NotEnough, "cost is known of 60 answers of the incumbent and 9 of the"},
		"earns more":    {told("custom.earned", true, 30, evenly(40, 20), apart(1), 1), Better, "which is better"},
		"earns less":    {told("custom.earned", true, 30, evenly(40, 20), apart(-1), 1), Worse, "which is worse"},
		"further off":   {told("mae.demand", false, 30, evenly(40, 20), apart(1), 1), Worse, "The error of demand is"},
		"not in the same minutes": {
			told("custom.cost", false, 60, func(i int) (int, int) { return 40 * (i % 2), 40 - 40*(i%2) }, apart(1), 1),
			Worse, "higher",
		},
		"wrong as often":   {state(60, 200, 200, 0.05, 0.05), Same, "about state"},
		"wrong more often": {state(60, 40, 20, 0.05, 0.2), Worse, "Right about state less often, by 1"},
		"right more often": {state(60, 40, 20, 0.2, 0.05), Better, "Right about state more often, by 1"},
		"hardly known":     {state(1, 30, 5, 0.2, 0.9), NotEnough, "The truth of state is known"},
	} {
		r := c.values.row(0.95)
		if r.Verdict != c.want || !strings.Contains(r.Sentence, c.says) {
			t.Errorf("%s: %s, %q; want %s, %q", name, r.Verdict, r.Sentence, c.want, c.says)
		}
	}
	r := state(60, 40, 20, 0.05, 0.2)
	if row := r.row(0.95); row.Unit != "share" || *row.Incumbent < 0.93 || *row.Candidate > 0.85 {
		t.Errorf("shares of those that were right: %+v", row)
	}
}

// The intervals hold what is true as often as they say, whatever the day does and however the shares change with it.
func TestIntervalsOfMeansHold(t *testing.T) {
	day := func(r *rand.Rand, i int, candidate bool) float64 {
		x := 10 + 5*math.Sin(float64(i)/10) + r.NormFloat64()
		if candidate {
			x += 0.3
		}
		return x
	}
	// The candidate's share grows with the level: pooled, it would seem to differ by far more.
	shares := func(i int) (int, int) {
		if math.Sin(float64(i)/10) > 0 {
			return 3, 12
		}
		return 20, 2
	}
	// A level of its own for each minute and version widens the differences of minutes beyond what values tell.
	shaken := func(seed uint64) func(*rand.Rand, int, bool) float64 {
		return func(r *rand.Rand, i int, candidate bool) float64 {
			side := uint64(0)
			if candidate {
				side = 1
			}
			own := rand.New(rand.NewPCG(seed, uint64(2*i)+side))
			return day(r, i, candidate) + own.NormFloat64()
		}
	}
	for name, c := range map[string]struct {
		law func(seed uint64) func(*rand.Rand, int, bool) float64
	}{
		"independent values":        {func(uint64) func(*rand.Rand, int, bool) float64 { return day }},
		"minutes of their own kind": {shaken},
	} {
		held, pooled := 0, 0
		const runs = 300
		for seed := range uint64(runs) {
			v := told("custom.cost", false, 120, shares, c.law(seed), seed)
			row := v.row(0.95)
			if *row.Low <= 0.3 && 0.3 <= *row.High {
				held++
			}
			var whole ValueStratum
			for i := range v.Strata {
				whole.Incumbent.Merge(&v.Strata[i].Incumbent)
				whole.Candidate.Merge(&v.Strata[i].Candidate)
			}
			if whole.Candidate.Mean-whole.Incumbent.Mean > 2 {
				pooled++
			}
		}
		if held < runs*92/100 {
			t.Errorf("%s: %d of %d intervals of 95 %% held 0.3", name, held, runs)
		}
		if pooled < runs {
			t.Errorf("%s: pooled, %d of %d would be misleading: the story is too mild", name, pooled, runs)
		}
	}
}
