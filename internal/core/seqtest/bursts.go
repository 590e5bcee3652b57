package seqtest

import (
	"math"
	"slices"
)

const (
	// out is the rate of failure against which the moments of a lane are held: half of it is out.
	out = 0.5
	// memory is over how many blocks the usual rate of a lane is remembered.
	memory = 600
	// surely is by how many standard deviations the failures of a minute must exceed the usual to be a
	// burst.
	surely = 4
)

// Moment is a bad moment of a lane: how much evidence it was that half of its requests fail, in nats, and how
// many failed.
type Moment struct {
	Evidence float64 `json:"evidence"`
	Failed   float64 `json:"failed"`
}

// Worse is the worse of two.
func (m Moment) Worse(o Moment) Moment {
	if o.Evidence > m.Evidence {
		return o
	}
	return m
}

// For is how much evidence the same moment would be against a lane that has a share of the requests that this
// one has: of so few, chance makes more fail, by four standard deviations at most.
func (m Moment) For(share float64) float64 {
	failed := m.Failed * share
	if failed <= 0 {
		return 0
	}
	return m.Evidence * share * (failed + surely*math.Sqrt(failed) + surely) / failed
}

// Bursts knows the worst moment of a lane: the most evidence there ever was, over a run of seconds, that half of
// its requests fail (a cumulative sum; Page 1954). It is nothing where failures come one by one. A lane that
// is wholly out for some seconds now and then has a large one, and whoever is held against it is given as
// much patience: the same moment of theirs is no sign that they are worse. The zero value is ready.
type Bursts struct {
	Failed   float64 `json:"failed"`
	Requests float64 `json:"requests"`
	Blocks   float64 `json:"blocks"`
	// Now is the run that goes on, Worst the worst there was.
	Now   Moment `json:"now"`
	Worst Moment `json:"worst"`
}

// usual is the rate of failure that the lane has usually.
func (b *Bursts) usual() float64 { return math.Min(out/2, (b.Failed+0.1)/(b.Requests+10)) }

// Observe takes what a lane did in a short time into account.
func (b *Bursts) Observe(failed, requests uint64) {
	if requests == 0 {
		return
	}
	k, n, p := float64(failed), float64(requests), b.usual()
	b.Now.Evidence += k*math.Log(out/p) + (n-k)*math.Log((1-out)/(1-p))
	b.Now.Failed += k
	if b.Now.Evidence <= 0 {
		b.Now = Moment{}
	}
	b.Worst = b.Worst.Worse(b.Now)
	b.Blocks++
	if b.Blocks > memory {
		b.Failed -= b.Failed / memory
		b.Requests -= b.Requests / memory
	}
	b.Failed, b.Requests = b.Failed+k, b.Requests+n
}

// WorstMinute is the same of minutes that are over, of which only the counts are left: what fails more than
// usual in a minute is taken to have failed in one run.
func WorstMinute(failed, requests []uint64) (worst Moment) {
	if len(failed) == 0 {
		return worst
	}
	// What is usual is what most minutes have, not what a few bad ones make of the whole.
	var rates []float64
	for i := range failed {
		minute := Bursts{Failed: float64(failed[i]), Requests: float64(requests[i])}
		rates = append(rates, minute.usual())
	}
	slices.Sort(rates)
	p := rates[(len(rates)-1)/2]
	for i := range failed {
		if burst(failed[i], requests[i], p) {
			excess := float64(failed[i]) - p*float64(requests[i])
			worst = worst.Worse(Moment{excess * math.Log(1/p), excess})
		}
	}
	return worst
}

// burst reports whether so many failures are surely more than usual.
func burst(failed, requests uint64, p float64) bool {
	n := float64(requests)
	return float64(failed) > n*p+surely*math.Sqrt(n*p*(1-p))+surely
}
