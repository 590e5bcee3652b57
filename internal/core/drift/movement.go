package drift

import (
	"fmt"
	"maps"
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
	// certain is the chance under no change below which few observations suffice, if their inputs
	// differ enough and nothing says that they depend on one another more than mildDesign.
	certain    = 1e-6
	mildDesign = 1.5
)

// Need is the least evidence on which a column may be called moved: so many independent
// observations, of so many distinct inputs.
type Need struct{ Observations, Distinct uint64 }

// DefaultNeed asks for 200 independent observations and 50 distinct inputs.
var DefaultNeed = Need{Observations: 200, Distinct: 50}

// Lacking says what is missing to judge what one sample tells, or "" when it is enough.
func (d Need) Lacking(n Numbers) string {
	var lacks []string
	if effective := n.Effective(); effective < float64(d.Observations) {
		text := fmt.Sprintf("%.0f of %d independent observations", math.Floor(effective), d.Observations)
		if why := n.why(); why != "" {
			text += " (" + why + ")"
		}
		lacks = append(lacks, text)
	}
	if n.Distinct < d.Distinct {
		lacks = append(lacks, fmt.Sprintf("%d of %d distinct inputs", n.Distinct, d.Distinct))
	}
	return strings.Join(lacks, ", ")
}

// Numbers is how much one side tells.
type Numbers struct {
	// Rows were counted; Weighted of equal weight tell as much, which is Rows where all count the
	// same.
	Rows     uint64
	Weighted float64
	// Distinct is how many different inputs the rows are of.
	Distinct uint64
	// Design is how much wider chance spreads what is seen from minute to minute than independent rows
	// would.
	Design Design
}

// mostlyDistinct is from which share of rows on distinct inputs count as all: they are estimated, and a
// few rows are alike by chance.
const mostlyDistinct = 0.9

// Effective is how many independent observations tell as much: no more than there are distinct
// inputs, since a row that is sent again tells nothing new, and fewer by the design effect.
func (n Numbers) Effective() float64 {
	effective := n.Weighted
	if distinct := float64(n.Distinct); distinct < mostlyDistinct*effective {
		effective = distinct
	}
	return effective / max(1, n.Design.Effect)
}

// why says why there are fewer independent observations than rows, "" where there are not many fewer.
func (n Numbers) why() string {
	if n.Effective() > mostlyDistinct*float64(n.Rows) {
		return ""
	}
	parts := []string{fmt.Sprintf("%d rows", n.Rows)}
	if float64(n.Distinct) < mostlyDistinct*n.Weighted {
		parts = append(parts, fmt.Sprintf("%d distinct", n.Distinct))
	}
	if n.Design.Effect > 1.1 {
		parts = append(parts, fmt.Sprintf("in bursts, so that %.1f tell what one would", n.Design.Effect))
	}
	if n.Weighted < 0.9*float64(n.Rows) {
		parts = append(parts, "counting unequally, since they are brought to the same times")
	}
	return strings.Join(parts, ", ")
}

// fewer is the sample of two that tells less.
func fewer(a, b Numbers) Numbers {
	if b.Effective() < a.Effective() {
		return b
	}
	return a
}

// Sample is one side of a comparison of a column: what was counted, and how much that tells.
type Sample struct {
	Column *sketch.Weighted
	Numbers
}

// SampleOf is a column as it was counted, of so many distinct inputs.
func SampleOf(c *sketch.Column, distinct uint64) Sample {
	w := sketch.WeightedOf(c)
	return Sample{w, Numbers{Rows: w.Values, Weighted: w.Effective(), Distinct: distinct}}
}

// scaled are the cells of the sample as effective numbers.
func (s Sample) scaled() []float64 {
	out, all, n := make([]float64, len(s.Column.Cells)), s.Column.Seen(), s.Effective()
	for i, k := range s.Column.Cells {
		if all > 0 {
			out[i] = k / all * n
		}
	}
	return out
}

// Movement is how far one column moved from P to Q.
type Movement struct {
	// PSI is in nats; NoiseExpected is its mean and Noise99 its 99 % quantile if
	// nothing had changed. What is judged is PSI less NoiseExpected, so that a verdict does not
	// get milder with more data.
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
	// numbers, from the G-test for categories. AdjustedP allows for all the columns, and all the
	// candidates, that were looked at together.
	P         float64 `json:"p"`
	AdjustedP float64 `json:"adjusted_p"`
	Verdict   Verdict `json:"verdict"`
	Sentence  string  `json:"sentence"`
	Numeric   bool    `json:"numeric"`
	Reference uint64  `json:"reference_n"`
	Now       uint64  `json:"now_n"`
	// ReferenceEffective and NowEffective are how many independent observations tell as much.
	ReferenceEffective float64 `json:"reference_effective"`
	NowEffective       float64 `json:"now_effective"`

	fewer Numbers
}

