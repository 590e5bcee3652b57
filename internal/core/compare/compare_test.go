package compare

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"
)

var bins = sketch.Bins{Edges: []float64{0, 1, 2, 3, 4, 5, 6, 7, 8}}

type behaviour struct {
	requests      int
	failing       float64
	typical       time.Duration
	spread, shift float64
	repeated      bool
}

func summary(r *rand.Rand, b behaviour) *sketch.Summary {
	s := &sketch.Summary{}
	col := sketch.NewColumn(bins)
	for i := range b.requests {
		class := sketch.Answered
		if r.Float64() < b.failing {
			class = sketch.ServerError
		}
		s.Traffic.Add(class, time.Duration(float64(b.typical)*math.Exp(b.spread*r.NormFloat64())), 0)
		s.Counts.Drawn++
		col.AddNumber(4 + b.shift + r.NormFloat64())
		hash := r.Uint64()
		if b.repeated {
			hash = uint64(i%2) * 0x9e3779b97f4a7c15
		}
		s.Content.Distinct.AddHash(hash)
	}
	s.Content.Outputs = map[string]*sketch.Column{"demand_mw": col}
	return s
}

// once compares what two did in one stratum.
func once(seed uint64, a, b behaviour) Comparison {
	r := rand.New(rand.NewPCG(seed, 1))
	return Compare(Question{
		Incumbent: "heat-demand@1", Candidate: "heat-demand@2", Need: drift.DefaultNeed,
		Strata: []Stratum{{Incumbent: summary(r, a), Candidate: summary(r, b)}},
	})
}

func TestCompare(t *testing.T) {
	base := behaviour{requests: 90000, failing: 0.001, typical: 8 * time.Millisecond, spread: 0.3}
	with := func(change func(*behaviour)) behaviour { b := base; b.requests = 60000; change(&b); return b }
	cases := []struct {
		name        string
		candidate   behaviour
		errors, p99 Verdict
		predictions drift.Verdict
		sentence    string
	}{
		{"just as good", with(func(*behaviour) {}), Same, Same, drift.Steady, "No difference in errors that matters"},
		{"fails", with(func(b *behaviour) { b.failing = 0.05 }), Worse, Same, drift.Steady, "More errors"},
		{"slow", with(func(b *behaviour) { b.typical *= 2 }), Same, Worse, drift.Steady, "Slower"},
		{"fast", with(func(b *behaviour) { b.typical /= 2 }), Same, Better, drift.Steady, "Faster"},
		{"biased", with(func(b *behaviour) { b.shift = 1 }), Same, Same, drift.Moved, "moved far"},
		{
			"hardly any", with(func(b *behaviour) { b.requests = 40 }), NotEnough, NotEnough, drift.NotEnough,
			"40 of 200 independent observations",
		},
		{
			"none", with(func(b *behaviour) { b.requests = 0 }), NotEnough, NotEnough, drift.NotEnough,
			"answered nothing",
		},
		{
			"the same two rows", with(func(b *behaviour) { b.shift = 1; b.repeated = true }), Same, Same,
			drift.NotEnough, "2 of 50 distinct inputs",
		},
	}
	for _, c := range cases {
		got := once(1, base, c.candidate)
		if len(got.Rows) != 5 || (c.candidate.requests > 0 && len(got.Predictions) != 1) {
			t.Fatalf("%s: %d rows, %d predictions", c.name, len(got.Rows), len(got.Predictions))
		}
		if got.Rows[0].Verdict != c.errors || got.Rows[4].Verdict != c.p99 ||
			(len(got.Predictions) > 0 && got.Predictions[0].Movement.Verdict != c.predictions) {
			t.Errorf("%s: errors %s, p99 %s, predictions %+v; %s", c.name, got.Rows[0].Verdict, got.Rows[4].Verdict,
				got.Predictions, got.Sentence)
		}
		if !strings.Contains(got.Sentence, c.sentence) {
			t.Errorf("%s: %q does not say %q", c.name, got.Sentence, c.sentence)
		}
		for _, r := range got.Rows {
			if r.Low != nil && (math.IsNaN(*r.Low) || *r.Low > r.Difference+1e-9) {
				t.Errorf("%s %s: the interval starts at %v, above %v", c.name, r.Signal, *r.Low, r.Difference)
			}
			if c.candidate.requests == 0 && (r.Incumbent != nil || r.Candidate != nil) {
				t.Errorf("%s %s: figures of nothing: %+v", c.name, r.Signal, r)
			}
		}
	}
}

