package sketch

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"

	"gonum.org/v1/gonum/floats"
)

// Column summarises the values of one input or output: a histogram on given bins,
// what fell outside of them, what was missing, and the moments of the numbers.
type Column struct {
	Bins   Bins     `json:"bins"`
	Counts []uint64 `json:"counts"`
	// Under and Over are numbers below the first and above the last edge; Other are
	// categories that are no level.
	Under   uint64 `json:"under,omitempty"`
	Over    uint64 `json:"over,omitempty"`
	Other   uint64 `json:"other,omitempty"`
	Missing uint64 `json:"missing,omitempty"`

	// Sums are those of the numbers in each cell, in the order of Cells: with them a
	// column keeps the mean of every cell, and its own exactly.
	Sums []float64 `json:"sums,omitempty"`
	// Squares is the sum of squared distances from the middle edge of the bins, which merges
	// exactly and does not cancel where all numbers are large, as squares of the numbers would.
	Squares float64 `json:"squares,omitempty"`
	// Min and Max hold only when some number was counted.
	Min float64 `json:"min,omitempty"`
	Max float64 `json:"max,omitempty"`

	// begun is set once it is known that Min and Max hold.
	begun bool
}

// NewColumn returns an empty column on bins.
func NewColumn(b Bins) *Column {
	c := &Column{Bins: b, Counts: make([]uint64, b.Len())}
	if b.Numeric() {
		c.Sums = make([]float64, b.Len()+2)
	}
	return c
}

// ColumnOf counts numbers on bins; NaN counts as missing.
func ColumnOf(b Bins, values []float64) *Column {
	c := NewColumn(b)
	for _, v := range values {
		c.AddNumber(v)
	}
	return c
}

// Seen is how many values were counted, the missing ones not included.
func (c *Column) Seen() uint64 {
	n := c.Outside()
	for _, k := range c.Counts {
		n += k
	}
	return n
}

// Outside is how many of them lie in no bin.
func (c *Column) Outside() uint64 { return c.Under + c.Over + c.Other }

// Total is Seen plus the missing ones.
func (c *Column) Total() uint64 { return c.Seen() + c.Missing }

// mostMoment is the largest number that takes part in sums and extremes. Larger ones,
// infinities too, are counted below or above the edges only: a sum of them would
// overflow.
const mostMoment = 1e120

// AddNumber counts one number; NaN counts as missing.
func (c *Column) AddNumber(x float64) {
	if math.IsNaN(x) || !c.Bins.Numeric() {
		c.Missing++
		return
	}
	i := c.Bins.number(x)
	if math.Abs(x) <= mostMoment {
		if !c.begun {
			if c.Seen() == 0 {
				c.Min, c.Max = x, x
			}
			c.begun = true
		}
		c.Min, c.Max = math.Min(c.Min, x), math.Max(c.Max, x)
		c.Sums[i+1] += x
		d := x - c.Bins.origin()
		c.Squares += d * d
	}
	switch {
	case i < 0:
		c.Under++
	case i >= len(c.Counts):
		c.Over++
	default:
		c.Counts[i]++
	}
}

// AddLevel counts one category.
func (c *Column) AddLevel(s string) {
	if i := c.Bins.level(s); i >= 0 {
		c.Counts[i]++
	} else {
		c.Other++
	}
}

// AddMissing counts one missing value.
func (c *Column) AddMissing() { c.Missing++ }

// mostCounted bounds every count of a column that comes from outside.
const mostCounted = 1 << 40

// Check says whether a column that comes from outside can have been counted: it has bins, a count for each, and sums
// that are numbers.
func (c *Column) Check() error {
	switch {
	case !c.Bins.Defined():
		return errors.New("it has no bins")
	case c.Bins.Len() > 2*MostBins+MostLevels:
		return fmt.Errorf("it has %d bins", c.Bins.Len())
	case !c.Bins.areInOrder():
		return errors.New("its bins are out of order, twice there, or no numbers")
	case len(c.Counts) != c.Bins.Len():
		return fmt.Errorf("it has %d counts for %d bins", len(c.Counts), c.Bins.Len())
	case c.Bins.Numeric() && len(c.Sums) != c.Bins.Len()+2, !c.Bins.Numeric() && len(c.Sums) != 0:
		return fmt.Errorf("it has %d sums for %d bins", len(c.Sums), c.Bins.Len())
	}
	for _, n := range append(slices.Clone(c.Counts), c.Under, c.Over, c.Other, c.Missing) {
		if n > mostCounted {
			return fmt.Errorf("it counts %d values", n)
		}
	}
	for _, x := range append(slices.Clone(c.Sums), c.Squares, c.Min, c.Max) {
		if math.IsNaN(x) || math.IsInf(x, 0) {
			return errors.New("its sums are no numbers")
		}
	}
	return nil
}

