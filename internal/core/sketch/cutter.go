package sketch

import (
	"math"
	"slices"
)

const (
	// exactWindow is how many numbers a Cutter holds before it cuts; up to that many are
	// cut exactly as EqualFrequency does.
	exactWindow = 1 << 16
	// fineCells is how many cells the first cut makes, mostCells how many there may be
	// before neighbours are joined.
	fineCells, mostCells = 512, 2048
	// strayWindow is how many numbers outside of the cells are held before cells are
	// added for them; strayCells how many those are.
	strayWindow, strayCells = 4096, 64
)

// Cutter turns a stream of numbers into a Column on bins of about equal frequency, in
// one pass and flat memory. The first exactWindow numbers choose fine cells; every
// number is counted in its cell, cells are added where numbers fall outside, and at
// the end neighbouring cells are joined to bins. Counts, sums and extremes are exact
// for the bins that result; only the choice of their edges is approximate: a bin's
// share is off its ideal by at most one cell, about 1/512 unless the distribution
// changes much within the stream. Its zero value is empty and ready.
type Cutter struct {
	// cell i holds edges[i] ≤ x < edges[i+1].
	edges []float64
	// guide says for equal steps along the edges which cell begins at or before the step.
	guide  []int32
	step   float64
	counts []uint64
	sums   []float64
	held   []float64

	n, huge uint64
	// squares is the sum of squared distances from first, the first number.
	squares, first float64
	low, high      float64
	whole          bool // false once a number with a fraction was seen
	begun          bool
}

// Add counts one number; NaN must not be given.
func (c *Cutter) Add(x float64) {
	c.n++
	if x > mostMoment || x < -mostMoment { // would overflow sums; its place is beyond the edges
		c.huge++
		return
	}
	if !c.begun {
		c.begun, c.whole, c.low, c.high, c.first = true, true, x, x, x
	}
	if x < c.low {
		c.low = x
	}
	if x > c.high {
		c.high = x
	}
	if c.whole {
		c.whole = x == math.Trunc(x)
	}
	d := x - c.first
	c.squares += d * d
	if n := len(c.edges); n > 0 && x >= c.edges[0] && x < c.edges[n-1] {
		i := c.cell(x)
		c.counts[i]++
		c.sums[i] += x
		return
	}
	c.held = append(c.held, x)
	switch {
	case len(c.edges) == 0 && len(c.held) == exactWindow:
		c.cut(fineCells)
	case len(c.edges) > 0 && len(c.held) == strayWindow:
		c.extend()
	}
}

// guides is how many steps the guide has.
const guides = 4096

// guideAll makes the guide anew, after the edges have changed.
func (c *Cutter) guideAll() {
	n := len(c.edges)
	c.step = guides / (c.edges[n-1] - c.edges[0])
	c.guide = make([]int32, guides+2)
	i := 0
	for g := range c.guide {
		at := c.edges[0] + float64(g)/c.step
		for i < n-2 && c.edges[i+1] <= at {
			i++
		}
		c.guide[g] = int32(i)
	}
}

// cell finds the cell of a number within the edges: the guide tells between which two
// cells it must be, and there are few between them unless the numbers are crowded.
func (c *Cutter) cell(x float64) int {
	g := int((x - c.edges[0]) * c.step)
	if g < 0 || g > guides { // edges so close or so far apart that steps cannot be counted
		return c.search(x, 0, len(c.edges))
	}
	low, high := int(c.guide[g]), int(c.guide[g+1])
	// Rounding may put a number one step off.
	if low > 0 && c.edges[low] > x {
		return c.search(x, 0, low+1)
	}
	if high-low > 8 {
		return c.search(x, low, min(high+2, len(c.edges))-low)
	}
	for low < len(c.edges)-2 && c.edges[low+1] <= x {
		low++
	}
	return low
}

// search finds the cell of a number among n cells from low on.
func (c *Cutter) search(x float64, low, n int) int {
	for n > 1 {
		half := n >> 1
		if c.edges[low+half] <= x {
			low += half
		}
		n -= half
	}
	return min(low, len(c.edges)-2)
}

// cut makes the first cells out of what is held.
func (c *Cutter) cut(cells int) {
	c.edges = EqualFrequency(c.held, cells).Edges
	c.edges[len(c.edges)-1] = math.Nextafter(c.edges[len(c.edges)-1], math.Inf(1))
	if len(c.edges) >= 2 && c.edges[0] == c.edges[len(c.edges)-1] {
		c.edges[1] = math.Nextafter(c.edges[0], math.Inf(1))
	}
	c.counts, c.sums = make([]uint64, len(c.edges)-1), make([]float64, len(c.edges)-1)
	c.guideAll()
	c.count()
}

// count puts all numbers held into their cells.
func (c *Cutter) count() {
	for _, x := range c.held {
		i := c.cell(x)
		c.counts[i]++
		c.sums[i] += x
	}
	c.held = c.held[:0]
}

