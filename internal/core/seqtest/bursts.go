package seqtest

import (
	"math"
	"slices"
)

const (
	// out is the rate of failure against which the moments of a lane are held: half of it is out.
	out = 0.5
	// longest is how many blocks of a run count at most, as seconds: a lane that was out for an hour once
	// is no excuse for one that is out for longer than that.
	longest = 10
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
	Lately Recent `json:"lately"`
	// Now is the run that goes on, and Run of how many blocks it is; Worst the worst there was.
	Now   Moment `json:"now"`
	Run   int    `json:"run"`
	Worst Moment `json:"worst"`
}

// usual is the rate of failure that is usual, where it is one that a moment can stand out from.
func (r Recent) usual() float64 { return math.Min(out/2, r.rate()) }

// Observe takes what a lane did in a short time into account.
func (b *Bursts) Observe(failed, requests uint64) {
	if requests == 0 {
		return
	}
	k, n, p := float64(failed), float64(requests), b.Lately.usual()
	gained := k*math.Log(out/p) + (n-k)*math.Log((1-out)/(1-p))
	if b.Run < longest || gained < 0 {
		b.Now.Evidence += gained
		b.Now.Failed += k
		b.Run++
	}
	if b.Now.Evidence <= 0 {
		b.Now, b.Run = Moment{}, 0
	}
	b.Worst = b.Worst.Worse(b.Now)
	b.Lately.add(k, n)
}

// WorstMinute is the same of minutes that are over, of which only the counts are left: what fails more than
// usual in a minute is taken to have failed in one run, of which ten seconds' worth count.
func WorstMinute(failed, requests []uint64) (worst Moment) {
	if len(failed) == 0 {
		return worst
	}
	// What is usual is what most minutes have, not what a few bad ones make of the whole.
	var rates []float64
	for i := range failed {
		rates = append(rates, Recent{float64(failed[i]), float64(requests[i])}.usual())
	}
	slices.Sort(rates)
	p := rates[(len(rates)-1)/2]
	for i := range failed {
		if burst(failed[i], requests[i], p) {
			excess := math.Min(float64(failed[i])-p*float64(requests[i]), float64(requests[i])*longest/60)
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
