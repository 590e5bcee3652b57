// Package seqtest holds tests that stay valid at any moment of looking. A trial
// looks every second and may stop at any of them; each test here keeps the chance
// that it ever fires wrongly at or below α, however long it watches and however often
// one looks.
package seqtest

import (
	"math"

	"gonum.org/v1/gonum/floats"
)

// above are the bets on how much worse than allowed the candidate is, as a difference of rates;
// below those on how much better, as a share of what is allowed. The last of each is learnt from what
// was seen so far. Betting on a grid costs ln(len) once and needs no warning of the size of the harm.
var (
	above = [...]float64{0.005, 0.02, 0.06, 0.4, learnt}
	below = [...]float64{0, 0.25, 0.6, learnt}
)

const learnt = -1

// heldBack is the part of what is bet that waits for harm that begins late.
const heldBack = 0.1

// leastBlock is how many requests each lane must have in what is bet on at once: of fewer, chance sets how
// many each has, which costs evidence.
const leastBlock = 4

// Line is the edge of what is allowed: the candidate's rate is Slope times the incumbent's plus Offset.
// Without a slope that is a fixed rate.
type Line struct {
	Slope  float64 `json:"slope"`
	Offset float64 `json:"offset"`
}

// Of is the rate on the line for a rate of the incumbent.
func (l Line) Of(incumbent float64) float64 { return l.Slope*incumbent + l.Offset }

// Block is what both lanes did during the same short time: requests and, of them,
// failures.
type Block struct {
	IncumbentRequests, IncumbentFailed uint64
	CandidateRequests, CandidateFailed uint64
}

// Plus returns the two blocks as one.
func (b Block) Plus(o Block) Block {
	b.IncumbentRequests += o.IncumbentRequests
	b.IncumbentFailed += o.IncumbentFailed
	b.CandidateRequests += o.CandidateRequests
	b.CandidateFailed += o.CandidateFailed
	return b
}

// Rate is an e-process for the hypothesis that in every block the candidate's rate of
// failure is at most on the Line, or with Below at least on it: then what counts as evidence is
// that the candidate is good enough. The rates themselves may change from
// block to block, as they do between day and night.
//
// Each block multiplies, for every bet, an e-variable of the two-sample kind
// (Turner and Grünwald 2023): the likelihood of the block under a bet fixed before the
// block, over its likelihood under the point of the hypothesis that is closest to the
// bet in relative entropy. Because the hypothesis is convex, the expectation of that
// ratio is at most one under all of it. The e-value is the sum over the bets, of which each begins with
// its part of one; by Ville's inequality it reaches 1/α with a chance of at most α, ever. A part is held
// back and put on the bets little by little (fixed share; Herbster and Warmuth 1998), so that harm that
// begins late finds bets that have not been lost meanwhile: after t blocks that costs some ln(t·ln²t),
// where it once grew with t. What is drawn for the lanes request by request may fail in bursts; failures
// on one lane must not depend on one another otherwise (see Bursts).
//
// The zero value with a Line set is ready. It is a value: it can be stored as JSON
// and taken up again.
type Rate struct {
	Line  Line `json:"line"`
	Below bool `json:"below,omitempty"`
	// Logs are the logarithms of the wealth of each bet, and last of what is held back.
	Logs []float64 `json:"logs,omitempty"`
	// Incumbent and Candidate are what both lanes did lately, on which bets rest.
	Incumbent Recent `json:"incumbent"`
	Candidate Recent `json:"candidate"`
	// Blocks is how many blocks were bet on.
	Blocks float64 `json:"blocks,omitempty"`
	// Seen is everything that was bet on so far; Open waits until both lanes have
	// answered something.
	Seen Block `json:"seen"`
	Open Block `json:"open"`
}

// bets are those of the direction.
func (r *Rate) bets() []float64 {
	if r.Below {
		return below[:]
	}
	return above[:]
}

// Observe takes one block into account. Lanes too quiet to answer in every block are no matter: what comes
// is collected until both have answered some, which depends on traffic and not on its outcome.
func (r *Rate) Observe(b Block) {
	r.Open = r.Open.Plus(b)
	if min(r.Open.IncumbentRequests, r.Open.CandidateRequests) < leastBlock {
		return
	}
	b, r.Open = r.Open, Block{}
	bets := r.bets()
	if len(r.Logs) != len(bets)+1 {
		r.Logs, r.Blocks = make([]float64, len(bets)+1), 0
		for i := range bets {
			r.Logs[i] = math.Log((1 - heldBack) / float64(len(bets)))
		}
		r.Logs[len(bets)] = math.Log(heldBack)
	}
	r.share()
	base := r.Incumbent.rate()
	edge := r.Line.Of(base)
	for i, bet := range bets {
		var candidate float64
		switch {
		case bet == learnt:
			candidate = r.Candidate.rate()
		case r.Below:
			candidate = edge * bet
		default:
			candidate = edge + bet
		}
		candidate = math.Min(math.Max(candidate, 1e-6), 1-1e-6)
		r.Logs[i] += r.logE(b, base, candidate)
	}
	r.Seen = r.Seen.Plus(b)
	r.Incumbent.add(float64(b.IncumbentFailed), float64(b.IncumbentRequests))
	r.Candidate.add(float64(b.CandidateFailed), float64(b.CandidateRequests))
}