// Merge adds everything counted in o, which must be on equal bins.
func (c *Column) Merge(o *Column) error {
	if o == nil || o.Total() == 0 {
		return nil
	}
	if !c.Bins.Equal(o.Bins) {
		return fmt.Errorf("merging columns: one has %d bins, the other %d, or their edges differ", c.Bins.Len(),
			o.Bins.Len())
	}
	switch {
	case o.Seen() == 0:
	case c.Seen() == 0:
		c.Min, c.Max = o.Min, o.Max
	default:
		c.Min, c.Max = math.Min(c.Min, o.Min), math.Max(c.Max, o.Max)
	}
	for i, k := range o.Counts {
		c.Counts[i] += k
	}
	c.Under += o.Under
	c.Over += o.Over
	c.Other += o.Other
	c.Missing += o.Missing
	for i, x := range o.Sums {
		c.Sums[i] += x
	}
	c.Squares += o.Squares
	return nil
}

// Clone returns an independent copy; the bins are shared, they never change.
func (c *Column) Clone() *Column {
	d := *c
	d.Counts = slices.Clone(c.Counts)
	d.Sums = slices.Clone(c.Sums)
	return &d
}

// Cells lists every count that makes up the distribution, in order: for numbers
// below, the bins, above; for categories the levels, then all others.
func (c *Column) Cells() []uint64 {
	out := make([]uint64, 0, len(c.Counts)+2)
	if c.Bins.Numeric() {
		out = append(out, c.Under)
		out = append(out, c.Counts...)
		return append(out, c.Over)
	}
	out = append(out, c.Counts...)
	return append(out, c.Other)
}

// Mean is the mean of the numbers counted, NaN when there are none.
func (c *Column) Mean() float64 {
	return c.sum() / float64(c.Seen())
}

// StandardDeviation is that of the numbers counted (divisor n), NaN when there are none.
func (c *Column) StandardDeviation() float64 {
	return spread(c.Mean()-c.Bins.origin(), c.Squares/float64(c.Seen()))
}

// spread is the standard deviation from the mean and the mean square of distances from any point.
func spread(mean, square float64) float64 { return math.Sqrt(math.Max(0, square-mean*mean)) }

// UnmarshalJSON also reads columns from before, which kept the sum of the squared numbers.
func (c *Column) UnmarshalJSON(b []byte) error {
	type plain Column
	read := struct {
		*plain
		SumOfSquares *float64 `json:"sum_of_squares"`
	}{plain: (*plain)(c)}
	if err := json.Unmarshal(b, &read); err != nil {
		return err
	}
	if read.SumOfSquares != nil {
		c.Squares = about(*read.SumOfSquares, c.sum(), float64(c.Seen()), 0, c.Bins.origin())
	}
	return nil
}

// sum is that of the numbers counted.
func (c *Column) sum() float64 { return floats.Sum(c.Sums) }

// about makes the sum of squared distances of the n numbers with a sum from one point into that
// from another.
func about(squares, sum, n, from, to float64) float64 {
	by := from - to
	return math.Max(0, squares+2*by*(sum-n*from)+n*by*by)
}

// AddValue counts a value as it comes out of JSON: a number, a boolean, a text, or nil
// for a missing one. A value of another kind than the bins are for counts as missing.
func (c *Column) AddValue(v any) {
	switch v := v.(type) {
	case float64:
		c.AddNumber(v)
	case bool:
		if v {
			c.AddText("true")
		} else {
			c.AddText("false")
		}
	case string:
		c.AddText(v)
	default:
		c.AddMissing()
	}
}

// AddText counts one text; on numeric bins it counts as missing.
func (c *Column) AddText(s string) {
	if c.Bins.Numeric() {
		c.Missing++
		return
	}
	c.AddLevel(s)
}

// BinsOfValues chooses bins for values of the kinds that AddValue takes: equal
// frequency when the first one present is a number, else the top levels.
func BinsOfValues(values []any) Bins {
	var numbers []float64
	var texts []string
	for _, v := range values {
		switch v := v.(type) {
		case float64:
			numbers = append(numbers, v)
		case bool:
			texts = append(texts, map[bool]string{true: "true", false: "false"}[v])
		case string:
			texts = append(texts, v)
		}
	}
	if len(numbers) >= len(texts) {
		return EqualFrequency(numbers, MostBins)
	}
	return TopLevels(texts, MostLevels)
}

// At is the value below which a share of those in the bins lies, from 0 to 1; a level for categories, in their order.
// It is nil where there are none. Within a bin of numbers values are taken as spread evenly, as far as its mean allows,
// so that values drawn at even shares have the mean of the column.
func (c *Column) At(share float64) any {
	all := uint64(0)
	for _, n := range c.Counts {
		all += n
	}
	left := share * float64(all)
	last := -1
	for i, n := range c.Counts {
		if n == 0 {
			continue
		}
		if last = i; left < float64(n) {
			break
		}
		left -= float64(n)
	}
	switch {
	case last < 0:
		return nil
	case !c.Bins.Numeric():
		return c.Bins.Levels[last]
	}
	low, high := c.Bins.Edges[last], c.Bins.Edges[last+1]
	if n := float64(c.Counts[last]); len(c.Sums) > last+1 {
		mean := math.Min(math.Max(c.Sums[last+1]/n, low), high)
		low, high = math.Max(low, 2*mean-high), math.Min(high, 2*mean-low)
	}
	return low + math.Min(1, left/float64(c.Counts[last]))*(high-low)
}
