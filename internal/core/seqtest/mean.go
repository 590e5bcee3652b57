package seqtest

import (
	"math"

	"gonum.org/v1/gonum/floats"
)

// stakes are the bets on the mean, in units of one over the range.
var stakes = [...]float64{0.02, 0.06, 0.2, 0.5, 0.9}

// Mean is an e-process for the hypothesis that the candidate's mean is at most Margin above the
// incumbent's, by betting on differences of clipped values (Waudby-Smith and Ramdas 2024): each D,
// the mean of some values of the candidate less that of some of the incumbent, all clipped to within Clip of a centre,
// multiplies 1 + λ(D − Margin) for λ of stakes / (2·Clip + |Margin|), and the e-value is the mean of the products. It
// says something of clipped means only, whatever the tails. The centre and Clip must be fixed before the
// values are seen, and so must be how many values of each side make a D; ScaleOf serves.
type Mean struct {
	Centre float64 `json:"centre"`
	Clip   float64 `json:"clip"`
	Margin float64 `json:"margin"`
	// Logs are the logarithms of the wealth of each stake.
	Logs []float64 `json:"logs,omitempty"`
}

// usualClip is how many standard deviations values may be from the centre; where those known before went no further
// than widestClip, it is as far as they went.
const usualClip, widestClip = 3, 10

// ScaleOf is the centre and the clip by what is known before: a mean, a standard deviation, and how far values were
// from the mean at most. Three standard deviations serve, but where values are nearly always the same and rarely
// another, such as one sale in a hundred visits: clipped there, a sale would count for little more than nothing. The
// clip is at least twice the margin, so that what is further off than the margin can be seen.
func ScaleOf(mean, deviation, farthest, margin float64) (centre, clip float64) {
	clip = usualClip * deviation
	if farthest <= widestClip*deviation {
		clip = max(clip, farthest)
	}
	return mean, max(clip, 2*math.Abs(margin))
}

// Observe takes some values of each side into account. It does nothing while Clip is not positive, or where a side has
// none.
func (m *Mean) Observe(incumbent, candidate []float64) {
	if !(m.Clip > 0) || len(incumbent) == 0 || len(candidate) == 0 {
		return
	}
	if len(m.Logs) != len(stakes) {
		m.Logs = make([]float64, len(stakes))
	}
	d := m.clipped(candidate) - m.clipped(incumbent) - m.Margin
	if math.IsNaN(d) {
		return
	}
	for i, stake := range stakes {
		m.Logs[i] += math.Log1p(stake * d / (2*m.Clip + math.Abs(m.Margin)))
	}
}

// clipped is the mean of clipped values, from the centre.
func (m *Mean) clipped(values []float64) float64 {
	sum := 0.0
	for _, x := range values {
		sum += math.Max(-m.Clip, math.Min(m.Clip, x-m.Centre))
	}
	return sum / float64(len(values))
}

// LogE is the natural logarithm of the e-value so far.
func (m *Mean) LogE() float64 {
	if len(m.Logs) == 0 {
		return 0
	}
	return floats.LogSumExp(m.Logs) - math.Log(float64(len(m.Logs)))
}

// Bound is about how many D it takes for the e-value to come to 1/α, where each is apart from the margin by so much on
// average, with a standard deviation; infinite where it never does. It reckons with the stake that serves best.
func (m *Mean) Bound(apart, deviation, alpha float64) float64 {
	best := 0.0
	for _, stake := range stakes {
		l := stake / (2*m.Clip + math.Abs(m.Margin))
		best = max(best, l*apart-l*l*(deviation*deviation+apart*apart)/2)
	}
	if best <= 0 {
		return math.Inf(1)
	}
	return (math.Log(1/alpha) + math.Log(float64(len(stakes)))) / best
}
