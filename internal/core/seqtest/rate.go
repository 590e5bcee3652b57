// Package seqtest holds tests that stay valid at any moment of looking. A trial
// looks every second and may stop at any of them; each test here keeps the chance
// that it ever fires wrongly at or below α, however long it watches and however often
// one looks.
package seqtest

import (
	"math"

	"gonum.org/v1/gonum/floats"
)

// strategies are the bets on how much worse than allowed the candidate is, as a
// difference of two rates. The last bet is learnt from what was seen so far. Betting
// on a grid costs ln(len) once and needs no warning of the size of the harm.
var strategies = [...]float64{0.0025, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.4, 0.8, learnt}

const learnt = -1

// Block is what both lanes did during the same short time: requests and, of them,
// failures.
type Block struct {
	IncumbentRequests, IncumbentFailed uint64
	CandidateRequests, CandidateFailed uint64
}

// plus returns the two blocks as one.
func (b Block) plus(o Block) Block {
	b.IncumbentRequests += o.IncumbentRequests
	b.IncumbentFailed += o.IncumbentFailed
	b.CandidateRequests += o.CandidateRequests
	b.CandidateFailed += o.CandidateFailed
	return b
}

// Rate is an e-process for the hypothesis that in every block the candidate's rate of
// failure is at most the incumbent's plus Margin. The rates themselves may change from
// block to block, as they do between day and night.
//
// Each block multiplies, for every strategy, an e-variable of the two-sample kind
// (Turner and Grünwald 2023): the likelihood of the block under a bet fixed before the
// block, over its likelihood under the point of the hypothesis that is closest to the
// bet in relative entropy. Because the hypothesis is convex, the expectation of that
// ratio is at most one under all of it. The e-value is the mean over the strategies;
// by Ville's inequality it reaches 1/α with a chance of at most α, ever.
//
// The zero value with a Margin set is ready. It is a value: it can be stored as JSON
// and taken up again.
type Rate struct {
	// Margin is the difference of rates that is allowed, in [0, 1).
	Margin float64 `json:"margin"`
	// Logs are the logarithms of the wealth of each strategy.
	Logs []float64 `json:"logs,omitempty"`
	// Seen is everything that was bet on so far; Open waits until both lanes have
	// answered something.
	Seen Block `json:"seen"`
	Open Block `json:"open"`
}

// Observe takes one block into account. Lanes too quiet to answer in every block are
// no matter: what comes is collected until both have answered, which depends on
// traffic and not on its outcome.
func (r *Rate) Observe(b Block) {
	r.Open = r.Open.plus(b)
	if r.Open.IncumbentRequests == 0 || r.Open.CandidateRequests == 0 {
		return
	}
	b, r.Open = r.Open, Block{}
	if len(r.Logs) != len(strategies) {
		r.Logs = make([]float64, len(strategies))
	}
	base := estimate(r.Seen.IncumbentFailed, r.Seen.IncumbentRequests)
	for i, uplift := range strategies {
		betIncumbent, betCandidate := base, base+r.Margin+uplift
		if uplift == learnt {
			betCandidate = estimate(r.Seen.CandidateFailed, r.Seen.CandidateRequests)
		}
		r.Logs[i] += logE(b, betIncumbent, math.Min(betCandidate, 1-1e-6), r.Margin)
	}
	r.Seen = r.Seen.plus(b)
}

// estimate is a rate from k in n, shrunk towards a low rate so that a bet never puts
// all on one outcome.
func estimate(k, n uint64) float64 {
	return (float64(k) + 0.1) / (float64(n) + 10)
}

// LogE is the natural logarithm of the e-value so far.
func (r *Rate) LogE() float64 {
	if len(r.Logs) == 0 {
		return 0
	}
	return floats.LogSumExp(r.Logs) - math.Log(float64(len(r.Logs)))
}

// Fires reports whether the evidence suffices at level alpha.
func (r *Rate) Fires(alpha float64) bool { return r.LogE() >= -math.Log(alpha) }

// logE is the logarithm of the e-variable of one block for the bet (a, c) against the
// hypothesis θc ≤ θa + margin. A bet inside the hypothesis wins and loses nothing.
func logE(b Block, a, c, margin float64) float64 {
	if c <= a+margin {
		return 0
	}
	na, nc := float64(b.IncumbentRequests), float64(b.CandidateRequests)
	ta := closest(na, a, nc, c, margin)
	tc := ta + margin
	return logLikelihoodRatio(float64(b.IncumbentFailed), na, a, ta) +
		logLikelihoodRatio(float64(b.CandidateFailed), nc, c, tc)
}

// closest is the θ that minimises na·KL(a‖θ) + nc·KL(c‖θ+margin): the projection of
// the bet on the edge of the hypothesis. The derivative is monotone, so bisection
// finds its root.
func closest(na, a, nc, c, margin float64) float64 {
	if margin == 0 {
		return (na*a + nc*c) / (na + nc)
	}
	slope := func(t float64) float64 {
		u := t + margin
		return na*(t-a)/(t*(1-t)) + nc*(u-c)/(u*(1-u))
	}
	// The root lies between the two points where one of the terms is zero.
	lo, hi := math.Min(a, c-margin), math.Max(a, c-margin)
	lo, hi = math.Max(lo, 1e-12), math.Min(hi, 1-margin-1e-12)
	for range 60 {
		mid := (lo + hi) / 2
		if slope(mid) < 0 {
			lo = mid
		} else {
			hi = mid
		}
	}
	return (lo + hi) / 2
}

// logLikelihoodRatio is ln of p^k(1−p)^(n−k) over the same with q.
func logLikelihoodRatio(k, n, p, q float64) float64 {
	return k*math.Log(p/q) + (n-k)*math.Log((1-p)/(1-q))
}

// SequentialRatio is Wald's yardstick (1945): the expected number of candidate
// requests after which a test that knows both rates notices a rise from p0 to p1 at
// level alpha, ln(1/α) / KL(p1‖p0).
func SequentialRatio(p0, p1, alpha float64) float64 {
	kl := p1*math.Log(p1/p0) + (1-p1)*math.Log((1-p1)/(1-p0))
	return -math.Log(alpha) / kl
}
