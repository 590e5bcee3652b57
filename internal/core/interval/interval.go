// Package interval holds the confidence intervals that every comparison rests on:
// for a share, for the difference of two shares, for a quantile without assuming a
// distribution, and for the ratio of two quantities whose intervals are known.
package interval

import (
	"math"

	"gonum.org/v1/gonum/mathext"
	"gonum.org/v1/gonum/stat/distuv"
)

// Interval is a closed range. An end that the data cannot bound is ±Inf.
type Interval struct{ Low, High float64 }

// Bounded reports whether both ends are finite.
func (i Interval) Bounded() bool { return !math.IsInf(i.Low, 0) && !math.IsInf(i.High, 0) }

// z is the two-sided standard normal quantile for a confidence in (0, 1).
func z(confidence float64) float64 {
	return distuv.UnitNormal.Quantile(0.5 + confidence/2)
}

// LeastOfMean is of how many values Mean serves: the mean of fewer is not near to a normal law.
const LeastOfMean = 20

// Mean is the interval of the mean of n independent values with a variance, by the normal law that it comes near to;
// open for fewer than two.
func Mean(mean, variance, n, confidence float64) Interval {
	if n < 2 {
		return Interval{math.Inf(-1), math.Inf(1)}
	}
	half := z(confidence) * math.Sqrt(max(0, variance)/(n-1))
	return Interval{mean - half, mean + half}
}

// Wilson is the score interval of a share of k in n (Wilson 1927). Both may be effective
// numbers, which are not whole. With n = 0 it is [0, 1]: nothing is known.
func Wilson(k, n, confidence float64) Interval {
	if n <= 0 {
		return Interval{0, 1}
	}
	zz := z(confidence)
	p := k / n
	centre := (p + zz*zz/(2*n)) / (1 + zz*zz/n)
	half := zz / (1 + zz*zz/n) * math.Sqrt(p*(1-p)/n+zz*zz/(4*n*n))
	i := Interval{math.Max(0, centre-half), math.Min(1, centre+half)}
	// The score interval touches the ends exactly there; rounding must not move it off.
	if k == 0 {
		i.Low = 0
	}
	if k == n {
		i.High = 1
	}
	return i
}

// Above is the upper bound of a share of k in n that is exceeded with a chance of at most alpha: exact
// (Clopper and Pearson 1934). With n = 0 it is 1.
func Above(k, n, alpha float64) float64 {
	if n <= 0 || k >= n {
		return 1
	}
	return mathext.InvRegIncBeta(k+1, n-k, 1-alpha)
}

// Newcombe is the interval of the difference k2/n2 − k1/n1 of two independent
// shares: his hybrid score method 10 (Newcombe 1998). Numbers may be effective ones, which are not
// whole. With either n = 0 the interval is [-1, 1].
func Newcombe(k1, n1, k2, n2, confidence float64) Interval {
	if n1 <= 0 || n2 <= 0 {
		return Interval{-1, 1}
	}
	p1, p2 := k1/n1, k2/n2
	w1, w2 := Wilson(k1, n1, confidence), Wilson(k2, n2, confidence)
	d := p2 - p1
	return Interval{
		Low:  d - math.Hypot(p2-w2.Low, w1.High-p1),
		High: d + math.Hypot(w2.High-p2, p1-w1.Low),
	}
}

// QuantileRanks returns the 1-based ranks low ≤ high of the order statistics that
// enclose the q-quantile of a continuous distribution with at least the given
// confidence, whatever that distribution is (exact binomial; David and Nagaraja
// 2003, section 7.1). low = 0 or high = n+1 mean that n values cannot bound that end.
func QuantileRanks(n uint64, q, confidence float64) (low, high uint64) {
	if n == 0 {
		return 0, 1
	}
	tail := (1 - confidence) / 2
	// low: the largest l with P(Bin(n,q) ≤ l−1) ≤ tail; high: the smallest h with
	// P(Bin(n,q) ≤ h−1) ≥ 1−tail.
	low = searchFirst(n, func(k uint64) bool { return binomialCDF(k, n, q) > tail })
	high = searchFirst(n, func(k uint64) bool { return binomialCDF(k, n, q) >= 1-tail }) + 1
	return low, high
}

// searchFirst is the least k in [0, n] for which ok holds; ok must be monotone
// and is taken to hold at n.
func searchFirst(n uint64, ok func(uint64) bool) uint64 {
	lo, hi := uint64(0), n
	for lo < hi {
		mid := lo + (hi-lo)/2
		if ok(mid) {
			hi = mid
		} else {
			lo = mid + 1
		}
	}
	return lo
}

// binomialCDF is P(X ≤ k) for X binomial(n, p), by the regularised incomplete beta.
func binomialCDF(k, n uint64, p float64) float64 {
	if k >= n {
		return 1
	}
	return mathext.RegIncBeta(float64(n-k), float64(k)+1, 1-p)
}

// Ratio is the interval of b/a for positive a and b with independent intervals ia
// and ib, by recovering variances on the log scale (MOVER; Donner and Zou 2012).
// Where an end of ia or ib is not positive and finite, the matching end of the
// ratio is open: 0 or +Inf.
func Ratio(a float64, ia Interval, b float64, ib Interval) Interval {
	if !(a > 0) || !(b > 0) {
		return Interval{0, math.Inf(1)}
	}
	d := math.Log(b / a)
	return Interval{
		Low:  math.Exp(d - math.Hypot(logGap(b, ib.Low), logGap(ia.High, a))),
		High: math.Exp(d + math.Hypot(logGap(ib.High, b), logGap(a, ia.Low))),
	}
}

// logGap is ln(large/small), +Inf when that is not defined.
func logGap(large, small float64) float64 {
	if small <= 0 || math.IsInf(large, 1) {
		return math.Inf(1)
	}
	return math.Max(0, math.Log(large/small))
}
