package guard

import (
	"math"
	"time"

	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

const (
	// leastScale is of how many of the incumbent's values it is known how far they spread, and mostScale how many are
	// waited for where all of those are the same.
	leastScale, mostScale = 50, 1000
	// mostTogether is how many values of one side are held against one of the other at most.
	mostTogether = 20
	// mostWaiting is how many values of a side wait for those of the other.
	mostWaiting = 100
	// apart is how long after one another two answers may have been given that are held against each other: what a
	// signal is follows the time of day.
	apart = time.Hour
)

// Moment is a value that waits, larger being worse, and when it was answered.
type Moment struct {
	At time.Time `json:"at"`
	X  float64   `json:"x"`
}

// Pairing holds the candidate's values against those of the incumbent that come next, some of one side against some of
// the other, as their numbers are: how many that are is settled by how many came, and never by what they are.
type Pairing struct {
	Taken
	// HigherIsBetter says which way is worse.
	HigherIsBetter bool `json:"higher_is_better,omitempty"`
	// Centre and Clip are the scale on which values are judged; Clip is 0 while it is not known how far they spread.
	Centre float64 `json:"centre"`
	Clip   float64 `json:"clip"`
	// Spread are the incumbent's first values, where none are known from before.
	Spread Spread `json:"spread"`
	// Incumbents and Candidates wait for values of the other side; EachIncumbent and EachCandidate are how many of them
	// are held against one another next.
	Incumbents    []Moment `json:"incumbents,omitempty"`
	Candidates    []Moment `json:"candidates,omitempty"`
	EachIncumbent int      `json:"each_incumbent"`
	EachCandidate int      `json:"each_candidate"`
}

// Spread is how far values spread around their mean, as far as they came.
type Spread struct {
	N      float64 `json:"n"`
	Mean   float64 `json:"mean"`
	Around float64 `json:"around"`
	Least  float64 `json:"least"`
	Most   float64 `json:"most"`
}

func (s *Spread) add(x float64) {
	if s.N == 0 {
		s.Least, s.Most = x, x
	}
	s.N++
	d := x - s.Mean
	s.Mean += d / s.N
	s.Around += d * (x - s.Mean)
	s.Least, s.Most = min(s.Least, x), max(s.Most, x)
}

// spreadOf is that of numbers, with a sign that makes larger ones worse.
func spreadOf(n *sketch.Numbers, sign float64) Spread {
	return Spread{
		N: float64(n.N), Mean: sign * n.Mean, Around: n.Around, Least: min(sign*n.Min, sign*n.Max),
		Most: max(sign*n.Min, sign*n.Max),
	}
}

// known reports whether it is known how far values spread.
func (s *Spread) known() bool { return s.N >= leastScale && s.Around > 0 || s.N >= mostScale }

// deviation is the standard deviation.
func (s *Spread) deviation() float64 { return math.Sqrt(s.Around / max(1, s.N-1)) }

// scale settles the scale by what is known before; margin is a difference that must be seen on it.
func (p *Pairing) scale(by Spread, margin float64) {
	p.Centre, p.Clip = seqtest.ScaleOf(by.Mean, by.deviation(), max(by.Most-by.Mean, by.Mean-by.Least), margin)
}

// turn begins anew with what comes where another way is better now than before.
func (p *Pairing) turn(v *Values) (turned bool) {
	if p.HigherIsBetter == v.HigherIsBetter {
		return false
	}
	*p = Pairing{Taken: p.Taken, HigherIsBetter: v.HigherIsBetter}
	return true
}

// sign makes larger values the worse ones.
func (v *Values) sign() float64 {
	if v.HigherIsBetter {
		return -1
	}
	return 1
}

// observe takes in what came of a trial, and hands over what is held against each other.
func (p *Pairing) observe(v *Values, margin float64, held func(incumbents, candidates []float64)) {
	if p.Clip == 0 && v.known() && v.Before.Around > 0 {
		p.scale(spreadOf(v.Before, v.sign()), margin)
	}
	for _, x := range p.fresh(v) {
		m := Moment{x.At, v.sign() * x.X}
		switch {
		case x.Candidate:
			p.Candidates = wait(p.Candidates, m)
		case p.Clip > 0:
			p.Incumbents = wait(p.Incumbents, m)
		default: // what the scale is made of is held against nothing
			if p.Spread.add(m.X); p.Spread.known() {
				p.scale(p.Spread, margin)
			}
			continue
		}
		p.pair(held)
	}
}

func wait(all []Moment, m Moment) []Moment {
	return append(all[max(0, len(all)+1-mostWaiting):], m)
}

// pair hands over what waits, as far as it goes.
func (p *Pairing) pair(held func(incumbents, candidates []float64)) {
	for p.Clip > 0 && len(p.Incumbents) > 0 && len(p.Candidates) > 0 {
		switch d := p.Incumbents[0].At.Sub(p.Candidates[0].At); {
		case d > apart:
			p.Candidates = p.Candidates[1:]
			continue
		case d < -apart:
			p.Incumbents = p.Incumbents[1:]
			continue
		}
		if p.EachIncumbent == 0 {
			n, m := float64(max(1, p.Taken.Incumbent.N)), float64(max(1, p.Taken.Candidate.N))
			p.EachIncumbent = int(min(mostTogether, max(1, math.Round(n/m))))
			p.EachCandidate = int(min(mostTogether, max(1, math.Round(m/n))))
		}
		if len(p.Incumbents) < p.EachIncumbent || len(p.Candidates) < p.EachCandidate {
			return
		}
		held(numbers(p.Incumbents[:p.EachIncumbent]), numbers(p.Candidates[:p.EachCandidate]))
		p.Incumbents, p.Candidates = p.Incumbents[p.EachIncumbent:], p.Candidates[p.EachCandidate:]
		p.EachIncumbent, p.EachCandidate = 0, 0
	}
}

func numbers(all []Moment) []float64 {
	out := make([]float64, len(all))
	for i, m := range all {
		out[i] = m.X
	}
	return out
}
