package seqtest

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/floats"
)

// Excess is the e-process for the hypothesis that in every block the candidate fails no more than an
// Allowance says. What is allowed is a union of two half-planes, so the evidence against it is the
// smaller of those against each. Enough is its mirror image: evidence that the candidate is better than
// the allowance, which is the mean of two, since that is a cut of two half-planes.
type Excess struct {
	ByRatio      Rate `json:"by_ratio"`
	ByDifference Rate `json:"by_difference"`
	UnderRatio   Rate `json:"under_ratio"`
	UnderSum     Rate `json:"under_sum"`
}

// NewExcess begins with an allowance. Without a ratio only the difference counts.
func NewExcess(a Allowance) Excess {
	ratio, difference := Line{Slope: max(1, a.Ratio)}, Line{Slope: 1, Offset: a.Difference}
	return Excess{
		ByRatio: Rate{Line: ratio}, ByDifference: Rate{Line: difference},
		UnderRatio: Rate{Line: ratio, Below: true}, UnderSum: Rate{Line: difference, Below: true},
	}
}

// rates are all of its processes.
func (e *Excess) rates() []*Rate {
	return []*Rate{&e.ByRatio, &e.ByDifference, &e.UnderRatio, &e.UnderSum}
}

// Observe takes one block into account.
func (e *Excess) Observe(b Block) {
	for _, r := range e.rates() {
		r.Observe(b)
	}
}

// LogE is the logarithm of the evidence that the candidate fails more than allowed.
func (e *Excess) LogE() float64 { return math.Min(e.ByRatio.LogE(), e.ByDifference.LogE()) }

// LogEnough is the logarithm of the evidence that it fails less.
func (e *Excess) LogEnough() float64 {
	return floats.LogSumExp([]float64{e.UnderRatio.LogE(), e.UnderSum.LogE()}) - math.Ln2
}

// Clone returns an independent copy.
func (e Excess) Clone() Excess {
	for _, r := range e.rates() {
		r.Logs = slices.Clone(r.Logs)
	}
	return e
}

// Edges are e-processes on a distribution that is counted in cells: for each inner edge, or for each
// level of a category against the rest, and in both directions, the process on counts below and above
// it, with a margin by which shares may differ. Their mean is the evidence (Vovk and Wang 2021). The law
// may drift in time, as long as the two sides differ by no more than the margin in each block.
type Edges struct {
	Margin  float64 `json:"margin"`
	Ordered bool    `json:"ordered"`
	// Taken are the counts of both sides that were bet on already, cell by cell.
	IncumbentTaken []uint64 `json:"incumbent_taken"`
	CandidateTaken []uint64 `json:"candidate_taken"`
	// More and Less are the processes that the candidate has more, or less, below each edge.
	More []Rate `json:"more"`
	Less []Rate `json:"less"`
	// NotMore and NotLess are the processes that it has not.
	NotMore []Rate `json:"not_more"`
	NotLess []Rate `json:"not_less"`
}

// sides are the four lists of processes.
func (e *Edges) sides() []*[]Rate { return []*[]Rate{&e.More, &e.Less, &e.NotMore, &e.NotLess} }

// NewEdges begins with a margin; ordered cells are those of numbers.
func NewEdges(margin float64, ordered bool) Edges { return Edges{Margin: margin, Ordered: ordered} }

// Observe takes what is new in the counts of both sides into account. Counts only grow; where they are
// on other cells than before, it begins anew, and where they have gone down, with a crash, nothing is
// new.
func (e *Edges) Observe(incumbent, candidate []uint64) {
	if len(e.IncumbentTaken) != len(incumbent) {
		*e = NewEdges(e.Margin, e.Ordered)
		e.IncumbentTaken, e.CandidateTaken = make([]uint64, len(incumbent)), make([]uint64, len(incumbent))
	}
	a, b := less(incumbent, e.IncumbentTaken), less(candidate, e.CandidateTaken)
	copy(e.IncumbentTaken, incumbent)
	copy(e.CandidateTaken, candidate)
	all := Block{IncumbentRequests: total(a), CandidateRequests: total(b)}
	at := 0
	var below Block
	for i := range a {
		if e.Ordered && i == len(a)-1 {
			break
		}
		below.IncumbentFailed, below.CandidateFailed = below.IncumbentFailed+a[i], below.CandidateFailed+b[i]
		if !e.Ordered {
			below.IncumbentFailed, below.CandidateFailed = a[i], b[i]
		}
		for i, side := range e.sides() {
			if at >= len(*side) { // what was stored before may lack a side
				*side = append(*side, Rate{Line: Line{Slope: 1, Offset: e.Margin}, Below: i >= 2})
			}
		}
		more, less := all, all
		more.IncumbentFailed, more.CandidateFailed = below.IncumbentFailed, below.CandidateFailed
		less.IncumbentFailed = all.IncumbentRequests - below.IncumbentFailed
		less.CandidateFailed = all.CandidateRequests - below.CandidateFailed
		e.More[at].Observe(more)
		e.Less[at].Observe(less)
		e.NotMore[at].Observe(more)
		e.NotLess[at].Observe(less)
		at++
	}
}

// LogE is the logarithm of the evidence that the candidate's distribution is further away than the
// margin, where the rows tell what a share of them would: 1 when they are independent.
func (e *Edges) LogE(share float64) float64 {
	if len(e.More) == 0 {
		return 0
	}
	var logs []float64
	for i := range e.More {
		logs = append(logs, min(1, share)*e.More[i].LogE(), min(1, share)*e.Less[i].LogE())
	}
	return floats.LogSumExp(logs) - math.Log(float64(len(logs)))
}

// LogEnough is the logarithm of the evidence that it is nowhere as far away as the margin: the least of
// those at all edges and in both directions, since it must hold at each.
func (e *Edges) LogEnough(share float64) float64 {
	if len(e.NotMore) == 0 {
		return 0
	}
	least := math.Inf(1)
	for i := range e.NotMore {
		least = min(least, e.NotMore[i].LogE(), e.NotLess[i].LogE())
	}
	return min(1, share) * least
}

// Gap is the largest difference of the shares below an edge, or of one level, and where it is.
func (e *Edges) Gap() (gap float64, at int) {
	n, m := float64(total(e.IncumbentTaken)), float64(total(e.CandidateTaken))
	if n == 0 || m == 0 {
		return 0, 0
	}
	var a, b float64
	for i := range e.IncumbentTaken {
		if !e.Ordered {
			a, b = 0, 0
		}
		a, b = a+float64(e.IncumbentTaken[i])/n, b+float64(e.CandidateTaken[i])/m
		if g := math.Abs(a - b); g > gap {
			gap, at = g, i
		}
	}
	return gap, at
}

// Clone returns an independent copy.
func (e Edges) Clone() Edges {
	e.IncumbentTaken, e.CandidateTaken = slices.Clone(e.IncumbentTaken), slices.Clone(e.CandidateTaken)
	for _, side := range e.sides() {
		*side = slices.Clone(*side)
		for i := range *side {
			(*side)[i].Logs = slices.Clone((*side)[i].Logs)
		}
	}
	return e
}

// less is what counts have grown by.
func less(now, before []uint64) []uint64 {
	out := make([]uint64, len(now))
	for i := range now {
		out[i] = now[i] - min(now[i], before[i])
	}
	return out
}

func total(counts []uint64) (n uint64) {
	for _, k := range counts {
		n += k
	}
	return n
}
