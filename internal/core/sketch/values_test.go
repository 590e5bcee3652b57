package sketch

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
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
	on := c.OnBins(Bins{Levels: []string{"a", "c", "new"}})
	if !slices.Equal(on.Cells(), []uint64{3, 1, 0, 6}) || on.Missing != 1 || on.Total() != c.Total() {
		t.Errorf("%v", on.Cells())
	}
	if c.OnBins(Bins{Edges: []float64{0, 1}}) != nil {
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
