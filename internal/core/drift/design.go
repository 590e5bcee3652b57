package drift

import "innerladder/internal/core/sketch"

// leastPairs is from how many pairs on they tell a design effect.
const leastPairs = 20

// Pair is one column of both sides in one short time, on equal bins.
type Pair struct{ P, Q *sketch.Column }

// DesignEffect is how much wider the differences of the two sides spread from time to time than
// independent rows would make them: the first-order correction of Rao and Scott (1981), taken from the
// mean square of the standardised residuals of all cells. What moves both sides alike, as a season does,
// is not in it. It is at least 1, and 0 when there are too few pairs to tell.
func DesignEffect(pairs []Pair) float64 {
	var all [2][]float64 // the shares of each cell, weighted like the differences
	var weights float64
	type seen struct {
		p, q []uint64
		n, m float64
	}
	var kept []seen
	for _, pair := range pairs {
		s := seen{pair.P.Cells(), pair.Q.Cells(), float64(pair.P.Seen()), float64(pair.Q.Seen())}
		if s.n == 0 || s.m == 0 {
			continue
		}
		if all[0] == nil {
			all[0], all[1] = make([]float64, len(s.p)), make([]float64, len(s.p))
		}
		w := s.n * s.m / (s.n + s.m)
		for i := range s.p {
			all[0][i] += w * float64(s.p[i]) / s.n
			all[1][i] += w * float64(s.q[i]) / s.m
		}
		weights += w
		kept = append(kept, s)
	}
	if len(kept) < leastPairs {
		return 0
	}
	cells := 0.0
	for i := range all[0] {
		if all[0][i]+all[1][i] > 0 {
			cells++
		}
	}
	if cells < 2 {
		return 1
	}
	sum := 0.0
	for _, s := range kept {
		for i := range s.p {
			share := float64(s.p[i]+s.q[i]) / (s.n + s.m)
			if share == 0 {
				continue
			}
			d := float64(s.q[i])/s.m - float64(s.p[i])/s.n - (all[1][i]-all[0][i])/weights
			sum += d * d / (share * (1/s.n + 1/s.m))
		}
	}
	return max(1, sum/((cells-1)*float64(len(kept)-1)))
}