// Effect is how far it moved beyond what chance makes: the PSI less its expected noise, in nats.
func (mv *Movement) Effect() float64 { return mv.PSI - mv.NoiseExpected }

// Measure computes the distances from p to q and judges them as the only column
// looked at. The columns must be on equal bins, or an error says so.
func Measure(p, q Sample, need Need) (Movement, error) {
	if !p.Column.Bins.Equal(q.Column.Bins) {
		return Movement{}, fmt.Errorf("the two sides were counted on different bins (%d and %d)", p.Column.Bins.Len(),
			q.Column.Bins.Len())
	}
	n, m := p.Effective(), q.Effective()
	// Cells that neither side ever fills carry no information and no noise.
	cp, cq := dropEmpty(p.scaled(), q.scaled())
	degrees := 1.0
	if d := min(p.Design.Degrees, q.Design.Degrees); d > 0 {
		degrees = d
	}
	noise := NoiseWith(len(cp), n, m, degrees)
	mv := Movement{
		PSI: PSI(cp, cq), NoiseExpected: noise.Expected(), Noise99: noise.Quantile(noiseLevel),
		JensenShannon: JensenShannon(cp, cq), Numeric: p.Column.Bins.Numeric(),
		Reference: p.Rows, Now: q.Rows, ReferenceEffective: n, NowEffective: m, fewer: fewer(p.Numbers, q.Numbers),
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
		mv.G, mv.GP = GTestWith(cp, cq, degrees)
		mv.P = mv.GP
	}
	a, b := p.missing(), q.missing()
	change := interval.Newcombe(a.share*a.of, a.of, b.share*b.of, b.of, 0.95)
	mv.MissingChange = b.share - a.share
	mv.MissingChangeLow, mv.MissingChangeHigh = change.Low, change.High
	mv.AdjustedP = mv.P
	mv.judge(need)
	return mv, nil
}

// part is a share of so many independent values.
type part struct{ share, of float64 }

// missing is the share of values that are missing, of as many as tell as much as the rows do.
func (s Sample) missing() part {
	seen, all := s.Column.Seen(), s.Column.Seen()+s.Column.Missing
	if all == 0 {
		return part{}
	}
	of := all
	if seen > 0 { // missing values tell as little or as much as the others
		of = all * s.Effective() / seen
	}
	return part{s.Column.Missing / all, of}
}

// MeasureAll measures several columns of the same two sides together and adjusts
// their p-values for one another, and for how many pairs of sides are looked at. Columns that cannot be
// compared are left out and named.
func MeasureAll(p, q map[string]Sample, need Need, pairs int) (moved map[string]Movement, left []string) {
	moved = map[string]Movement{}
	var names []string
	var ps []float64
	for _, name := range slices.Sorted(maps.Keys(q)) {
		ref, ok := p[name]
		if !ok {
			left = append(left, name)
			continue
		}
		mv, err := Measure(ref, q[name], need)
		if err != nil {
			left = append(left, name)
			continue
		}
		moved[name] = mv
		names = append(names, name)
		ps = append(ps, min(1, mv.P*float64(max(1, pairs))))
	}
	for i, adjusted := range BenjaminiHochberg(ps) {
		mv := moved[names[i]]
		mv.AdjustedP = adjusted
		mv.judge(need)
		moved[names[i]] = mv
	}
	return moved, left
}

// judge sets verdict and sentence.
func (mv *Movement) judge(need Need) {
	psi := fmt.Sprintf("PSI %.3f; chance alone exceeds %.3f once in 100", mv.PSI, mv.Noise99)
	lacking := need.Lacking(mv.fewer)
	effect := mv.Effect()
	if mv.AdjustedP < certain && mv.fewer.Distinct >= need.Distinct && mv.fewer.Design.Effect < mildDesign {
		if lacking != "" {
			psi = lacking + ", and beyond chance all the same; " + psi
		}
		lacking = ""
	}
	switch {
	case lacking != "":
		mv.Verdict = NotEnough
		mv.Sentence = "Not enough to tell: " + lacking + "."
	case mv.PSI <= mv.Noise99 || mv.AdjustedP > 1-noiseLevel:
		mv.Verdict = Steady
		mv.Sentence = "Within noise (" + psi + ")."
	case effect < lookFrom:
		mv.Verdict = Steady
		mv.Sentence = "Moved a little, beyond noise but too small to matter (" + psi + ")."
	case effect <= movedFrom:
		mv.Verdict = Look
		mv.Sentence = "Moved; worth a look (" + psi + ")."
	default:
		mv.Verdict = Moved
		mv.Sentence = "Moved far (" + psi + ")."
	}
}

func dropEmpty(p, q []float64) (a, b []float64) {
	for i := range p {
		if p[i]+q[i] > 0 {
			a, b = append(a, p[i]), append(b, q[i])
		}
	}
	return a, b
}
