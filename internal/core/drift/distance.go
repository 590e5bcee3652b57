// Package drift measures how far two distributions are apart, and how far they would
// seem apart if nothing had changed. P is the reference or incumbent with n
// observations, Q what is seen now with m, both counted in the same cells. Counts are effective
// numbers: how many independent observations would tell as much. They need not be whole.
package drift

import (
	"cmp"
	"math"
	"slices"

	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/floats"
	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

// smallestExpected is the least expected count of a cell of the G-test.
const smallestExpected = 5

// PSI is the population stability index Σ (q−p)·ln(q/p) in nats, each share smoothed
// as (count+½)/(total+½B). p and q must have equal length B. It is 0 when either side
// is empty: nothing was seen to move.
func PSI(p, q []float64) float64 {
	n, m, b := floats.Sum(p), floats.Sum(q), float64(len(p))
	if n == 0 || m == 0 {
		return 0
	}
	var sum float64
	for i := range p {
		ps := (p[i] + 0.5) / (n + 0.5*b)
		qs := (q[i] + 0.5) / (m + 0.5*b)
		sum += (qs - ps) * math.Log(qs/ps)
	}
	return sum
}

// Noise is the distribution of PSI when nothing has changed: n·m/(n+m)·PSI is close
// to χ² with cells−1 degrees of freedom (Yurdakul and Naranjo 2020).
type Noise struct {
	chi   distuv.ChiSquared
	scale float64
}

// NoiseOf is the noise of PSI over so many cells that hold anything, with n and m
// observations. With fewer than two cells, or nothing observed, it has no spread.
func NoiseOf(cells int, n, m float64) Noise { return NoiseWith(cells, n, m, 1) }

// NoiseWith is the same where only a share of the degrees of freedom count, as Design.Degrees says: its mean is
// the same, and it spreads wider.
func NoiseWith(cells int, n, m, degrees float64) Noise {
	if cells < 2 || n == 0 || m == 0 {
		return Noise{}
	}
	return Noise{chi: distuv.ChiSquared{K: float64(cells-1) * degrees}, scale: (1/n + 1/m) / degrees}
}

// Expected is the mean PSI under no change, (cells−1)(1/n+1/m).
func (o Noise) Expected() float64 { return o.chi.K * o.scale }

// Quantile is the PSI that a share p of unchanged pairs stays below.
func (o Noise) Quantile(p float64) float64 {
	if o.scale == 0 {
		return 0
	}
	return o.chi.Quantile(p) * o.scale
}

// P is the chance of at least this PSI under no change; 1 when it has no spread.
func (o Noise) P(psi float64) float64 {
	if o.scale == 0 {
		return 1
	}
	return o.chi.Survival(psi / o.scale)
}

// JensenShannon is the square root of the Jensen–Shannon divergence to base 2, in
// [0, 1] (Lin 1991). It is 0 when either side is empty.
func JensenShannon(p, q []float64) float64 {
	n, m := floats.Sum(p), floats.Sum(q)
	if n == 0 || m == 0 {
		return 0
	}
	a, b := make([]float64, len(p)), make([]float64, len(q))
	for i := range p {
		a[i], b[i] = p[i]/n, q[i]/m
	}
	return math.Sqrt(min(1, max(0, stat.JensenShannon(a, b)/math.Ln2)))
}

// KolmogorovSmirnov is the largest gap between the cumulative shares at the cell
// boundaries and its asymptotic p-value with Stephens' correction (Stephens 1970).
// Counted in cells it can only be smaller than the gap of the raw values, so the
// p-value is conservative.
func KolmogorovSmirnov(p, q []float64) (gap, pValue float64) {
	n, m := floats.Sum(p), floats.Sum(q)
	if n == 0 || m == 0 {
		return 0, 1
	}
	var a, b float64
	for i := range p {
		a += p[i] / n
		b += q[i] / m
		gap = max(gap, math.Abs(a-b))
	}
	root := math.Sqrt(n * m / (n + m))
	return gap, kolmogorovTail((root + 0.12 + 0.11/root) * gap)
}

// kolmogorovTail is P(K > x) of the Kolmogorov distribution.
func kolmogorovTail(x float64) float64 {
	if x < 0.2 {
		return 1 // the series below converges slowly there, and 1 is right to 12 digits
	}
	var sum float64
	for k := 1.0; k <= 100; k++ {
		term := math.Exp(-2 * k * k * x * x)
		if int(k)%2 == 0 {
			term = -term
		}
		sum += term
		if math.Abs(term) < 1e-16 {
			break
		}
	}
	return min(1, max(0, 2*sum))
}

// Wasserstein is the area between the two cumulative curves in the column's own unit.
// The values of each cell are taken to lie at their mean, so a shift of everything is
// measured exactly and movement inside of a cell only as far as it moves the mean. Both
// columns must be numeric and on equal bins. It is 0 when either side is empty.
func Wasserstein(p, q *sketch.Weighted) float64 {
	if p.Seen() == 0 || q.Seen() == 0 {
		return 0
	}
	type step struct{ at, rise float64 }
	var steps []step
	add := func(c *sketch.Weighted, sign float64) {
		all := c.Seen()
		for i, k := range c.Cells {
			if k > 0 {
				steps = append(steps, step{c.Sums[i] / k, sign * k / all})
			}
		}
	}
	add(p, 1)
	add(q, -1)
	slices.SortFunc(steps, func(a, b step) int { return cmp.Compare(a.at, b.at) })
	var area, gap float64
	for i := 0; i+1 < len(steps); i++ {
		gap += steps[i].rise
		area += math.Abs(gap) * (steps[i+1].at - steps[i].at)
	}
	return area
}

// GTest is the likelihood-ratio test that two rows of counts come from one
// distribution: G = 2 Σ O ln(O/E) and its χ² p-value. Cells are merged, the smallest
// first and all of one size at once, until every expected count is at least 5, so the order of
// cells does not matter; with fewer than two cells left nothing can be said and p is 1.
func GTest(p, q []float64) (g, pValue float64) { return GTestWith(p, q, 1) }

// GTestWith is the same where only a share of the degrees of freedom count, as Design.Degrees says.
func GTestWith(p, q []float64, degrees float64) (g, pValue float64) {
	n, m := floats.Sum(p), floats.Sum(q)
	if n == 0 || m == 0 {
		return 0, 1
	}
	type cell struct{ a, b float64 }
	var cells []cell
	for i := range p {
		if p[i]+q[i] > 0 {
			cells = append(cells, cell{p[i], q[i]})
		}
	}
	slices.SortFunc(cells, func(x, y cell) int { return cmp.Compare(x.a+x.b, y.a+y.b) })
	least := smallestExpected * (n + m) / min(n, m)
	var few cell
	for len(cells) > 0 && (cells[0].a+cells[0].b < least || (few.a+few.b > 0 && few.a+few.b < least)) {
		for size := cells[0].a + cells[0].b; len(cells) > 0 && cells[0].a+cells[0].b == size; cells = cells[1:] {
			few.a, few.b = few.a+cells[0].a, few.b+cells[0].b
		}
	}
	if few.a+few.b > 0 {
		cells = append(cells, few)
	}
	if len(cells) < 2 {
		return 0, 1
	}
	for _, c := range cells {
		row := c.a + c.b
		if c.a > 0 {
			g += 2 * c.a * math.Log(c.a/(row*n/(n+m)))
		}
		if c.b > 0 {
			g += 2 * c.b * math.Log(c.b/(row*m/(n+m)))
		}
	}
	return g, distuv.ChiSquared{K: float64(len(cells)-1) * degrees}.Survival(g * degrees)
}

// BenjaminiHochberg adjusts p-values so that rejecting those below α keeps the false
// discovery rate at α (Benjamini and Hochberg 1995). The order is kept.
func BenjaminiHochberg(p []float64) []float64 {
	order := make([]int, len(p))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(p[a], p[b]) })
	out := make([]float64, len(p))
	least := 1.0
	for rank := len(p); rank >= 1; rank-- {
		i := order[rank-1]
		least = min(least, p[i]*float64(len(p))/float64(rank))
		out[i] = least
	}
	return out
}