// day is a day in hours or minutes: by night little traffic that is quick and seldom fails, by day much
// that is slow and often fails, and predictions that follow the hour. The share of the candidate is small
// by night and large by day, as when shares are raised step by step.
func day(r *rand.Rand, strata, perStratum int, worse, slower float64) []Stratum {
	var out []Stratum
	for i := range strata {
		light := math.Sin(math.Pi * float64(i) / float64(strata))
		share := 0.05 + 0.45*math.Round(light)
		of := func(n float64, worse, slower float64) *sketch.Summary {
			return summary(r, behaviour{
				requests: int(n), failing: 0.005 + 0.045*light + worse, spread: 0.3, shift: 2 * light,
				typical: time.Duration(float64(4*time.Millisecond) * (1 + 2*light) * slower),
			})
		}
		n := float64(perStratum) * (0.5 + light)
		main, trial := of(n*(1-share), 0, 1), of(n*share, worse, slower)
		out = append(out, Stratum{Incumbent: main, Candidate: trial})
	}
	return out
}

// Two versions that are alike at every moment once differed by "2.0 to 2.6 points more errors", were "2.1
// times slower" and "moved far" when shares grew with the day; one that was worse at every moment had
// "fewer errors" and was "faster".
func TestSharesThatGrowWithTheDay(t *testing.T) {
	q := Question{Incumbent: "m@1", Candidate: "m@2", Need: drift.DefaultNeed}
	for _, strata := range []int{48, 8} {
		q.Strata = day(rand.New(rand.NewPCG(6, 6)), strata, 96000/strata, 0, 1)
		got := Compare(q)
		for _, r := range got.Rows {
			if r.Verdict == Worse || r.Verdict == Better || *r.Low > *r.High {
				t.Errorf("%d strata, alike: %+v", strata, r)
			}
		}
		if m := got.Predictions[0].Movement; m.Verdict != drift.Steady || math.Abs(m.MeanShift) > 0.1 {
			t.Errorf("%d strata, alike: %+v", strata, m)
		}
		q.Strata = day(rand.New(rand.NewPCG(7, 7)), strata, 96000/strata, 0.01, 1.3)
		for _, r := range Compare(q).Rows {
			if !strings.HasPrefix(string(r.Verdict), "worse") {
				t.Errorf("%d strata, worse at every moment: %+v", strata, r)
			}
		}
		// And the other way round: the candidate has its share when nothing fails.
		for i := range q.Strata {
			q.Strata[i].Incumbent, q.Strata[i].Candidate = q.Strata[i].Candidate, q.Strata[i].Incumbent
		}
		for _, r := range Compare(q).Rows {
			if r.Verdict != Better && r.Verdict != NotEnough && r.Signal != "error_rate" {
				t.Errorf("%d strata, better at every moment: %+v", strata, r)
			}
		}
	}
}

// The intervals must hold what they promise where shares and traffic move; make bench counts it with more
// runs.
func TestIntervalsCoverWhereSharesMove(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for _, strata := range []int{6, 30} {
		hits, rounds := map[string]int{}, 150
		for range rounds {
			rows := Compare(Question{
				Incumbent: "m@1", Candidate: "m@2", Need: drift.DefaultNeed,
				Strata: day(r, strata, 12000/strata, 0.01, 1.5),
			}).Rows
			for signal, truth := range map[string]float64{"error_rate": 0.01, "latency_p50": 1.5, "latency_p95": 1.5} {
				for _, row := range rows {
					if row.Signal == signal && *row.Low <= truth && truth <= *row.High {
						hits[signal]++
					}
				}
			}
		}
		for signal, n := range hits {
			if share := float64(n) / float64(rounds); share < 0.88 {
				t.Errorf("%d strata: the truth of %s is inside %.3f of intervals", strata, signal, share)
			}
		}
	}
}

func TestWhatIsLeftOutIsSaidFirst(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	b := behaviour{requests: 500, typical: 1e6}
	away := &sketch.Summary{}
	away.Counts.Unavailable = 40
	got := Compare(Question{Incumbent: "m@1", Candidate: "m@2", Need: drift.DefaultNeed, Strata: []Stratum{
		{Incumbent: summary(r, b), Candidate: summary(r, b)},
		{Length: time.Hour, Incumbent: summary(r, b), Candidate: away},
		{Length: 2 * time.Minute, Incumbent: summary(r, b)},
		{Length: 2 * time.Hour, Candidate: summary(r, b)},
	}})
	want := "Left out: 1 h 2 min in which only m@1 answered (1000 requests); m@2 was to answer 40 requests then and " +
		"was not healthy. Left out: 2 h in which only m@2 answered (500 requests)."
	if !strings.HasPrefix(got.Sentence, want) || got.IncumbentRequests != 500 || got.CandidateRequests != 500 {
		t.Errorf("%d and %d requests: %q", got.IncumbentRequests, got.CandidateRequests, got.Sentence)
	}
	never := Compare(Question{Incumbent: "m@1", Candidate: "m@2", Strata: []Stratum{
		{Incumbent: summary(r, b)}, {Candidate: summary(r, b)},
	}})
	if never.CandidateRequests != 500 ||
		!strings.HasPrefix(never.Sentence, "The two never answered at the same time") {
		t.Errorf("%q", never.Sentence)
	}
	nothing := Compare(Question{Incumbent: "m@1", Candidate: "m@2"})
	if nothing.Sentence != "Neither answered anything in this time." || nothing.Rows[1].Incumbent != nil {
		t.Errorf("%q, %+v", nothing.Sentence, nothing.Rows[1])
	}
}

