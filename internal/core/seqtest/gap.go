package seqtest

import "math"

// Band is the half-width of a time-uniform confidence band around an empirical
// distribution function of n observations: the chance that the true function ever
// leaves the band, at any n, is at most alpha (Howard and Ramdas 2022, theorem 2 with
// A = 0.85). It is 1 when n is 0.
func Band(n uint64, alpha float64) float64 {
	if n == 0 {
		return 1
	}
	t := float64(n)
	return math.Min(1, 0.85*math.Sqrt((math.Log(math.Log(math.E*t))+0.8*math.Log(1612/alpha))/t))
}

// Gap is what is known about the largest distance between two cumulative
// distributions.
type Gap struct {
	// Seen is the largest gap of the two empirical functions, in [0, 1].
	Seen float64 `json:"seen"`
	// Low is a bound that the true gap is above: with chance at least 1−alpha for all
	// times of looking together.
	Low float64 `json:"low"`
	// Noise is the sum of the two half-widths: what Seen must exceed to show anything.
	Noise float64 `json:"noise"`
}

// CDFGap bounds the largest gap between the distributions of two lanes, counted in the
// same ordered cells, valid at any moment of looking. Half of alpha goes to each lane's
// band. Counting in cells can only hide a gap, never make one. For unordered categories
// the gap is that of the listed order, which bounds the total variation from below.
func CDFGap(incumbent, candidate []uint64, alpha float64) Gap {
	n, m := sum(incumbent), sum(candidate)
	g := Gap{Noise: Band(n, alpha/2) + Band(m, alpha/2)}
	if n == 0 || m == 0 {
		return g
	}
	var a, b uint64
	for i := range incumbent {
		a += incumbent[i]
		b += candidate[i]
		g.Seen = math.Max(g.Seen, math.Abs(float64(a)/float64(n)-float64(b)/float64(m)))
	}
	g.Low = math.Max(0, g.Seen-g.Noise)
	return g
}

func sum(counts []uint64) (n uint64) {
	for _, k := range counts {
		n += k
	}
	return n
}