// ObserveAlone takes a block into account in which there was only a candidate: for a line without slope,
// which is a fixed rate.
func (r *Rate) ObserveAlone(requests, failed uint64) {
	r.Observe(Block{IncumbentRequests: requests, CandidateRequests: requests, CandidateFailed: failed})
}

// share puts a part of what is held back on all bets.
func (r *Rate) share() {
	k := len(r.Logs) - 1
	log := math.Log(r.Blocks + 2)
	part := math.Min(0.5, 1/((r.Blocks+2)*log*log))
	given := r.Logs[k] + math.Log(part/float64(k))
	for i := range k {
		r.Logs[i] = floats.LogSumExp([]float64{r.Logs[i], given})
	}
	r.Logs[k] += math.Log1p(-part)
	r.Blocks++
}

const (
	// memory is for how many blocks what a lane did is remembered, leastMemory for how many requests at
	// least: what is bet follows the day, and rests on enough.
	memory, leastMemory = 300, 20_000
)

// Recent is what a lane did lately: what is longer ago counts less and less.
type Recent struct {
	Failed   float64 `json:"failed"`
	Requests float64 `json:"requests"`
}

func (r *Recent) add(failed, requests float64) {
	kept := 1 - math.Min(1.0/memory, requests/leastMemory)
	r.Failed, r.Requests = kept*r.Failed+failed, kept*r.Requests+requests
}

// rate is the rate of failure, shrunk towards a low one so that a bet never puts all on one outcome.
func (r Recent) rate() float64 { return (r.Failed + 0.1) / (r.Requests + 10) }

// LogE is the natural logarithm of the e-value so far.
func (r *Rate) LogE() float64 {
	if len(r.Logs) == 0 {
		return 0
	}
	return floats.LogSumExp(r.Logs)
}

// Fires reports whether the evidence suffices at level alpha.
func (r *Rate) Fires(alpha float64) bool { return r.LogE() >= -math.Log(alpha) }

// logE is the logarithm of the e-variable of one block for the bet (a, c) against the
// hypothesis. A bet inside the hypothesis wins and loses nothing.
func (r *Rate) logE(b Block, a, c float64) float64 {
	if c <= r.Line.Of(a) != r.Below {
		return 0
	}
	na, nc := float64(b.IncumbentRequests), float64(b.CandidateRequests)
	ta := r.Line.closest(na, a, nc, c)
	return logLikelihoodRatio(float64(b.IncumbentFailed), na, a, ta) +
		logLikelihoodRatio(float64(b.CandidateFailed), nc, c, r.Line.Of(ta))
}

// closest is the θ that minimises na·KL(a‖θ) + nc·KL(c‖Of(θ)): the projection of
// the bet on the line. The derivative is monotone, so bisection finds its root.
func (l Line) closest(na, a, nc, c float64) float64 {
	switch {
	case l.Slope == 0: // only the candidate is held to something
		return a
	case l == (Line{Slope: 1}):
		return (na*a + nc*c) / (na + nc)
	}
	slope := func(t float64) float64 {
		u := l.Of(t)
		return na*(t-a)/(t*(1-t)) + nc*l.Slope*(u-c)/(u*(1-u))
	}
	// The root lies between the two points where one of the terms is zero.
	at := (c - l.Offset) / l.Slope
	lo, hi := math.Min(a, at), math.Max(a, at)
	lo = math.Max(lo, math.Max(1e-12, (1e-12-l.Offset)/l.Slope))
	hi = math.Min(hi, math.Min(1-1e-12, (1-1e-12-l.Offset)/l.Slope))
	for range 32 { // the entropy is flat there, so its error is that of θ squared
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

// Bound is the same for the hypothesis that a candidate is at most on a line: the expected number of
// its requests until a test that knows both rates, a and c, and answers share of the traffic, tells
// them from every pair of rates that is allowed: ln(1/α) over the relative entropy to the closest.
func (l Line) Bound(a, c, share, alpha float64) float64 {
	na := (1 - share) / share
	t := l.closest(na, a, 1, c)
	return -math.Log(alpha) / (na*entropy(a, t) + entropy(c, l.Of(t)))
}

// entropy is the relative entropy of two shares in nats.
func entropy(p, q float64) (kl float64) {
	if p > 0 {
		kl += p * math.Log(p/q)
	}
	if p < 1 {
		kl += (1 - p) * math.Log((1-p)/(1-q))
	}
	return kl
}
