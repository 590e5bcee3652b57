package seqtest

import (
	"math"
	"slices"
)

// MeanContest decides which of two lanes has the smaller mean, by an interval for the difference of the clipped means,
// the candidate's less the incumbent's, that holds at every moment: as Contest does for rates, and as coarse. The
// values of each side may change with time, as long as their difference does not.
//
// Its zero value looks at nothing; NewMeanContest makes one. It can be stored as JSON and taken up again.
type MeanContest struct {
	// Differences are those that are looked at, ascending.
	Differences []float64 `json:"differences"`
	// Above has the evidence that the difference is larger than each, Below that it is smaller.
	Above []Mean `json:"above"`
	Below []Mean `json:"below"`
}

// NewMeanContest looks at differences up to 32 times a margin, the smallest difference that matters, of values on a
// scale as that of Mean.
func NewMeanContest(centre, clip, margin float64) (c MeanContest) {
	for _, sign := range []float64{-1, 1} {
		for _, r := range reach {
			if d := sign * r * margin; !slices.Contains(c.Differences, d) {
				c.Differences = append(c.Differences, d)
			}
		}
	}
	slices.Sort(c.Differences)
	for _, d := range c.Differences {
		c.Above = append(c.Above, Mean{Centre: centre, Clip: clip, Margin: d})
		c.Below = append(c.Below, Mean{Centre: centre, Clip: clip, Margin: -d})
	}
	return c
}

// Observe takes some values of each side into account.
func (c *MeanContest) Observe(incumbent, candidate []float64) {
	for i := range c.Differences {
		c.Above[i].Observe(incumbent, candidate)
		c.Below[i].Observe(candidate, incumbent)
	}
}

// Interval is that for the difference: the chance that it ever leaves out a difference that always holds is at most
// alpha, however often one looks. It is open while nothing is ruled out. Its ends stop at the first difference that is
// not, as those of Contest do.
func (c *MeanContest) Interval(alpha float64) (low, high float64) {
	low, high = math.Inf(-1), math.Inf(1)
	needed := -math.Log(alpha / 2)
	for i, d := range c.Differences {
		if c.Above[i].LogE() < needed {
			break
		}
		low = d
	}
	for i, d := range slices.Backward(c.Differences) {
		if c.Below[i].LogE() < needed {
			break
		}
		high = d
	}
	return low, high
}

// Clone returns an independent copy.
func (c MeanContest) Clone() MeanContest {
	c.Above, c.Below = slices.Clone(c.Above), slices.Clone(c.Below)
	for i := range c.Above {
		c.Above[i].Logs, c.Below[i].Logs = slices.Clone(c.Above[i].Logs), slices.Clone(c.Below[i].Logs)
	}
	return c
}
