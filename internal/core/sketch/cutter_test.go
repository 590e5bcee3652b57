package sketch

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestCutterIsExactOnItsBins(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	streams := map[string]func(i int) float64{
		"normal":        func(int) float64 { return r.NormFloat64()*3 + 10 },
		"sorted":        func(i int) float64 { return float64(i) / 7 },
		"falling":       func(i int) float64 { return -float64(i) / 7 },
		"hours":         func(i int) float64 { return float64(i % 24) },
		"constant":      func(int) float64 { return 4.5 },
		"mostly zero":   func(i int) float64 { return math.Max(0, float64(i%100-80)) },
		"far and apart": func(i int) float64 { return float64(i%2)*1e9 + r.Float64() },
		"steps up":      func(i int) float64 { return float64(i/50000)*100 + r.Float64() },
		"heavy tail":    func(int) float64 { return math.Exp(r.NormFloat64() * 4) },
	}
	const n = 300_000
	for name, next := range streams {
		var c Cutter
		values := make([]float64, n)
		for i := range values {
			values[i] = next(i)
			c.Add(values[i])
		}
		got := c.Column(MostBins)
		if len(got.Bins.Edges) != len(got.Counts)+1 || len(got.Sums) != len(got.Counts)+2 ||
			len(got.Counts) > MostBins {
			t.Fatalf("%s: %d edges, %d counts, %d sums", name, len(got.Bins.Edges), len(got.Counts), len(got.Sums))
		}
		want := ColumnOf(got.Bins, values)
		for i := range want.Counts {
			if got.Counts[i] != want.Counts[i] ||
				math.Abs(got.Sums[i+1]-want.Sums[i+1]) > 1e-6*math.Abs(want.Sums[i+1])+1e-6 {
				t.Errorf("%s: bin %d holds %d numbers with sum %g, counted again %d with %g", name, i, got.Counts[i],
					got.Sums[i+1], want.Counts[i], want.Sums[i+1])
			}
		}
		if got.Seen() != n || got.Min != want.Min || got.Max != want.Max ||
			math.Abs(got.Mean()-want.Mean()) > 1e-9*math.Abs(want.Mean())+1e-9 {
			t.Errorf("%s: %d seen, %g to %g, mean %g; want %d, %g to %g, %g", name, got.Seen(), got.Min, got.Max,
				got.Mean(), n, want.Min, want.Max, want.Mean())
		}
		ideal := ColumnOf(EqualFrequency(values, MostBins), values)
		if len(got.Counts) < len(ideal.Counts)*3/4 {
			t.Errorf("%s: %d bins, %d would be possible", name, len(got.Counts), len(ideal.Counts))
		}
		if name == "normal" || name == "heavy tail" || name == "falling" {
			for i, k := range got.Counts {
				if share := float64(k) / n; math.Abs(share-0.05) > 0.01 {
					t.Errorf("%s: bin %d has a share of %.4f", name, i, share)
				}
			}
		}
	}
}

func TestCutterOfFewNumbersIsEqualFrequency(t *testing.T) {
	var c Cutter
	values := []float64{3, 1, 2, 2, 5, 1e300, 8}
	for _, v := range values {
		c.Add(v)
	}
	col := c.Column(4)
	if col.Seen() != 7 || col.Over != 1 || col.Min != 1 || col.Max != 8 || !c.Whole() {
		t.Errorf("column: %+v", col)
	}
	if low, high := c.Range(); low != 1 || high != 8 {
		t.Errorf("range: %g to %g", low, high)
	}
	var none Cutter
	if got := none.Column(4); got.Seen() != 0 {
		t.Errorf("nothing: %+v", got)
	}
}

// Two samples of one distribution, each on bins of its own, must not seem to differ when
// one is counted again on the other's bins: at most four cells of 1/20 are cut, and where
// they lie on the same side the gap is less than one of them.
func TestCountingAgainOnOtherBins(t *testing.T) {
	for _, c := range []struct {
		name string
		next func(r *rand.Rand) float64
	}{
		{"normal", func(r *rand.Rand) float64 { return r.NormFloat64() }},
		{"rounded", func(r *rand.Rand) float64 { return math.Round(r.NormFloat64()*100) / 10 }},
		{"clamped", func(r *rand.Rand) float64 { return math.Max(60, math.Min(80, 70+8*r.NormFloat64())) }},
		{"mostly zero", func(r *rand.Rand) float64 { return math.Max(0, r.NormFloat64()) }},
		{"a few whole", func(r *rand.Rand) float64 { return float64(r.IntN(7)) }},
		{"hours", func(r *rand.Rand) float64 { return float64(r.IntN(24)) }},
		{"very skewed", func(r *rand.Rand) float64 { return math.Exp(2 * r.NormFloat64()) }},
		{"one value", func(*rand.Rand) float64 { return 4 }},
		{"two far apart", func(r *rand.Rand) float64 { return float64(r.IntN(2)) * 1e6 }},
		{"far spread", func(r *rand.Rand) float64 { return r.NormFloat64() * 3e5 }},
	} {
		t.Run(c.name, func(t *testing.T) {
			for seed := range uint64(60) {
				countAgain(t, c.next, rand.New(rand.NewPCG(seed, 2)))
			}
		})
	}
}

func countAgain(t *testing.T, next func(*rand.Rand) float64, r *rand.Rand) {
	t.Helper()
	sample := func() *Column {
		var c Cutter
		for range 4000 {
			c.Add(next(r))
		}
		return c.Column(MostBins)
	}
	a, b := sample(), sample()
	again := b.OnBins(a.Bins)
	if again.Seen() != b.Seen() || math.Abs(again.Mean()-b.Mean()) > 1e-9*math.Abs(b.Mean())+1e-9 {
		t.Fatalf("%d counted with mean %g, again %d with mean %g", b.Seen(), b.Mean(), again.Seen(), again.Mean())
	}
	gap, at, ca, cb := 0.0, 0, 0.0, 0.0
	for i, k := range a.Cells() {
		ca, cb = ca+float64(k)/float64(a.Seen()), cb+float64(again.Cells()[i])/float64(again.Seen())
		if g := math.Abs(ca - cb); g > gap {
			gap, at = g, i
		}
	}
	if gap > 0.05 { // chance alone gives 0.043 about once in a thousand
		t.Errorf("the cumulative shares differ by %.3f below edge %d of %v\n%v\n%v\n%v on %v", gap, at, a.Bins.Edges,
			a.Cells(), again.Cells(), b.Cells(), b.Bins.Edges)
	}
}
