package drift

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/core/sketch"
)

func near(t *testing.T, what string, got, want, within float64) {
	t.Helper()
	if math.Abs(got-want) > within {
		t.Errorf("%s: got %v, want %v", what, got, want)
	}
}

func TestDistancesByHand(t *testing.T) {
	p, q := []float64{50, 50}, []float64{25, 75}
	// smoothed shares: 50.5/101 and 25.5/101, 75.5/101
	want := (25.5-50.5)/101*math.Log(25.5/50.5) + (75.5-50.5)/101*math.Log(75.5/50.5)
	near(t, "PSI", PSI(p, q), want, 1e-12)
	near(t, "JS of the disjoint", JensenShannon([]float64{9, 0}, []float64{0, 4}), 1, 1e-12)
	near(t, "JS of the same", JensenShannon(p, p), 0, 1e-12)
	gap, pv := KolmogorovSmirnov(p, q)
	near(t, "KS", gap, 0.25, 1e-12)
	if pv > 0.005 || pv < 0.001 {
		t.Errorf("KS p-value: got %v, want about 0.003", pv)
	}
	g, gp := GTest(p, q)
	near(t, "G", g, 13.53, 0.01) // 2·Σ O ln(O/E) with E = 37.5, 62.5
	near(t, "G p-value", gp, 0.00023, 0.00002)
	if _, p := GTest([]float64{100, 1, 0}, []float64{100, 0, 1}); p != 1 {
		t.Errorf("cells too small to test must say nothing, got p=%v", p)
	}
	for _, empty := range [][]float64{{0, 0}} {
		if PSI(empty, q) != 0 || JensenShannon(empty, q) != 0 {
			t.Error("nothing seen is not a movement")
		}
	}
}

func weighted(b sketch.Bins, x []float64) *sketch.Weighted {
	return sketch.WeightedOf(sketch.ColumnOf(b, x))
}

func TestWassersteinIsTheShift(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	x, y := make([]float64, 20000), make([]float64, 20000)
	for i := range x {
		x[i] = 5 + r.NormFloat64()
		y[i] = 5.7 + r.NormFloat64()
	}
	b := sketch.EqualFrequency(x, sketch.MostBins)
	near(t, "shift of 0.7", Wasserstein(weighted(b, x), weighted(b, y)), 0.7, 0.03)
	wide := weighted(b, []float64{4, 6})
	narrow := weighted(b, []float64{4.9, 5.1})
	near(t, "the same mean, spread otherwise", Wasserstein(wide, narrow), 0.9, 1e-12)
}

// The noise floor is the point of this package: under no change, no more than 1 % of
// pairs may exceed the 99 % quantile, whatever the sizes.
func TestNoiseFloorHoldsUnderNoChange(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 4))
	for _, size := range [][2]int{{300, 300}, {5000, 250}, {5000, 5000}} {
		const rounds = 2000
		above, sum := 0, 0.0
		var noise Noise
		for range rounds {
			p, q := make([]float64, 10), make([]float64, 10)
			for range size[0] {
				p[r.IntN(10)]++
			}
			for range size[1] {
				q[r.IntN(10)]++
			}
			noise = NoiseOf(10, float64(size[0]), float64(size[1]))
			psi := PSI(p, q)
			sum += psi
			if psi > noise.Quantile(0.99) {
				above++
			}
		}
		if share := float64(above) / rounds; share > 0.018 {
			t.Errorf("n=%d m=%d: %.3f of unchanged pairs are above the 99 %% noise quantile", size[0], size[1], share)
		}
		if mean := sum / rounds; math.Abs(mean/noise.Expected()-1) > 0.1 {
			t.Errorf("n=%d m=%d: mean PSI %.4f, expected %.4f", size[0], size[1], mean, noise.Expected())
		}
	}
}

func TestVerdicts(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 9))
	draw := func(n int, shift float64) *sketch.Column {
		x := make([]float64, n)
		for i := range x {
			x[i] = r.NormFloat64() + shift
		}
		return sketch.ColumnOf(sketch.Bins{Edges: []float64{-3, -1.5, -0.5, 0, 0.5, 1.5, 3}}, x)
	}
	cases := []struct {
		name     string
		p, q     Sample
		want     Verdict
		sentence string
	}{
		{"unchanged", SampleOf(draw(2000, 0), 2000), SampleOf(draw(2000, 0), 2000), Steady, "Within noise"},
		{
			"tiny but certain",
			SampleOf(draw(200000, 0), 200000),
			SampleOf(draw(200000, 0.1), 200000),
			Steady,
			"too small to matter",
		},
		{"moderate", SampleOf(draw(5000, 0), 2000), SampleOf(draw(5000, 0.4), 2000), Look, "worth a look"},
		{"far", SampleOf(draw(5000, 0), 2000), SampleOf(draw(5000, 1), 2000), Moved, "Moved far"},
		{
			"a little and few", SampleOf(draw(5000, 0), 2000), SampleOf(draw(100, 0.3), 100), NotEnough,
			"100 of 200 independent observations",
		},
		{
			"far and certain, but few", SampleOf(draw(5000, 0), 2000), SampleOf(draw(100, 1.5), 100), Moved,
			"100 of 200 independent observations, and beyond chance all the same",
		},
		{
			"far but repeated rows",
			SampleOf(draw(5000, 0), 2000),
			SampleOf(draw(5000, 1), 2),
			NotEnough,
			"2 of 50 distinct inputs",
		},
	}
	for _, c := range cases {
		got, err := Measure(c.p, c.q, DefaultNeed)
		if err != nil {
			t.Fatal(err)
		}
		if got.Verdict != c.want || !strings.Contains(got.Sentence, c.sentence) {
			t.Errorf("%s: got %q %q, want %q with %q", c.name, got.Verdict, got.Sentence, c.want, c.sentence)
		}
	}
	if _, err := Measure(SampleOf(draw(10, 0), 10),
		SampleOf(sketch.NewColumn(sketch.Bins{Levels: []string{"a"}}), 0), DefaultNeed); err == nil {
		t.Error("columns on other bins were compared")
	}
}

func TestManyColumnsDoNotRaiseTheAlarmTogether(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 1))
	bins := sketch.Bins{Edges: []float64{-9, -1, -0.5, 0, 0.5, 1, 9}}
	p, q := map[string]Sample{}, map[string]Sample{}
	for i := range 60 {
		name := string(rune('a'+i%26)) + string(rune('a'+i/26))
		a, b := sketch.NewColumn(bins), sketch.NewColumn(bins)
		for range 300 {
			a.AddNumber(r.NormFloat64())
			b.AddNumber(r.NormFloat64())
		}
		p[name], q[name] = SampleOf(a, 300), SampleOf(b, 300)
	}
	all, left := MeasureAll(p, q, DefaultNeed, 1)
	if len(all) != 60 || len(left) != 0 {
		t.Fatalf("measured %d, left %v", len(all), left)
	}
	for name, mv := range all {
		if mv.Verdict != Steady {
			t.Errorf("column %s of unchanged data: %s (PSI %.3f)", name, mv.Verdict, mv.PSI)
		}
	}
}

func TestBenjaminiHochberg(t *testing.T) {
	got := BenjaminiHochberg([]float64{0.01, 0.04, 0.03, 0.5})
	want := []float64{0.04, 0.16 / 3, 0.16 / 3, 0.5}
	for i := range got {
		near(t, "adjusted", got[i], want[i], 1e-12)
	}
	if slices.Max(BenjaminiHochberg([]float64{0.9, 0.95})) > 1 {
		t.Error("an adjusted p-value above one")
	}
}
