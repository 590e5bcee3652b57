package drift

import "math"

// Allowed is how far a distribution may be from its reference without being worth an alarm, as PSI less what chance
// makes: the trade's habit.
const Allowed = lookFrom

// mostEvidence bounds what one look may say, so that no single one decides for ever.
const mostEvidence = 60

// kappa makes e-values of p-values.
const kappa = 0.2

// Evidence is an e-value, as a logarithm, for the hypothesis that q is at most allowed from p, and how far it is:
// the PSI less what chance makes, in nats. Under the hypothesis nm/(n+m) times the PSI follows at most a noncentral
// χ² with B−1 degrees of freedom and the noncentrality nm/(n+m)·allowed, whose tail is taken from Sankaran (1963);
// a p-value becomes an e-value by κ·p^(κ−1) with κ = 0.2 (Vovk and Wang 2021), which keeps more of what a clear
// shift tells than the usual half does. ok is false where the two were counted on different bins or one side tells
// nothing.
func Evidence(p, q Sample, allowed float64) (effect, logE float64, ok bool) {
	if !p.Column.Bins.Equal(q.Column.Bins) {
		return 0, 0, false
	}
	n, m := p.Effective(), q.Effective()
	if n < 1 || m < 1 {
		return 0, 0, false
	}
	cp, cq := dropEmpty(p.scaled(), q.scaled())
	if len(cp) < 2 {
		return 0, 0, true // all is in one cell on both sides
	}
	degrees := float64(len(cp) - 1)
	scale := n * m / (n + m)
	psi := PSI(cp, cq)
	effect = psi - degrees/scale
	logP := logTail(scale*psi, degrees, scale*allowed)
	return effect, min(math.Log(kappa)-(1-kappa)*logP, mostEvidence), true
}

// logTail is the logarithm of the chance that a noncentral χ² exceeds x, by Sankaran's transformation to a normal.
func logTail(x, k, lambda float64) float64 {
	sum, twice := k+lambda, k+2*lambda
	h := 1 - 2*sum*(k+3*lambda)/(3*twice*twice)
	p := twice / (sum * sum)
	m := (h - 1) * (1 - 3*h)
	z := (math.Pow(x/sum, h) - (1 + h*p*(h-1-0.5*(2-h)*m*p))) / (h * math.Sqrt(2*p) * (1 + 0.5*m*p))
	if z < 5 {
		return math.Log(0.5 * math.Erfc(z/math.Sqrt2))
	}
	return -z*z/2 - math.Log(z*math.Sqrt(2*math.Pi)) // the tail of a normal, to within 1/z²
}
