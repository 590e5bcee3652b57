package seqtest

import (
	"math"
	"slices"
)

// reach are the differences that a Contest looks at, in units of its margin.
var reach = [...]float64{0, 0.25, 0.5, 0.75, 1, 1.5, 2, 3, 4, 6, 8, 16, 32}

// Contest decides which of two lanes has the smaller rate, by an interval for the difference of the rates, the
// candidate's less the incumbent's, that holds at every moment. For each of some differences it keeps the two
// e-processes that the difference is smaller, and that it is larger; the interval is from the largest to the smallest
// that are ruled out, so it is as coarse as those lie: a quarter of the margin near 0. The rates may change from block
// to block, as long as their difference does not; where that changes too, the interval is of what it was at least, or
// at most, in every block.
//
// Its zero value looks at nothing; NewContest makes one. It can be stored as JSON and taken up again.
type Contest struct {
	// Differences are those that are looked at, ascending.
	Differences []float64 `json:"differences"`
	// Above has the evidence that the difference is larger than each, Below that it is smaller.
	Above []Rate `json:"above"`
	Below []Rate `json:"below"`
}

// NewContest looks at differences up to 32 times a margin, the smallest difference that matters.
func NewContest(margin float64) Contest {
	c := Contest{Differences: differences(margin, 1)}
	for _, d := range c.Differences {
		line := Line{Slope: 1, Offset: d}
		c.Above = append(c.Above, Rate{Line: line})
		c.Below = append(c.Below, Rate{Line: line, Below: true})
	}
	return c
}

// Observe takes one block into account.
func (c *Contest) Observe(b Block) {
	for i := range c.Differences {
		c.Above[i].Observe(b)
		c.Below[i].Observe(b)
	}
}

// Interval is that for the difference: the chance that it ever leaves out a difference that holds in every block is at
// most alpha, however often one looks. It is from -1 to 1 while nothing is ruled out.
//
// Each end goes from the outside inwards and stops at the first difference that is not ruled out. What is to its other
// side is then smaller than the first hypothesis that is true, so that an end is wrong only when that one hypothesis
// is rejected: nothing is to be shared among them (fixed sequence testing).
func (c *Contest) Interval(alpha float64) (low, high float64) {
	return ends(c.Differences, 1, func(i int) bool { return c.Above[i].Fires(alpha / 2) },
		func(i int) bool { return c.Below[i].Fires(alpha / 2) })
}

// differences are those that are looked at with a margin, ascending, and nearer to 0 than a bound.
func differences(margin, bound float64) (out []float64) {
	for _, sign := range []float64{-1, 1} {
		for _, r := range reach {
			if d := sign * r * margin; math.Abs(d) < bound && !slices.Contains(out, d) {
				out = append(out, d)
			}
		}
	}
	slices.Sort(out)
	return out
}

// ends goes from a bound inwards to the first differences that are not ruled out: that the true one is no larger, and
// no smaller.
func ends(differences []float64, bound float64, above, below func(i int) bool) (low, high float64) {
	low, high = -bound, bound
	for i, d := range differences {
		if !above(i) {
			break
		}
		low = d
	}
	for i, d := range slices.Backward(differences) {
		if !below(i) {
			break
		}
		high = d
	}
	return low, high
}

// Clone returns an independent copy.
func (c Contest) Clone() Contest {
	c.Above, c.Below = slices.Clone(c.Above), slices.Clone(c.Below)
	for i := range c.Above {
		c.Above[i].Logs, c.Below[i].Logs = slices.Clone(c.Above[i].Logs), slices.Clone(c.Below[i].Logs)
	}
	return c
}
