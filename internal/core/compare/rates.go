package compare

import (
	"fmt"
	"math"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/seqtest"

	"gonum.org/v1/gonum/stat/distuv"
)

// counted is how many of how many failed on both sides in one stratum.
type counted struct{ failed1, all1, failed2, all2 float64 }

// rates are the rates of failure of two versions brought to the same times.
type rates struct {
	first, second float64
	// effective1 and effective2 are how many requests at one time tell as much.
	effective1, effective2 float64
}

// drawnTo is by how many requests' worth the rate of a stratum is drawn to that of all for its variance.
const drawnTo = 20

// standardised brings two rates to the same times with the weights of Mantel and Haenszel (1959),
// n₁n₂/(n₁+n₂): the difference of the two is theirs. In a single stratum the rates are those seen. Its
// variance is that of Greenland and Robins (1985), each stratum's rate drawn to that of all a little: in
// strata of few requests their estimate is too small, and 0 where nothing failed. It is carried by
// effective numbers, which Newcombe's interval takes, divided by the
// design effect where the strata tell one.
func standardised(strata []counted) rates {
	var r rates
	var weights float64
	weight := func(s counted) float64 { return s.all1 * s.all2 / (s.all1 + s.all2) }
	for _, s := range strata {
		w := weight(s)
		r.first += w * s.failed1 / s.all1
		r.second += w * s.failed2 / s.all2
		weights += w
	}
	r.first, r.second = r.first/weights, r.second/weights
	var kish1, kish2, variance1, variance2 float64
	for _, s := range strata {
		square := weight(s) * weight(s) / (weights * weights)
		kish1, kish2 = kish1+square/s.all1, kish2+square/s.all2
		variance1 += square / s.all1 * binary((s.failed1+drawnTo*r.first)/(s.all1+drawnTo))
		variance2 += square / s.all2 * binary((s.failed2+drawnTo*r.second)/(s.all2+drawnTo))
	}
	design := designOfRates(strata, r.second-r.first)
	r.effective1 = effective(r.first, variance1, kish1) / design
	r.effective2 = effective(r.second, variance2, kish2) / design
	return r
}

// binary is the variance of what is 1 with a probability, else 0.
func binary(p float64) float64 { return p * (1 - p) }

// effective is how many requests at one time have the variance of a rate; where the rate is 0 or 1, how
// many of equal weight there are (Kish 1965).
func effective(rate, variance, kish float64) float64 {
	if variance <= 0 {
		return 1 / kish
	}
	return binary(rate) / variance
}

// designOfRates is how much wider the differences of the strata spread than independent requests would
// make them (Rao and Scott 1981): the mean square of their standardised residuals. It is 1 where chance
// would make as much in one of ten, and with fewer than leastStrata in which anything failed.
func designOfRates(strata []counted, difference float64) float64 {
	sum, k := 0.0, 0.0
	for _, s := range strata {
		p := (s.failed1 + s.failed2) / (s.all1 + s.all2)
		if v := p * (1 - p) * (1/s.all1 + 1/s.all2); v > 0 {
			d := s.failed2/s.all2 - s.failed1/s.all1 - difference
			sum += d * d / v
			k++
		}
	}
	if k < leastStrata || sum < (distuv.ChiSquared{K: k - 1}).Quantile(0.9) {
		return 1
	}
	return max(1, sum/(k-1))
}

// shares fills in the shares of both sides, brought to the same times, and gives the interval of their difference.
func (r *Row) shares(all []counted, confidence float64) (difference interval.Interval) {
	of := standardised(all)
	r.Incumbent, r.Candidate, r.Difference = &of.first, &of.second, of.second-of.first
	n1, n2 := of.effective1, of.effective2
	r.IncumbentLow, r.IncumbentHigh = ends(interval.Wilson(of.first*n1, n1, confidence))
	r.CandidateLow, r.CandidateHigh = ends(interval.Wilson(of.second*n2, n2, confidence))
	d := interval.Newcombe(of.first*n1, n1, of.second*n2, n2, confidence)
	r.Low, r.High = ends(d)
	return d
}

// errorRow compares the rates of failure.
func errorRow(strata []Stratum, confidence float64, allowed seqtest.Allowance) Row {
	r := Row{Signal: "error_rate", Unit: "share", Relation: "difference"}
	var all []counted
	for _, s := range strata {
		if s.both() {
			a, b := s.Incumbent.Counts, s.Candidate.Counts
			all = append(all, counted{
				float64(a.Failed()), float64(a.Requests), float64(b.Failed()), float64(b.Requests),
			})
		}
	}
	if len(all) == 0 {
		return r.nothing(strata)
	}
	d := r.shares(all, confidence)
	margin := allowed.Of(*r.Incumbent) - *r.Incumbent
	r.Verdict = judge(d, 0, -margin, margin)
	low, high := points(math.Abs(d.Low)), points(math.Abs(d.High))
	switch r.Verdict {
	case Better:
		r.Sentence = fmt.Sprintf("Fewer errors, by %s to %s points.", high, low)
	case Same:
		r.Sentence = fmt.Sprintf("No difference in errors that matters: at most %s points more or %s fewer.",
			points(max(0, d.High)), points(max(0, -d.Low)))
	case Worse:
		r.Sentence = fmt.Sprintf("More errors, by %s to %s points.", low, high)
	case WorseWithin:
		r.Sentence = fmt.Sprintf("More errors, by %s to %s points: real, and less than the %s that matter.", low, high,
			points(margin))
	default:
		r.Sentence = fmt.Sprintf("Errors differ by %s to %s points, where %s would matter; not enough to tell.",
			points(d.Low), points(d.High), points(margin))
	}
	return r
}
