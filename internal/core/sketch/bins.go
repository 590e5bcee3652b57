package sketch

import (
	"cmp"
	"math"
	"slices"
	"sort"
)

const (
	// MostBins is the largest number of bins of a numeric column.
	MostBins = 20
	// MostLevels is the largest number of levels kept of a column of categories.
	MostLevels = 50
)

// Bins say how the values of one column are counted: by ascending edges for numbers,
// or by levels for categories. Exactly one of the two is set. Two columns can be
// compared only when they were counted on equal bins.
type Bins struct {
	// Edges are ascending; bin i holds Edges[i] ≤ x < Edges[i+1], the last bin also
	// its upper edge. Two equal edges at the end are a bin of that one value.
	Edges  []float64 `json:"edges,omitempty"`
	Levels []string  `json:"levels,omitempty"`
}

// EqualFrequency cuts values into about `most` bins that hold about equally many
// of them; ties are never cut, so there may be fewer. A value that holds one of `most` parts or more,
// such as the zero of a column that mostly is, or the limit at which numbers
// are clamped, has a bin of its own, so there may be more where there are many such: less than twice as
// many. NaN and infinities are left out. With no values it returns the zero Bins.
func EqualFrequency(values []float64, most int) Bins {
	x := make([]float64, 0, len(values))
	for _, v := range values {
		if !math.IsNaN(v) && !math.IsInf(v, 0) {
			x = append(x, v)
		}
	}
	if len(x) == 0 {
		return Bins{}
	}
	slices.Sort(x)
	different, counts := runs(x)
	return Bins{Edges: edgesOf(different, joined(counts, most), x[len(x)-1])}
}

// runs are the different values of sorted ones, and how many there are of each.
func runs(x []float64) (different []float64, counts []uint64) {
	for i, v := range x {
		if i == 0 || v > different[len(different)-1] {
			different, counts = append(different, v), append(counts, 0)
		}
		counts[len(counts)-1]++
	}
	return different, counts
}

// joined joins neighbouring cells to about `most` bins of about equal counts, and returns the cell with which
// each bin begins. A cell that holds one of `most` parts or more stays alone.
func joined(counts []uint64, most int) (begins []int) {
	var total, heavy uint64
	alone := 0
	isHeavy := func(i int) bool { return counts[i]*uint64(most) >= total }
	for _, k := range counts {
		total += k
	}
	for i, k := range counts {
		if isHeavy(i) {
			alone, heavy = alone+1, heavy+k
		}
	}
	goal := float64(total-heavy) / float64(max(1, most-alone))
	var n uint64 // what the running bin holds
	seen, closed := 0.0, 0.0
	for i, k := range counts {
		last := len(begins) - 1
		switch {
		case i == 0 || isHeavy(i) || isHeavy(i-1):
			// A remainder of next to nothing goes to the bin before it.
			if last > 0 && n > 0 && float64(n) < goal/4 && !isHeavy(begins[last]-1) {
				begins = begins[:last]
			}
			if n > 0 {
				closed++
			}
			begins, n = append(begins, i), 0
		default:
			// The bin closes where the running count comes nearest to its share.
			if want := goal * (closed + 1); n > 0 && k > 0 && math.Abs(seen-want) <= math.Abs(seen+float64(k)-want) {
				begins, n = append(begins, i), 0
				closed++
			}
		}
		if !isHeavy(i) {
			n += k
			seen += float64(k)
		}
	}
	return begins
}

// edgesOf are the edges of bins that begin with cells, whose last number is high. Where the last bin is of
// that one value, the last two edges are equal.
func edgesOf(lows []float64, begins []int, high float64) []float64 {
	edges := make([]float64, 0, len(begins)+1)
	for _, i := range begins {
		edges = append(edges, lows[i])
	}
	return append(edges, high)
}

// TopLevels takes the most frequent `most` of values, ties in alphabetical order,
// and lists them alphabetically.
func TopLevels(values []string, most int) Bins {
	count := map[string]int{}
	for _, v := range values {
		count[v]++
	}
	levels := make([]string, 0, len(count))
	for v := range count {
		levels = append(levels, v)
	}
	slices.SortFunc(levels, func(a, b string) int {
		return cmp.Or(cmp.Compare(count[b], count[a]), cmp.Compare(a, b))
	})
	levels = levels[:min(most, len(levels))]
	slices.Sort(levels)
	return Bins{Levels: levels}
}

// Numeric reports whether the bins are for numbers.
func (b Bins) Numeric() bool { return len(b.Edges) > 0 }

// Defined reports whether the bins can count anything.
func (b Bins) Defined() bool { return len(b.Edges) > 1 || len(b.Levels) > 0 }

// longestLevel is how long a level from outside may be.
const longestLevel = 128

// areInOrder reports whether bins that come from outside can be counted on: edges ascend, levels are sorted and differ.
func (b Bins) areInOrder() bool {
	if b.Numeric() == (len(b.Levels) > 0) {
		return false
	}
	for i, x := range b.Edges {
		last := i == len(b.Edges)-1 // may be equal to the one before
		if math.IsNaN(x) || math.IsInf(x, 0) || i > 0 && (x < b.Edges[i-1] || x == b.Edges[i-1] && !last) {
			return false
		}
	}
	for i, l := range b.Levels {
		if len(l) > longestLevel || i > 0 && l <= b.Levels[i-1] {
			return false
		}
	}
	return true
}

// Len is the number of bins or levels.
func (b Bins) Len() int {
	if b.Numeric() {
		return len(b.Edges) - 1
	}
	return len(b.Levels)
}

// origin is the middle edge: a point among the numbers from which distances are measured.
func (b Bins) origin() float64 {
	if !b.Numeric() {
		return 0
	}
	return b.Edges[len(b.Edges)/2]
}

// Equal reports whether a column counted on b can be compared with one on o.
func (b Bins) Equal(o Bins) bool {
	return slices.Equal(b.Edges, o.Edges) && slices.Equal(b.Levels, o.Levels)
}

// number returns the bin of x, -1 below the first edge, Len() above the last.
func (b Bins) number(x float64) int {
	n := len(b.Edges)
	if x < b.Edges[0] {
		return -1
	}
	if x > b.Edges[n-1] {
		return n - 1
	}
	// the first edge above x; x equal to the last edge belongs to the last bin
	i := sort.Search(n, func(i int) bool { return b.Edges[i] > x })
	return min(i, n-1) - 1
}

// level returns the position of s, or -1.
func (b Bins) level(s string) int {
	i, found := slices.BinarySearch(b.Levels, s)
	if !found {
		return -1
	}
	return i
}
