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
func NewMeanContest(centre, clip, margin float64) MeanContest {
	c := MeanContest{Differences: differences(margin, math.Inf(1))}
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
	needed := -math.Log(alpha / 2)
	return ends(c.Differences, math.Inf(1), func(i int) bool { return c.Above[i].LogE() >= needed },
		func(i int) bool { return c.Below[i].LogE() >= needed })
}

// Clone returns an independent copy.
func (c MeanContest) Clone() MeanContest {
	c.Above, c.Below = slices.Clone(c.Above), slices.Clone(c.Below)
	for i := range c.Above {
		c.Above[i].Logs, c.Below[i].Logs = slices.Clone(c.Above[i].Logs), slices.Clone(c.Below[i].Logs)
	}
	return c
}