// extend adds cells on both sides for the numbers that are held, all of which are
// outside. No number was seen in the gaps before, so the counts stay exact.
func (c *Cutter) extend() {
	var below, above []float64
	for _, x := range c.held {
		if x < c.edges[0] {
			below = append(below, x)
		} else {
			above = append(above, x)
		}
	}
	if len(below) > 0 {
		e := EqualFrequency(below, strayCells).Edges
		e = e[:len(e)-1] // the cell up to the present first edge is open at the end
		c.edges = append(e, c.edges...)
		c.counts = append(make([]uint64, len(e)), c.counts...)
		c.sums = append(make([]float64, len(e)), c.sums...)
	}
	if len(above) > 0 {
		e := EqualFrequency(above, strayCells).Edges
		e[len(e)-1] = math.Nextafter(e[len(e)-1], math.Inf(1))
		if e[0] == c.edges[len(c.edges)-1] {
			e = e[1:]
		}
		c.edges = append(c.edges, slices.Compact(e)...)
		grown := len(c.edges) - 1 - len(c.counts)
		c.counts = append(c.counts, make([]uint64, grown)...)
		c.sums = append(c.sums, make([]float64, grown)...)
	}
	c.guideAll()
	c.count()
	if len(c.counts) > mostCells {
		c.join()
		c.guideAll()
	}
}

// join merges neighbours until about half of the cells are left, the lightest first in
// effect: a cell takes in its right neighbour while both together are light.
func (c *Cutter) join() {
	limit := c.n / (mostCells / 2)
	edges, counts, sums := c.edges[:1], c.counts[:0], c.sums[:0]
	var n uint64
	var sum float64
	for i := range c.counts {
		n, sum = n+c.counts[i], sum+c.sums[i]
		if n >= limit || i == len(c.counts)-1 {
			edges, counts, sums = append(edges, c.edges[i+1]), append(counts, n), append(sums, sum)
			n, sum = 0, 0
		}
	}
	c.edges, c.counts, c.sums = edges, counts, sums
}

// Count is how many numbers were added.
func (c *Cutter) Count() uint64 { return c.n }

// Whole reports whether all numbers were whole.
func (c *Cutter) Whole() bool { return c.whole }

// Range is the least and the greatest number.
func (c *Cutter) Range() (low, high float64) { return c.low, c.high }

// Column cuts what was seen into about `most` bins. The cutter can go on afterwards.
func (c *Cutter) Column(most int) *Column {
	if c.n == c.huge {
		return &Column{Over: c.huge}
	}
	if len(c.edges) == 0 { // little enough to be exact
		col := ColumnOf(EqualFrequency(c.held, most), c.held)
		col.Over += c.huge
		return col
	}
	edges, counts, sums := c.cells(most)
	col := &Column{Over: c.huge, Min: c.low, Max: c.high, begun: true, Bins: Bins{Edges: edges}, Counts: counts}
	col.Sums = append(append([]float64{0}, sums...), 0)
	col.Squares = about(c.squares, col.sum(), float64(c.n-c.huge), c.first, col.Bins.origin())
	return col
}

// cells joins the cells to about `most`. The first begins with the least number, the last ends with the
// greatest.
func (c *Cutter) cells(most int) (edges []float64, counts []uint64, sums []float64) {
	if len(c.held) > 0 {
		c.extend()
	}
	begins := joined(c.counts, most)
	counts, sums = gathered(begins, c.counts, c.sums)
	edges = edgesOf(c.edges, begins, c.high)
	for k := len(counts) - 1; k > 0; k-- {
		if counts[k] == 0 { // a gap in which nothing was seen belongs to the bin before it
			edges, counts = slices.Delete(edges, k, k+1), slices.Delete(counts, k, k+1)
			sums = slices.Delete(sums, k, k+1)
		}
	}
	edges[0] = c.low
	return edges, counts, sums
}

// gathered puts the counts and sums of cells together for bins that begin with some of them.
func gathered(begins []int, counts []uint64, sums []float64) (n []uint64, sum []float64) {
	n, sum = make([]uint64, len(begins)), make([]float64, len(begins))
	for k, from := range begins {
		to := len(counts)
		if k+1 < len(begins) {
			to = begins[k+1]
		}
		for i := from; i < to; i++ {
			n[k], sum[k] = n[k]+counts[i], sum[k]+sums[i]
		}
	}
	return n, sum
}

// Fine keeps what was seen in up to 512 cells, or all different values where there are no more, so that it can
// be counted again on other bins.
func (c *Cutter) Fine() *Fine {
	if c.n == c.huge {
		return nil
	}
	if len(c.edges) > 0 {
		edges, counts, sums := c.cells(fineCells)
		return &Fine{edges, counts, sums}
	}
	x := slices.Clone(c.held)
	slices.Sort(x)
	different, repeated := runs(x)
	begins := make([]int, len(different))
	for i := range begins {
		begins[i] = i
	}
	if len(different) > fineCells {
		begins = joined(repeated, fineCells)
	}
	sums := make([]float64, len(different))
	for i, v := range different {
		sums[i] = v * float64(repeated[i])
	}
	f := &Fine{edges: edgesOf(different, begins, x[len(x)-1])}
	f.counts, f.sums = gathered(begins, repeated, sums)
	return f
}
