package seqtest

import (
	"math"

	"gonum.org/v1/gonum/floats"
)

// stakes are the bets on the mean, in units of one over the range.
var stakes = [...]float64{0.02, 0.06, 0.2, 0.5, 0.9}

// Mean is an e-process for the hypothesis that the candidate's mean is at most Margin above the
// incumbent's, by betting on differences of clipped values (Waudby-Smith and Ramdas 2024): each pair D,
// a value of the candidate less one of the incumbent, both clipped to within Clip of a centre, multiplies
// 1 + λ(D − Margin) for λ of stakes / (2·Clip + Margin), and the e-value is the mean of the products. It says
// something of clipped means only, whatever the tails. The centre and Clip must be fixed before the
// values are seen; 3 standard deviations of the incumbent serve.
type Mean struct {
	Centre float64 `json:"centre"`
	Clip   float64 `json:"clip"`
	Margin float64 `json:"margin"`
	// Logs are the logarithms of the wealth of each stake.
	Logs []float64 `json:"logs,omitempty"`
}

// Observe takes a pair of values into account. It does nothing while Clip is not positive.
func (m *Mean) Observe(incumbent, candidate float64) {
	if !(m.Clip > 0) || math.IsNaN(incumbent) || math.IsNaN(candidate) {
		return
	}
	if len(m.Logs) != len(stakes) {
		m.Logs = make([]float64, len(stakes))
	}
	clip := func(x float64) float64 { return math.Max(-m.Clip, math.Min(m.Clip, x-m.Centre)) }
	d := clip(candidate) - clip(incumbent) - m.Margin
	for i, stake := range stakes {
		m.Logs[i] += math.Log1p(stake * d / (2*m.Clip + math.Abs(m.Margin)))
	}
}

// LogE is the natural logarithm of the e-value so far.
func (m *Mean) LogE() float64 {
	if len(m.Logs) == 0 {
		return 0
	}
	return floats.LogSumExp(m.Logs) - math.Log(float64(len(m.Logs)))
}
