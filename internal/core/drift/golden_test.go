package drift

import (
	"encoding/json"
	"math"
	"os"
	"slices"
	"testing"

	"innerladder/internal/core/sketch"
)

// What SciPy says of the same; bench/golden/make.py wrote it.
func TestAgainstOthers(t *testing.T) {
	var all struct {
		Pairs []struct {
			P, Q          []uint64
			PSI, KS, G    float64
			NoiseP        float64 `json:"noise_p"`
			Noise99       float64 `json:"noise_99"`
			JensenShannon float64 `json:"jensen_shannon"`
			KSP           float64 `json:"ks_p"`
			GP            float64 `json:"g_p"`
			Wasserstein   float64
		}
		PValues  []float64 `json:"p_values"`
		Adjusted []float64
	}
	raw, err := os.ReadFile("testdata/golden.json")
	if err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		t.Fatal(err)
	}
	check := func(what string, got, want float64) {
		t.Helper()
		if !(math.Abs(got-want) <= 1e-9*math.Abs(want)) {
			t.Errorf("%s: got %.15g, want %.15g", what, got, want)
		}
	}
	for _, c := range all.Pairs {
		p, q := column(c.P), column(c.Q)
		a, b := p.Cells[1:len(p.Cells)-1], q.Cells[1:len(q.Cells)-1]
		noise := NoiseOf(len(a), p.Seen(), q.Seen())
		check("PSI", PSI(a, b), c.PSI)
		check("its p-value", noise.P(c.PSI), c.NoiseP) // some are far below 1e-16
		check("99 % of its noise", noise.Quantile(0.99), c.Noise99)
		check("Jensen–Shannon", JensenShannon(a, b), c.JensenShannon)
		gap, pv := KolmogorovSmirnov(a, b)
		check("Kolmogorov–Smirnov", gap, c.KS)
		check("its p-value", pv, c.KSP)
		g, gp := GTest(a, b)
		check("G", g, c.G)
		check("its p-value", gp, c.GP)
		check("Wasserstein", Wasserstein(p, q), c.Wasserstein)
		// The order of cells, and of cells that hold as many, must make no difference.
		slices.Reverse(a)
		slices.Reverse(b)
		if again, _ := GTest(a, b); math.Abs(again-g) > 1e-9 {
			t.Errorf("G turned round is %v, not %v", again, g)
		}
	}
	for i, x := range BenjaminiHochberg(all.PValues) {
		check("adjusted", x, all.Adjusted[i])
	}
}

// column has so many numbers in the middle of each bin of width 1.
func column(counts []uint64) *sketch.Weighted {
	edges := []float64{0}
	for i := range counts {
		edges = append(edges, float64(i+1))
	}
	c := sketch.NewColumn(sketch.Bins{Edges: edges})
	for i, k := range counts {
		for range k {
			c.AddNumber(float64(i) + 0.5)
		}
	}
	return sketch.WeightedOf(c)
}

// Small cells are merged, all of one size at once: which of two that hold as many was merged once depended
// on their order.
func TestTheOrderOfEqualCells(t *testing.T) {
	p, q := []float64{100, 3, 2, 2, 3}, []float64{90, 0, 5, 1, 4}
	want, _ := GTest(p, q)
	for _, order := range [][]int{{4, 3, 2, 1, 0}, {1, 0, 3, 2, 4}, {2, 4, 0, 1, 3}, {3, 2, 4, 1, 0}} {
		a, b := make([]float64, 5), make([]float64, 5)
		for i, from := range order {
			a[i], b[i] = p[from], q[from]
		}
		if got, _ := GTest(a, b); math.Abs(got-want) > 1e-12 {
			t.Errorf("in the order %v G is %v, not %v", order, got, want)
		}
	}
}

// What is judged is the index less what chance makes of it: with more data a verdict gets neither milder nor
// sharper.
func TestVerdictsDoNotChangeWithMoreData(t *testing.T) {
	for _, n := range []uint64{400, 4000, 400_000} {
		p := column([]uint64{n / 10, n * 4 / 10, n * 4 / 10, n / 10})
		q := column([]uint64{n / 20, n * 3 / 10, n * 4 / 10, n / 4})
		sample := func(w *sketch.Weighted) Sample {
			return Sample{w, Numbers{Rows: n, Weighted: float64(n), Distinct: n}}
		}
		mv, err := Measure(sample(p), sample(q), DefaultNeed)
		if err != nil || mv.Verdict != Look {
			t.Errorf("n = %d: %s (%v), %v", n, mv.Verdict, mv.PSI-mv.NoiseExpected, err)
		}
	}
}

// Minutes that go their own way make as much less of what is seen.
func TestTheDesignEffect(t *testing.T) {
	pairs := func(swing float64) (out []Pair) {
		for m := range 60 {
			n := 200 + 100*swing*float64(m%2*2-1)
			at := func(share float64) *sketch.Column {
				low := slices.Repeat([]float64{0.5}, int(n*share))
				high := slices.Repeat([]float64{1.5}, int(n*(1-share)))
				return sketch.ColumnOf(sketch.Bins{Edges: []float64{0, 1, 2}}, append(low, high...))
			}
			out = append(out, Pair{at(0.5), at(0.5 + 0.2*swing*float64(m%3-1))})
		}
		return out
	}
	if d := DesignOf(pairs(0)); d.Effect != 1 {
		t.Errorf("minutes that are all alike: %v", d)
	}
	if d := DesignOf(pairs(1)); d.Effect < 3 {
		t.Errorf("minutes that swing by 20 points: %v", d)
	}
	if d := DesignOf(pairs(1)[:10]); d != (Design{}) {
		t.Errorf("ten minutes tell none: %v", d)
	}
}
