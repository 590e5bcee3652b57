package sketch

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"
)

// What comes out of JSON is counted as what it is; what does not fit the bins counts as
// missing, so that the total stays right.
func TestValuesOfAnyKind(t *testing.T) {
	numbers := NewColumn(Bins{Edges: []float64{0, 1, 2}})
	for _, v := range []any{0.5, 1.5, 2.5, -1.0, nil, "harbour", true, math.NaN()} {
		numbers.AddValue(v)
	}
	if !slices.Equal(numbers.Cells(), []uint64{1, 1, 1, 1}) || numbers.Missing != 4 || numbers.Total() != 8 ||
		numbers.Min != -1 || numbers.Max != 2.5 {
		t.Errorf("on numbers: %+v, cells %v", numbers, numbers.Cells())
	}
	levels := NewColumn(Bins{Levels: []string{"harbour", "true"}})
	for _, v := range []any{"harbour", "harbour", "works", true, false, nil} {
		levels.AddValue(v)
	}
	if !slices.Equal(levels.Cells(), []uint64{2, 1, 2}) || levels.Missing != 1 || levels.Total() != 6 {
		t.Errorf("on levels: %+v, cells %v", levels, levels.Cells())
	}
}

func TestBinsFitTheValues(t *testing.T) {
	if b := BinsOfValues([]any{1.0, 2.0, nil, 3.0, "x"}); !b.Numeric() {
		t.Errorf("mostly numbers: %+v", b)
	}
	if b := BinsOfValues([]any{"x", true, true, 1.0}); b.Numeric() || !slices.Contains(b.Levels, "true") {
		t.Errorf("mostly texts: %+v", b)
	}
	if b := BinsOfValues([]any{nil, nil}); b.Defined() {
		t.Errorf("of nothing: %+v", b)
	}
}

// Merging parts in any order is counting the whole, to the last number: windows of any
// span are made so.
func TestMergingColumnsIsCountingAll(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 50 {
		edges := []float64{-1, 0, 0.5, 2}
		whole := NewColumn(Bins{Edges: edges})
		parts := make([]*Column, 1+r.IntN(5))
		for i := range parts {
			parts[i] = NewColumn(Bins{Edges: edges})
		}
		for range r.IntN(200) {
			part := parts[r.IntN(len(parts))]
			if r.IntN(10) == 0 {
				whole.AddMissing()
				part.AddMissing()
				continue
			}
			x := math.Round(r.NormFloat64()*100) / 64
			whole.AddNumber(x)
			part.AddNumber(x)
		}
		r.Shuffle(len(parts), func(i, j int) { parts[i], parts[j] = parts[j], parts[i] })
		sum := NewColumn(Bins{Edges: edges})
		for _, p := range parts {
			before := p.Clone()
			if err := sum.Merge(p); err != nil {
				t.Fatal(err)
			}
			if !slices.Equal(before.Cells(), p.Cells()) {
				t.Fatal("merging changed what was merged")
			}
		}
		if !slices.Equal(sum.Cells(), whole.Cells()) || sum.Missing != whole.Missing || sum.Seen() != whole.Seen() {
			t.Fatalf("%v with %d missing, not %v with %d", sum.Cells(), sum.Missing, whole.Cells(), whole.Missing)
		}
		if whole.Seen() > 0 && (sum.Min != whole.Min || sum.Max != whole.Max ||
			math.Abs(sum.Mean()-whole.Mean()) > 1e-9 ||
			math.Abs(sum.StandardDeviation()-whole.StandardDeviation()) > 1e-9) {
			t.Fatalf("%+v, not %+v", sum, whole)
		}
	}
	if c := NewColumn(Bins{Edges: []float64{0, 1}}); !math.IsNaN(c.Mean()) || !math.IsNaN(c.StandardDeviation()) {
		t.Errorf("of nothing: %v, %v", c.Mean(), c.StandardDeviation())
	}
	if err := NewColumn(Bins{Edges: []float64{0, 1}}).Merge(nil); err != nil {
		t.Error(err)
	}
}

