package drift

import (
	"math"

	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/mat"
)

// leastPairs is from how many pairs on they tell a design effect.
const leastPairs = 20

// Pair is one column of both sides in one short time, on equal bins.
type Pair struct{ P, Q *sketch.Column }

// Design is how much wider the differences of two sides spread from time to time than independent rows would
// make them (Rao and Scott 1981). The zero value is that of independent rows, or of too few times to tell.
type Design struct {
	// Effect is the mean over all directions in which the cells can differ: so many rows tell what one
	// independent one would. It is at least 1 where it is known.
	Effect float64
	// Degrees is in which share of those directions they spread evenly enough to count (Satterthwaite
	// 1946): 1 when they all spread alike, little when a single thing moves all cells.
	Degrees float64
}

// DesignOf measures it: from the covariance of the standardised residuals of all cells over the pairs. What
// moves both sides alike, as a season does, is not in it.
func DesignOf(pairs []Pair) Design {
	kept, first, second := sharesOf(pairs)
	if len(kept) < leastPairs {
		return Design{}
	}
	used := 0.0
	for i := range first {
		if first[i]+second[i] > 0 {
			used++
		}
	}
	if used < 2 {
		return Design{1, 1}
	}
	k := float64(len(kept) - 1)
	covariance := mat.NewSymDense(len(first), nil)
	z := mat.NewVecDense(len(first), nil)
	for _, s := range kept {
		for i := range first {
			z.SetVec(i, s.residual(i, first[i], second[i]))
		}
		covariance.SymRankOne(covariance, 1/k, z)
	}
	trace := mat.Trace(covariance)
	norm := mat.Norm(covariance, 2) // of a symmetric matrix its square is the trace of the square
	// Of so few pairs chance alone makes the square of the trace over k of it.
	squares := max(trace*trace/(used-1), norm*norm-trace*trace/k)
	return Design{max(1, trace/(used-1)), trace * trace / squares / (used - 1)}
}

// counted are the cells of both sides of a pair.
type counted struct {
	p, q []uint64
	n, m float64
}

// residual is how far the difference of a cell is from the usual one, in standard deviations of independent
// rows; first and second are the usual shares of both sides.
func (s counted) residual(i int, first, second float64) float64 {
	if first+second == 0 {
		return 0
	}
	d := float64(s.q[i])/s.m - float64(s.p[i])/s.n - (second - first)
	return d / math.Sqrt((first+second)/2*(1/s.n+1/s.m))
}

// sharesOf are the pairs in which both sides have something, and the usual shares of the cells of both.
func sharesOf(pairs []Pair) (kept []counted, first, second []float64) {
	weights := 0.0
	for _, pair := range pairs {
		s := counted{pair.P.Cells(), pair.Q.Cells(), float64(pair.P.Seen()), float64(pair.Q.Seen())}
		if s.n == 0 || s.m == 0 {
			continue
		}
		if first == nil {
			first, second = make([]float64, len(s.p)), make([]float64, len(s.p))
		}
		w := s.n * s.m / (s.n + s.m)
		for i := range s.p {
			first[i] += w * float64(s.p[i]) / s.n
			second[i] += w * float64(s.q[i]) / s.m
		}
		weights += w
		kept = append(kept, s)
	}
	for i := range first {
		first[i], second[i] = first[i]/weights, second[i]/weights
	}
	return kept, first, second
}
