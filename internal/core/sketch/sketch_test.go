package sketch

import (
	"encoding/json"
	"errors"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"
	"time"
)

func TestQuantilesStayWithinTheirError(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	var q, left, right Quantiles
	var all []time.Duration
	for i := range 20000 {
		d := time.Duration(math.Exp(r.NormFloat64()*1.5+14)) + 1 // around a millisecond, long tail
		all = append(all, d)
		q.Add(d)
		if i%2 == 0 {
			left.Add(d)
		} else {
			right.Add(d)
		}
	}
	left.Merge(&right)
	slices.Sort(all)
	for _, p := range []float64{0, 0.1, 0.5, 0.9, 0.95, 0.99, 0.999, 1} {
		want := float64(all[int(p*float64(len(all)-1))])
		for name, got := range map[string]time.Duration{"whole": q.At(p), "merged": left.At(p)} {
			if math.Abs(float64(got)-want) > want*RelativeError*1.001 {
				t.Errorf("%s p%v: got %v, want %v within 1 %%", name, p*100, got, time.Duration(want))
			}
		}
	}
	if left.Count() != 20000 || left.Sum() != q.Sum() {
		t.Errorf("merging lost something: %d values, sum %v of %v", left.Count(), left.Sum(), q.Sum())
	}
}

func TestSummariesSurviveTheirEncoding(t *testing.T) {
	s := sampleSummary(3, 500)
	s.Content.Outputs["y"].AddMissing()
	s.Content.Outputs["y"].AddNumber(math.Inf(1))
	var back Summary
	if err := errors.Join(back.Latency.MergeBinary(s.Latency.AppendBinary(nil)),
		back.Content.Distinct.MergeBinary(s.Content.Distinct.AppendBinary(nil))); err != nil {
		t.Fatal(err)
	}
	if back.Latency.At(0.9) != s.Latency.At(0.9) || back.Latency.Sum() != s.Latency.Sum() ||
		back.Latency.Count() != s.Latency.Count() {
		t.Errorf("latency changed: %v to %v", s.Latency.At(0.9), back.Latency.At(0.9))
	}
	if back.Content.Distinct.Count() != s.Content.Distinct.Count() {
		t.Errorf("distinct changed: %d to %d", s.Content.Distinct.Count(), back.Content.Distinct.Count())
	}
	levels := NewColumn(Bins{Levels: []string{"harbour", "works"}})
	for _, l := range []string{"works", "works", "terraces"} {
		levels.AddLevel(l)
	}
	for _, c := range []*Column{s.Content.Outputs["y"], levels, NewColumn(levels.Bins)} {
		b := c.AppendBinary(nil)
		again, err := ReadColumn(c.Bins, b)
		if err != nil || !reflect.DeepEqual(again, c) {
			t.Errorf("%+v came back as %+v, %v", c, again, err)
		}
		for cut := range len(b) {
			if _, err := ReadColumn(c.Bins, b[:cut]); err == nil {
				t.Fatalf("%d of %d bytes are a whole column", cut, len(b))
			}
		}
	}
	for _, bad := range [][]byte{nil, {7}, {1}, {1, 0x80}, {1, 5, 200, 200}} {
		if new(Quantiles).MergeBinary(bad) == nil {
			t.Errorf("%v was read as quantiles", bad)
		}
	}
}

func TestMergeIsTheSumOfItsParts(t *testing.T) {
	a, b := sampleSummary(1, 300), sampleSummary(2, 700)
	var m Summary
	m.Merge(a)
	m.Merge(b)
	if got := m.Counts.Requests; got != 1000 {
		t.Errorf("requests: got %d, want 1000", got)
	}
	if got := m.Content.Outputs["y"].Seen(); got != 1000 {
		t.Errorf("outputs: got %d, want 1000", got)
	}
	if a.Content.Outputs["y"].Seen() != 300 {
		t.Error("merging changed what was merged from")
	}
	if got := m.Content.Distinct.Count(); got < 970 || got > 1030 {
		t.Errorf("distinct: got %d, want about 1000", got)
	}
}

func TestMergeRefusesOtherBins(t *testing.T) {
	a := NewColumn(Bins{Edges: []float64{0, 1}})
	b := NewColumn(Bins{Edges: []float64{0, 2}})
	b.AddNumber(1)
	if a.Merge(b) == nil {
		t.Error("columns on different bins merged")
	}
}

func TestBins(t *testing.T) {
	x := make([]float64, 1000)
	for i := range x {
		x[i] = float64(i)
	}
	b := EqualFrequency(x, MostBins)
	if b.Len() != MostBins {
		t.Fatalf("got %d bins, want %d", b.Len(), MostBins)
	}
	c := ColumnOf(b, x)
	for i, k := range c.Counts {
		if k != 50 {
			t.Errorf("bin %d holds %d, want 50", i, k)
		}
	}
	c.AddNumber(-1)
	c.AddNumber(1e9)
	c.AddNumber(math.NaN())
	if c.Under != 1 || c.Over != 1 || c.Missing != 1 || c.Total() != 1003 {
		t.Errorf("outside: %+v", c)
	}
	c.AddNumber(math.Inf(1))
	c.AddNumber(-math.MaxFloat64)
	c.AddNumber(-math.MaxFloat64)
	if _, err := json.Marshal(c); err != nil || c.Over != 2 || c.Under != 3 || c.Max != 1e9 {
		t.Errorf("numbers without measure: %v, %+v", err, c)
	}
	if one := EqualFrequency([]float64{5, 5, 5}, MostBins); one.Len() != 1 ||
		ColumnOf(one, []float64{5, 5}).Counts[0] != 2 {
		t.Errorf("a single value: %+v", one)
	}
	if EqualFrequency([]float64{math.NaN()}, 5).Defined() {
		t.Error("bins out of nothing")
	}
	levels := TopLevels([]string{"works", "harbour", "works", "old-town", "old-town"}, 2)
	if !slices.Equal(levels.Levels, []string{"old-town", "works"}) {
		t.Errorf("levels: %v", levels.Levels)
	}
	l := NewColumn(levels)
	l.AddLevel("works")
	l.AddLevel("terraces")
	if !slices.Equal(l.Cells(), []uint64{0, 1, 1}) {
		t.Errorf("cells: %v", l.Cells())
	}
}

func sampleSummary(seed uint64, n int) *Summary {
	r := rand.New(rand.NewPCG(seed, 1))
	s := &Summary{}
	bins := EqualFrequency([]float64{-2, -1, 0, 1, 2}, MostBins)
	col := NewColumn(bins)
	for range n {
		s.Traffic.Add(Class(r.IntN(5)), time.Duration(r.IntN(1e7)), time.Duration(r.IntN(1e6)))
		col.AddNumber(r.NormFloat64())
		s.Content.Distinct.AddHash(r.Uint64())
	}
	s.Content.Outputs = map[string]*Column{"y": col}
	return s
}
