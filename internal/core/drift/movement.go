package drift

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"
)

// Verdict is what a movement amounts to.
type Verdict string

const (
	// Steady is a movement that is small, or that chance alone would make.
	Steady Verdict = "steady"
	// Look is a movement beyond chance and large enough to be worth a look.
	Look Verdict = "look"
	// Moved is a large movement beyond chance.
	Moved Verdict = "moved"
	// NotEnough is too little, or too repetitive, data to tell.
	NotEnough Verdict = "not enough to tell"
)

const (
	lookFrom  = 0.1  // PSI: the trade's habit
	movedFrom = 0.25 // PSI: the trade's habit
	// noiseLevel is the share of unchanged pairs that stays within the noise.
	noiseLevel = 0.99
)

// Need is the least evidence on which a column may be called moved.
type Need struct{ Observations, Distinct uint64 }

// DefaultNeed asks for 200 observations of which 50 are distinct inputs.
var DefaultNeed = Need{Observations: 200, Distinct: 50}

// Lacking says what is missing to judge n observations of so many distinct inputs, or
// "" when it is enough.
func (d Need) Lacking(n, distinct uint64) string {
	var lacks []string
	if n < d.Observations {
		lacks = append(lacks, fmt.Sprintf("%d of %d observations", n, d.Observations))
	}
	if distinct < d.Distinct {
		lacks = append(lacks, fmt.Sprintf("%d of %d distinct inputs", distinct, d.Distinct))
	}
	return strings.Join(lacks, ", ")
}

// Met is how far n observations of so many distinct inputs are on the way to being
// enough, from 0 to 1.
func (d Need) Met(n, distinct uint64) float64 {
	return min(1, float64(n)/float64(max(1, d.Observations)), float64(distinct)/float64(max(1, d.Distinct)))
}

// Sample is one side of a comparison of a column: what was counted and from how many
// distinct inputs.
type Sample struct {
	Column   *sketch.Column
	Distinct uint64
}

// Movement is how far one column moved from P to Q.
type Movement struct {
	// PSI is in nats; NoiseExpected is its mean and Noise99 its 99 % quantile if
	// nothing had changed.
	PSI           float64 `json:"psi"`
	NoiseExpected float64 `json:"noise_expected"`
	Noise99       float64 `json:"noise_99"`
	// JensenShannon is a distance in [0, 1].
	JensenShannon float64 `json:"jensen_shannon"`
	// KS is the largest gap of the cumulative shares, numbers only.
	KS  float64 `json:"ks,omitempty"`
	KSP float64 `json:"ks_p,omitempty"`
	// Wasserstein is in the column's unit, numbers only; WassersteinSD is that divided
	// by the standard deviation of P.
	Wasserstein   float64 `json:"wasserstein,omitempty"`
	WassersteinSD float64 `json:"wasserstein_sd,omitempty"`
	// MeanShift is the mean of Q less that of P, in the column's unit, numbers only.
	MeanShift float64 `json:"mean_shift,omitempty"`
	// G is the likelihood-ratio statistic, categories only.
	G  float64 `json:"g,omitempty"`
	GP float64 `json:"g_p,omitempty"`
	// MissingChange is the missing share of Q less that of P, with its 95 % interval.
	MissingChange     float64 `json:"missing_change"`
	MissingChangeLow  float64 `json:"missing_change_low"`
	MissingChangeHigh float64 `json:"missing_change_high"`
	// P is the chance of such a movement under no change: from the noise of PSI for
	// numbers, from the G-test for categories. AdjustedP allows for all the columns
	// that were looked at together.
	P         float64 `json:"p"`
	AdjustedP float64 `json:"adjusted_p"`
	Verdict   Verdict `json:"verdict"`
	Sentence  string  `json:"sentence"`
	Numeric   bool    `json:"numeric"`
	Reference uint64  `json:"reference_n"`
	Now       uint64  `json:"now_n"`
}

