package sketch

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
)

// Fine are numbers counted in fine cells, which are counted again on whatever bins they are compared on.
type Fine struct {
	// edges bound the cells: cell i holds edges[i] ≤ x < edges[i+1], the last also its upper edge.
	edges  []float64
	counts []uint64
	sums   []float64
}

// On counts the column again on other bins, out of its fine cells. A cell's numbers are taken to lie evenly
// around their mean, so a bin is off by at most what lies in the two cells that its edges cut, and cells of
// one value stay where they are. Without fine cells (nil), or with levels, the column's own serve. It
// returns nil when one is for numbers and the other for categories.
func (c *Column) On(o Bins, f *Fine) *Column {
	if c.Bins.Equal(o) {
		return c.Clone()
	}
	if c.Bins.Numeric() != o.Numeric() {
		return nil
	}
	if !o.Numeric() {
		return c.onLevels(o)
	}
	if f == nil {
		f = c.coarse()
	}
	out := NewColumn(o)
	out.Missing, out.Min, out.Max, out.begun = c.Missing, c.Min, c.Max, c.begun
	out.Squares = about(c.Squares, c.sum(), float64(c.Seen()), c.Bins.origin(), o.origin())
	// The cumulative count at each of o's edges, and the sums with it.
	below, sumBelow := make([]float64, len(o.Edges)), make([]float64, len(o.Edges))
	total, sumTotal := 0.0, 0.0
	for i, k := range f.counts {
		low, high := f.spread(i)
		for j, e := range o.Edges {
			part := 0.0
			switch last := j == len(o.Edges)-1; {
			case e > high, last && e >= high: // the last bin has its upper edge
				part = 1
			case e > low && high > low:
				part = (e - low) / (high - low)
			}
			below[j] += part * float64(k)
			sumBelow[j] += part * f.sums[i]
		}
		total, sumTotal = total+float64(k), sumTotal+f.sums[i]
	}
	// Rounding the cumulative counts, not the bins, keeps the total.
	last, lastSum := uint64(0), 0.0
	for j := range o.Edges {
		n := max(uint64(math.Round(below[j])), last)
		if j == 0 {
			out.Under = n
		} else {
			out.Counts[j-1] = n - last
		}
		out.Sums[j] = sumBelow[j] - lastSum
		last, lastSum = n, sumBelow[j]
	}
	out.Over = uint64(math.Round(total)) - min(last, uint64(math.Round(total)))
	out.Sums[len(out.Sums)-1] = sumTotal - lastSum
	if seen := c.Seen(); out.Seen() < seen { // numbers too large to be in any cell
		out.Over += seen - out.Seen()
	}
	return out
}

// spread is the range over which the numbers of a cell are taken to lie evenly: the widest in it that has
// their mean. That of a cell of one value is the value.
func (f *Fine) spread(i int) (low, high float64) {
	low, high = f.edges[i], f.edges[i+1]
	mean := math.Max(low, math.Min(high, f.sums[i]/float64(max(1, f.counts[i]))))
	// What rounding puts between a value and the mean of so many of it is nothing.
	if mean-low <= 1e-12*math.Abs(low) {
		return low, low
	}
	if mean < low+(high-low)/2 {
		return low, math.Max(low, 2*mean-low)
	}
	return math.Min(high, 2*mean-high), high
}

// coarse are the column's own cells, the outer ones up to its extremes.
func (c *Column) coarse() *Fine {
	f := &Fine{}
	edges := c.Bins.Edges
	first, last := edges[0], edges[len(edges)-1]
	if c.Under > 0 {
		f.edges, f.counts, f.sums = append(f.edges, math.Min(c.Min, first)), append(f.counts, c.Under), c.Sums[:1:1]
	}
	f.edges, f.counts, f.sums = append(f.edges, edges...), append(f.counts, c.Counts...), append(f.sums,
		c.Sums[1:len(c.Sums)-1]...)
	if c.Over > 0 {
		f.edges = append(f.edges, math.Max(c.Max, last))
		f.counts, f.sums = append(f.counts, c.Over), append(f.sums, c.Sums[len(c.Sums)-1])
	}
	return f
}

// onLevels counts categories again: levels are exact, but those that o does not know become Other.
func (c *Column) onLevels(o Bins) *Column {
	out := NewColumn(o)
	out.Missing, out.Other = c.Missing, c.Other
	for i, level := range c.Bins.Levels {
		if j := o.level(level); j >= 0 {
			out.Counts[j] += c.Counts[i]
		} else {
			out.Other += c.Counts[i]
		}
	}
	return out
}

// MarshalJSON writes the cells as a text of base64: there are many.
func (f *Fine) MarshalJSON() ([]byte, error) {
	b := binary.AppendUvarint([]byte{binaryForm}, uint64(len(f.counts)))
	for _, e := range f.edges {
		b = appendFloat(b, e)
	}
	for i, k := range f.counts {
		b = appendFloat(binary.AppendUvarint(b, k), f.sums[i])
	}
	return json.Marshal(base64.StdEncoding.EncodeToString(b))
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (f *Fine) UnmarshalJSON(b []byte) error {
	var text string
	if err := json.Unmarshal(b, &text); err != nil {
		return err
	}
	raw, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return fmt.Errorf("reading fine cells: %w", err)
	}
	r := readBinary(raw, binaryForm)
	n := r.uint()
	if n > mostCells {
		return fmt.Errorf("reading fine cells: there are %d", n)
	}
	*f = Fine{}
	for range n + 1 {
		f.edges = append(f.edges, r.float())
	}
	for range n {
		f.counts, f.sums = append(f.counts, r.uint()), append(f.sums, r.float())
	}
	if r.err == nil && len(r.b) > 0 {
		r.err = fmt.Errorf("%d bytes are left over", len(r.b))
	}
	if r.err != nil {
		return fmt.Errorf("reading fine cells: %w", r.err)
	}
	return nil
}
