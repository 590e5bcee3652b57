package compare

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/drift"
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

func side(seed uint64, version string, b behaviour) Side {
	r := rand.New(rand.NewPCG(seed, 1))
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
	return Side{version, s}
}

func TestCompare(t *testing.T) {
	base := behaviour{requests: 20000, failing: 0.001, typical: 8 * time.Millisecond, spread: 0.3}
	with := func(change func(*behaviour)) behaviour { b := base; b.requests = 4000; change(&b); return b }
	cases := []struct {
		name        string
		candidate   behaviour
		errors, p99 Verdict
		predictions drift.Verdict
		sentence    string
	}{
		{"just as good", with(func(*behaviour) {}), Same, Same, drift.Steady, "No worse on errors"},
		{"fails", with(func(b *behaviour) { b.failing = 0.05 }), Worse, Same, drift.Steady, "More errors"},
		{"slow", with(func(b *behaviour) { b.typical *= 2 }), Same, Worse, drift.Steady, "Slower"},
		{"fast", with(func(b *behaviour) { b.typical /= 2 }), Same, Better, drift.Steady, "Faster"},
		{"biased", with(func(b *behaviour) { b.shift = 1 }), Same, Same, drift.Moved, "moved far"},
		{
			"hardly any", with(func(b *behaviour) { b.requests = 40 }), NotEnough, NotEnough, drift.NotEnough,
			"40 of 200 observations",
		},
		{
			"none", with(func(b *behaviour) { b.requests = 0 }), NotEnough, NotEnough, drift.NotEnough,
			"answered nothing",
		},
		{
			"the same two rows", with(func(b *behaviour) { b.shift = 1; b.repeated = true }), Same, Same,
			drift.NotEnough,
			"2 of 50 distinct inputs",
		},
	}
	for _, c := range cases {
		got := Compare(side(1, "heat-demand@1", base), side(2, "heat-demand@2", c.candidate), nil, drift.DefaultNeed)
		if len(got.Rows) != 5 || len(got.Predictions) != 1 {
			t.Fatalf("%s: %d rows, %d predictions", c.name, len(got.Rows), len(got.Predictions))
		}
		if got.Rows[0].Verdict != c.errors || got.Rows[4].Verdict != c.p99 ||
			got.Predictions[0].Movement.Verdict != c.predictions {
			t.Errorf("%s: errors %s, p99 %s, predictions %s; %s", c.name, got.Rows[0].Verdict, got.Rows[4].Verdict,
				got.Predictions[0].Movement.Verdict, got.Sentence)
		}
		if !strings.Contains(got.Sentence, c.sentence) {
			t.Errorf("%s: %q does not say %q", c.name, got.Sentence, c.sentence)
		}
		for _, r := range got.Rows {
			if r.Low != nil && (math.IsNaN(*r.Low) || *r.Low > r.Difference+1e-9) {
				t.Errorf("%s %s: the interval starts at %v, above %v", c.name, r.Signal, *r.Low, r.Difference)
			}
		}
	}
}

func TestIntervalsOfTheRatioCover(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	hit, rounds := 0, 300
	for range rounds {
		a, b := behaviour{requests: 3000, typical: 8e6, spread: 0.5},
			behaviour{requests: 1000, typical: 12e6, spread: 0.5}
		got := Compare(side(r.Uint64(), "a@1", a), side(r.Uint64(), "a@2", b), nil, drift.DefaultNeed)
		if p95 := got.Rows[3]; *p95.Low <= 1.5 && 1.5 <= *p95.High {
			hit++
		}
	}
	if share := float64(hit) / float64(rounds); share < 0.94 {
		t.Errorf("the true ratio is inside %.3f of intervals", share)
	}
}

func TestMismatchIsSaidFirst(t *testing.T) {
	fine := []Draw{{1, 9012, 988, 9000, 1000}, {2, 5010, 4990, 5000, 5000}}
	if m := mismatch(fine); m != "" {
		t.Errorf("chance was taken for a mismatch: %s", m)
	}
	off := []Draw{{1, 9012, 988, 9000, 1000}, {2, 5500, 4500, 5000, 5000}}
	if m := mismatch(off); !strings.Contains(m, "27.44 %") || !strings.Contains(m, "30.00 %") {
		t.Errorf("got %q", m)
	}
	b := behaviour{requests: 1000, typical: 1e6}
	got := Compare(side(1, "a@1", b), side(2, "a@2", b), off, drift.DefaultNeed)
	if !strings.HasPrefix(got.Sentence, "The candidate was drawn") {
		t.Errorf("a mismatch must come first: %q", got.Sentence)
	}
}