// Measure computes the distances from p to q and judges them as the only column
// looked at. The columns must be on equal bins, or an error says so.
func Measure(p, q Sample, need Need) (Movement, error) {
	if !p.Column.Bins.Equal(q.Column.Bins) {
		return Movement{}, fmt.Errorf("the two sides were counted on different bins (%d and %d)", p.Column.Bins.Len(),
			q.Column.Bins.Len())
	}
	cp, cq := p.Column.Cells(), q.Column.Cells()
	n, m := float64(p.Column.Seen()), float64(q.Column.Seen())
	// Cells that neither side ever fills carry no information and no noise.
	cp, cq = dropEmpty(cp, cq)
	noise := NoiseOf(len(cp), n, m)
	mv := Movement{
		PSI: PSI(cp, cq), NoiseExpected: noise.Expected(), Noise99: noise.Quantile(noiseLevel),
		JensenShannon: JensenShannon(cp, cq), Numeric: p.Column.Bins.Numeric(),
		Reference: p.Column.Seen(), Now: q.Column.Seen(),
	}
	if mv.Numeric {
		mv.KS, mv.KSP = KolmogorovSmirnov(cp, cq)
		mv.Wasserstein = Wasserstein(p.Column, q.Column)
		if sd := p.Column.StandardDeviation(); sd > 0 {
			mv.WassersteinSD = mv.Wasserstein / sd
		}
		if n > 0 && m > 0 {
			mv.MeanShift = q.Column.Mean() - p.Column.Mean()
		}
		mv.P = noise.P(mv.PSI)
	} else {
		mv.G, mv.GP = GTest(cp, cq)
		mv.P = mv.GP
	}
	change := interval.Newcombe(p.Column.Missing, p.Column.Total(), q.Column.Missing, q.Column.Total(), 0.95)
	mv.MissingChange = share(q.Column.Missing, q.Column.Total()) - share(p.Column.Missing, p.Column.Total())
	mv.MissingChangeLow, mv.MissingChangeHigh = change.Low, change.High
	mv.AdjustedP = mv.P
	mv.judge(need, min(p.Distinct, q.Distinct))
	return mv, nil
}

// MeasureAll measures several columns of the same two sides together and adjusts
// their p-values for one another. Columns that cannot be compared are left out and
// named.
func MeasureAll(p, q map[string]*sketch.Column, distinctP, distinctQ uint64,
	need Need,
) (moved map[string]Movement, left []string) {
	moved = map[string]Movement{}
	var names []string
	var ps []float64
	for name, col := range q {
		ref, ok := p[name]
		if !ok {
			left = append(left, name)
			continue
		}
		mv, err := Measure(Sample{ref, distinctP}, Sample{col, distinctQ}, need)
		if err != nil {
			left = append(left, name)
			continue
		}
		moved[name] = mv
		names = append(names, name)
		ps = append(ps, mv.P)
	}
	slices.Sort(left)
	for i, adjusted := range BenjaminiHochberg(ps) {
		mv := moved[names[i]]
		mv.AdjustedP = adjusted
		mv.judge(need, min(distinctP, distinctQ))
		moved[names[i]] = mv
	}
	return moved, left
}

// judge sets verdict and sentence. distinct is the smaller number of distinct inputs
// of the two sides.
func (mv *Movement) judge(need Need, distinct uint64) {
	psi := fmt.Sprintf("PSI %.3f, 99 %% of noise is below %.3f", mv.PSI, mv.Noise99)
	lacking := need.Lacking(min(mv.Reference, mv.Now), distinct)
	switch {
	case lacking != "":
		mv.Verdict = NotEnough
		mv.Sentence = "Not enough to tell: " + lacking + "."
	case mv.PSI <= mv.Noise99 || mv.AdjustedP > 1-noiseLevel:
		mv.Verdict = Steady
		mv.Sentence = "Within noise (" + psi + ")."
	case mv.PSI < lookFrom:
		mv.Verdict = Steady
		mv.Sentence = "Moved a little, beyond noise but too small to matter (" + psi + ")."
	case mv.PSI <= movedFrom:
		mv.Verdict = Look
		mv.Sentence = "Moved; worth a look (" + psi + ")."
	default:
		mv.Verdict = Moved
		mv.Sentence = "Moved far (" + psi + ")."
	}
}

func dropEmpty(p, q []uint64) (a, b []uint64) {
	for i := range p {
		if p[i]+q[i] > 0 {
			a, b = append(a, p[i]), append(b, q[i])
		}
	}
	return a, b
}

func share(k, n uint64) float64 {
	if n == 0 {
		return 0
	}
	return math.Min(1, float64(k)/float64(n))
}