// A clone does not share what is counted.
func TestAColumnsCloneIsItsOwn(t *testing.T) {
	c := ColumnOf(Bins{Edges: []float64{0, 1, 2}}, []float64{0.5, 1.5})
	d := c.Clone()
	d.AddNumber(0.5)
	if c.Total() != 2 || d.Total() != 3 || c.Cells()[1] != 1 {
		t.Errorf("%v and %v", c.Cells(), d.Cells())
	}
}

// Counting levels on other levels keeps the total; what is not known there is other.
func TestLevelsOnOtherLevels(t *testing.T) {
	c := NewColumn(Bins{Levels: []string{"a", "b", "c"}})
	for level, n := range map[string]int{"a": 3, "b": 2, "c": 1, "z": 4} {
		for range n {
			c.AddLevel(level)
		}
	}
	c.AddMissing()
	on := c.On(Bins{Levels: []string{"a", "c", "new"}}, nil)
	if !slices.Equal(on.Cells(), []uint64{3, 1, 0, 6}) || on.Missing != 1 || on.Total() != c.Total() {
		t.Errorf("%v", on.Cells())
	}
	if c.On(Bins{Edges: []float64{0, 1}}, nil) != nil {
		t.Error("levels on numbers")
	}
}

// Distinct values are counted within the error that is stated, merge, and survive their
// encoding; what cannot be read is an error and no count.
func TestDistinctCounts(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	var a, b Distinct
	for range 3000 {
		h := r.Uint64()
		a.AddHash(h)
		b.AddHash(h)
		b.AddHash(r.Uint64())
	}
	copied := a.Clone()
	a.Merge(&b)
	if n := float64(a.Count()); math.Abs(n-6000) > 0.04*6000 {
		t.Errorf("%v of 6000", n)
	}
	if n := float64(copied.Count()); math.Abs(n-3000) > 0.04*3000 {
		t.Errorf("the copy was merged too: %v", n)
	}
	var again Distinct
	if err := again.MergeBinary(a.AppendBinary(nil)); err != nil || again.Count() != a.Count() {
		t.Errorf("%d came back as %d, %v", a.Count(), again.Count(), err)
	}
	for _, bad := range [][]byte{nil, {2}, {1, 7, 7, 7}} {
		if err := new(Distinct).MergeBinary(bad); err == nil {
			t.Errorf("%v was read", bad)
		}
	}
	if none := new(Distinct); none.Count() != 0 || none.Clone().Count() != 0 {
		t.Error("nothing was counted, and something found")
	}
}

// The value of a rank is that of the rank and not of the one before it, and short durations are not cut off.
func TestRanksAndShortDurations(t *testing.T) {
	for n := 1; n <= 400; n++ {
		var q Quantiles
		for i := range n {
			q.Add(time.Duration(float64(time.Microsecond) * math.Pow(1.05, float64(i))))
		}
		for r := 1; r <= n; r++ {
			want := float64(time.Microsecond) * math.Pow(1.05, float64(r-1))
			if got := q.Ranked(uint64(r)); math.Abs(got/want-1) > 0.012 {
				t.Fatalf("rank %d of %d: %v ns, want %v", r, n, got, want)
			}
		}
	}
	var short Quantiles
	for range 10 {
		short.Add(57)
	}
	if got := short.Nanoseconds(0.5); math.Abs(got/57-1) > RelativeError {
		t.Errorf("57 ns are %v", got)
	}
	if n := short.Above(60); n != 0 || short.Above(50) != 10 {
		t.Errorf("%d of ten are above 60 ns", n)
	}
}

func TestDurationsWithWeights(t *testing.T) {
	var a, b Quantiles
	for i := range 1000 {
		a.Add(time.Duration(1e6 + 1e3*float64(i)))
		b.Add(time.Duration(5e6 + 1e3*float64(i)))
	}
	d, places := DurationsOver([]*Quantiles{&a, &b})
	d.Add(places[0], 3)
	d.Add(places[1], 1)
	for p, want := range map[float64]float64{0.375: 1.5e6, 0.75: 2e6, 0.875: 5.5e6} {
		if got := d.Quantile(p); math.Abs(got/want-1) > RelativeError {
			t.Errorf("the %v-quantile is %v, want %v", p, got, want)
		}
	}
	if d.Reset(); d.Quantile(0.5) != 0 {
		t.Error("what is empty has a quantile")
	}
}