func TestRealAndSmallIsSaidAsThat(t *testing.T) {
	base := behaviour{requests: 400_000, failing: 0.02, typical: 8 * time.Millisecond, spread: 0.1}
	slight := base
	slight.failing = 0.025
	got := once(3, base, slight)
	if e := got.Rows[0]; e.Verdict != WorseWithin || !strings.Contains(e.Sentence, "real, and less than the 2.0") {
		t.Errorf("%+v", e)
	}
	slight.typical, base.typical = 84_000_000, 80_000_000
	l := once(3, base, slight).Rows[1]
	if l.Verdict != WorseWithin || !strings.HasPrefix(l.Sentence, "A little slower") {
		t.Errorf("%+v", l)
	}
}

// A lane of few distinct rows that come again and again says no more than those rows: of one law they were
// "moved" in half to all runs.
func TestRowsThatComeAgainAreNoMovement(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	moved := 0
	for range 100 {
		few := func(distinct, n int) *sketch.Summary {
			rows := make([]float64, distinct)
			for i := range rows {
				rows[i] = 4 + r.NormFloat64()
			}
			s := &sketch.Summary{}
			s.Counts.Requests = uint64(n)
			col := sketch.NewColumn(bins)
			for range n {
				i := r.IntN(distinct)
				col.AddNumber(rows[i])
				s.Content.Distinct.AddHash(math.Float64bits(rows[i]) * 0x9e3779b97f4a7c15)
			}
			s.Content.Outputs = map[string]*sketch.Column{"y": col}
			return s
		}
		got := Compare(Question{
			Incumbent: "m@1", Candidate: "m@2", Need: drift.Need{Observations: 60, Distinct: 50},
			Strata: []Stratum{{Incumbent: few(200, 5000), Candidate: few(100, 5000)}},
		})
		if v := got.Predictions[0].Movement.Verdict; v == drift.Moved || v == drift.Look {
			moved++
		}
	}
	if moved > 4 {
		t.Errorf("%d of 100 pairs of one law moved", moved)
	}
}

func TestSeveralCandidatesShareTheConfidence(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	b := behaviour{requests: 5000, failing: 0.01, typical: 1e7, spread: 0.2}
	q := Question{
		Incumbent: "m@1", Candidate: "m@2", Need: drift.DefaultNeed, Candidates: 1,
		Strata: []Stratum{{Incumbent: summary(r, b), Candidate: summary(r, b)}},
	}
	one := Compare(q)
	q.Candidates = 5
	five := Compare(q)
	if five.Confidence != 0.99 || *five.Rows[0].High <= *one.Rows[0].High {
		t.Errorf("%v: %v and %v", five.Confidence, *five.Rows[0].High, *one.Rows[0].High)
	}
}

// An interval that only just leaves 1 and reaches far is no "same": latencies are kept within a hundredth, and
// what lies beyond the margin is not known.
func TestNoDifferenceOfLatencyMustBeSure(t *testing.T) {
	for want, d := range map[Verdict]interval.Interval{
		NotEnough:   {Low: 1.005, High: 1.3},
		Same:        {Low: 1.005, High: 1.05},
		WorseWithin: {Low: 1.02, High: 1.05},
		Worse:       {Low: 1.02, High: 1.3},
		Better:      {Low: 0.7, High: 0.95},
	} {
		if got := judge(aroundOne(d), 1, 1/latencyMargin, latencyMargin); got != want {
			t.Errorf("%v is %q, want %q", d, got, want)
		}
	}
	if got := judge(aroundOne(interval.Interval{Low: 0.7, High: 0.995}), 1, 0.9, 1.1); got != NotEnough {
		t.Errorf("far below and only just: %q", got)
	}
}

// Rows that depend on one another within a minute, as weather does, are no movement: what spreads from minute to
// minute makes as much less of them. Dependence is strong, or so mild that there are enough rows all the same.
func TestRowsThatDependOnOneAnotherAreNoMovement(t *testing.T) {
	for _, swing := range []float64{0.1, 0.2, 0.4, 1.5} {
		r, moved := rand.New(rand.NewPCG(2, 12)), 0
		for range 60 {
			q := Question{Incumbent: "m@1", Candidate: "m@2", Need: drift.DefaultNeed}
			for range 30 {
				of := func() *sketch.Summary {
					return summary(r, behaviour{requests: 120, typical: 1e6, shift: swing * r.NormFloat64()})
				}
				q.Strata = append(q.Strata, Stratum{Incumbent: of(), Candidate: of()})
			}
			if m := Compare(q).Predictions[0].Movement; m.PSI > m.Noise99 && m.Verdict != drift.NotEnough {
				moved++
			}
		}
		if moved > 3 {
			t.Errorf("swings of %v: %d of 60 pairs of one law are beyond noise", swing, moved)
		}
	}
}
