package sketch

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"reflect"
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
// one is counted again on the other's bins: its fine cells are cut, which hold 1/512 each.
func TestCountingAgainOnOtherBins(t *testing.T) {
	for _, c := range []struct {
		name string
		next func(r *rand.Rand) float64
	}{
		{"normal", func(r *rand.Rand) float64 { return r.NormFloat64() }},
		{"rounded", func(r *rand.Rand) float64 { return math.Round(r.NormFloat64()*100) / 10 }},
		{"steps of a half", func(r *rand.Rand) float64 { return math.Round(r.NormFloat64()*4) / 2 }},
		{"clamped", func(r *rand.Rand) float64 { return math.Max(60, math.Min(80, 70+8*r.NormFloat64())) }},
		{"mostly zero", func(r *rand.Rand) float64 { return math.Max(0, r.NormFloat64()) }},
		{"one value inside", func(r *rand.Rand) float64 {
			if r.Float64() < 0.08 {
				return 0.3
			}
			return r.NormFloat64()
		}},
		{"a few whole", func(r *rand.Rand) float64 { return float64(r.IntN(7)) }},
		{"hours", func(r *rand.Rand) float64 { return float64(r.IntN(24)) }},
		{"very skewed", func(r *rand.Rand) float64 { return math.Exp(2 * r.NormFloat64()) }},
		{"one value", func(*rand.Rand) float64 { return 4 }},
		{"two far apart", func(r *rand.Rand) float64 { return float64(r.IntN(2)) * 1e6 }},
		{"far spread", func(r *rand.Rand) float64 { return r.NormFloat64() * 3e5 }},
	} {
		t.Run(c.name, func(t *testing.T) {
			for seed := range uint64(40) {
				countAgain(t, c.next, rand.New(rand.NewPCG(seed, 2)), 4000)
			}
			countAgain(t, c.next, rand.New(rand.NewPCG(1, 3)), exactWindow+20_000)
		})
	}
}

func countAgain(t *testing.T, next func(*rand.Rand) float64, r *rand.Rand, n int) {
	t.Helper()
	var values []float64
	sample := func() (*Column, *Fine) {
		var c Cutter
		values = values[:0]
		for range n {
			values = append(values, next(r))
			c.Add(values[len(values)-1])
		}
		return c.Column(MostBins), c.Fine()
	}
	a, _ := sample()
	b, fine := sample()
	kept, err := json.Marshal(fine)
	if err != nil {
		t.Fatal(err)
	}
	var back Fine
	if err := json.Unmarshal(kept, &back); err != nil || !reflect.DeepEqual(&back, fine) {
		t.Fatalf("fine cells came back otherwise: %v", err)
	}
	again, want := b.On(a.Bins, &back), ColumnOf(a.Bins, values)
	if again.Seen() != b.Seen() || math.Abs(again.Mean()-b.Mean()) > 1e-9*math.Abs(b.Mean())+1e-9 ||
		math.Abs(again.StandardDeviation()-want.StandardDeviation()) > 1e-6*want.StandardDeviation() {
		t.Fatalf("%d counted with mean %g, again %d with mean %g", b.Seen(), b.Mean(), again.Seen(), again.Mean())
	}
	cells, truth := again.Cells(), want.Cells()
	for i := range cells {
		// Each of its edges may cut a cell, which holds about 1/512.
		if off := math.Abs(float64(cells[i]) - float64(truth[i])); off > 3*float64(n)/fineCells {
			t.Errorf("cell %d of %v holds %d, counted out of fine cells %d", i, a.Bins.Edges, truth[i], cells[i])
		}
	}
}

// What holds a twentieth of a column or more has a bin of its own, and whole numbers have bins at whole
// numbers.
func TestAtomsHaveBinsOfTheirOwn(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	for name, next := range map[string]func(i int) float64{
		"zero in the middle": func(int) float64 { return math.Round(r.NormFloat64()) * r.NormFloat64() },
		"clamped":            func(int) float64 { return math.Max(-1, math.Min(1.5, r.NormFloat64())) },
		"halves":             func(int) float64 { return math.Round(r.NormFloat64()*2) / 2 },
		"hours":              func(i int) float64 { return float64(i % 24) },
		"weekdays":           func(i int) float64 { return float64(i % 7) },
	} {
		for _, n := range []int{3000, exactWindow + 30_000} {
			var c Cutter
			count := map[float64]int{}
			for i := range n {
				x := next(i)
				count[x]++
				c.Add(x)
			}
			col := c.Column(MostBins)
			if len(col.Counts) > 2*MostBins {
				t.Errorf("%s: %d bins", name, len(col.Counts))
			}
			for x, k := range count {
				if k*MostBins < n {
					continue
				}
				at := col.Bins.number(x)
				if got := col.Counts[at]; math.Abs(float64(got)-float64(k)) > float64(n)/fineCells ||
					col.Bins.Edges[at] > x || math.Abs(col.Sums[at+1]/float64(got)-x) > 1e-2 {
					t.Errorf("%s: %v holds %d of %d, its bin %d", name, x, k, n, got)
				}
			}
			if c.Whole() {
				for _, e := range col.Bins.Edges {
					if e != math.Trunc(e) {
						t.Errorf("%s: an edge at %v", name, e)
					}
				}
			}
		}
	}
}

// A standard deviation must not vanish where all numbers are large.
func TestSpreadFarFromZero(t *testing.T) {
	var c Cutter
	r := rand.New(rand.NewPCG(1, 1))
	values := make([]float64, exactWindow+1000)
	for i := range values {
		values[i] = 1e9 + r.NormFloat64()
		c.Add(values[i])
	}
	col := c.Column(MostBins)
	direct := ColumnOf(col.Bins, values)
	for _, sd := range []float64{
		col.StandardDeviation(), direct.StandardDeviation(), WeightedOf(direct).StandardDeviation(),
	} {
		if math.Abs(sd-1) > 0.02 {
			t.Errorf("standard deviation %v", sd)
		}
	}
	raw, err := json.Marshal(direct)
	if err != nil {
		t.Fatal(err)
	}
	var back Column
	if err := json.Unmarshal(raw, &back); err != nil || back.StandardDeviation() != direct.StandardDeviation() {
		t.Errorf("came back as %v, %v", back.StandardDeviation(), err)
	}
	// As it was kept before, with the sum of the squared numbers.
	old := `{"bins":{"edges":[0,1,2]},"counts":[2,1],"sums":[0,1,1.5,0],"sum_of_squares":2.75,"min":0.5,"max":1.5}`
	if err := json.Unmarshal([]byte(old), &back); err != nil ||
		math.Abs(back.StandardDeviation()-ColumnOf(back.Bins, []float64{0.5, 0.5, 1.5}).StandardDeviation()) > 1e-12 {
		t.Errorf("from before: %v, %v", back.StandardDeviation(), err)
	}
}
