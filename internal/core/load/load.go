// Package load is about load tests: when their requests are due, and what became of them.
//
// Requests come on their own clock, whether or not earlier ones were answered, as those of callers do; and what one
// took runs from when it was due. So a server that stalls is not spared, and slow answers are not hidden.
package load

import (
	"fmt"
	"math"
	"slices"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/interval"
)

// Plan says how many requests a second are sent, and for how long.
type Plan struct {
	// Rate is how many a second; From is how many at first, where it grows evenly from there.
	Rate float64
	From float64
	For  time.Duration
}

const (
	// mostRate and mostFor bound a load test, mostRequests what is kept of one.
	mostRate     = 20_000
	mostFor      = 2 * time.Hour
	mostRequests = 5_000_000
	// steps is into how many parts a test is divided whose rate grows.
	steps = 20
)

// Check says whether a plan can be carried out.
func (p Plan) Check() error {
	switch {
	case !(p.Rate > 0 && p.Rate <= mostRate):
		return fault.New(fault.Invalid, "load.rate", "%v requests a second cannot be sent", p.Rate).In("rate").
			Do("give a rate up to %d", mostRate)
	case !(p.From >= 0 && p.From <= p.Rate):
		return fault.New(fault.Invalid, "load.ramp", "the rate cannot grow from %v to %v", p.From, p.Rate).In("ramp").
			Do("give the lower rate at which it begins")
	case p.For < time.Second || p.For > mostFor:
		return fault.New(fault.Invalid, "load.for", "a load test of %s is too short or too long", p.For).In("for").
			Do("give from 1s to %s", mostFor)
	case p.Requests() < 1:
		return fault.New(fault.Invalid, "load.none", "not one request is due in %s", p.For).In("for").
			Do("give a longer time or a higher rate")
	case p.Requests() > mostRequests:
		return fault.New(fault.Invalid, "load.requests", "those would be %d requests", p.Requests()).In("rate").
			Do("give a lower rate or a shorter time: %d at most", mostRequests)
	}
	return nil
}

// from is the rate at the beginning.
func (p Plan) from() float64 {
	if p.From > 0 {
		return p.From
	}
	return p.Rate
}

// Requests is how many are sent in all.
func (p Plan) Requests() int { return int((p.from() + p.Rate) / 2 * p.For.Seconds()) }

// At is the rate at a time after the beginning.
func (p Plan) At(t time.Duration) float64 {
	return p.from() + (p.Rate-p.from())*t.Seconds()/p.For.Seconds()
}

// Due is when the i-th request is sent, from 0, after the beginning: where so many would have come at the plan's rate.
func (p Plan) Due(i int) time.Duration {
	a := (p.Rate - p.from()) / p.For.Seconds() / 2 // n(t) = from·t + a·t²
	n := float64(i)
	t := n / p.from()
	if a > 0 {
		t = (math.Sqrt(p.from()*p.from()+4*a*n) - p.from()) / (2 * a)
	}
	return time.Duration(t * float64(time.Second))
}

// Tally is what became of the requests so far. It is not safe for use by several goroutines at once.
type Tally struct {
	plan  Plan
	took  []time.Duration
	parts [steps]part
	// Requests and Errors count those that have ended.
	Requests, Errors int64
	failures         map[string]int64
	// last is when the last one ended, after the beginning.
	last time.Duration
}

// part is a part of a test, by when requests were due.
type part struct {
	took           []time.Duration
	requests, errs int
}

// NewTally begins with nothing.
func NewTally(p Plan) *Tally { return &Tally{plan: p, failures: map[string]int64{}} }

// mostKinds is how many kinds of failures are told apart.
const mostKinds = 20

// Add takes note of a request: when it was due, how long it took from then, and how it failed, empty where it did not.
func (t *Tally) Add(due, took time.Duration, failure string) {
	t.Requests++
	t.last = max(t.last, due+took)
	p := &t.parts[min(int(steps*due/t.plan.For), steps-1)]
	p.requests++
	if failure != "" {
		if _, known := t.failures[failure]; !known && len(t.failures) >= mostKinds {
			failure = "other"
		}
		t.failures[failure]++
		t.Errors++
		p.errs++
		return // how long a failure took says nothing of answers
	}
	t.took, p.took = append(t.took, took), append(p.took, took)
}

// quantiles are those that a report has.
var quantiles = []struct {
	name string
	q    float64
}{{"p50", 0.5}, {"p90", 0.9}, {"p95", 0.95}, {"p99", 0.99}}

// confidence is that of the intervals.
const confidence = 0.95

// Report is what became of all of them. Quantiles are exact, with distribution-free intervals at 95 % (order
// statistics); a bound that so few requests cannot give is left out.
func (t *Tally) Report() evidence.LoadReport {
	r := evidence.LoadReport{
		Requests: t.Requests, Errors: t.Errors, Seconds: max(t.last, t.plan.For).Seconds(),
		LatencyMs: map[string]float64{},
		BoundsMs:  map[string][]float64{},
		Failures:  t.failures,
		Offered:   t.plan.Rate,
	}
	slices.Sort(t.took)
	n := uint64(len(t.took))
	if n == 0 {
		return r
	}
	for _, q := range quantiles {
		r.LatencyMs[q.name] = millis(t.took[rank(n, q.q)-1])
		if low, high := interval.QuantileRanks(n, q.q, confidence); low >= 1 && high <= n {
			r.BoundsMs[q.name] = []float64{millis(t.took[low-1]), millis(t.took[high-1])}
		}
	}
	r.LatencyMs["max"] = millis(t.took[n-1])
	if t.plan.From > 0 && t.plan.From < t.plan.Rate {
		r.BendsAt = t.bend()
	}
	return r
}

// rank is the 1-based rank of a quantile among n (type 1 of Hyndman and Fan).
func rank(n uint64, q float64) uint64 { return max(1, uint64(math.Ceil(q*float64(n)))) }

func millis(d time.Duration) float64 { return math.Round(float64(d)/1e3) / 1e3 }

const (
	// slower is how many times what it was at first a part's p95 is where the rate bends, failing what share fails
	// there.
	slower  = 3
	failing = 0.01
	// first are the parts that say how long answers take when there are few.
	first = 3
)

// bend is the rate from which on answers take three times as long as at first, or more than one in a hundred fails, to
// the end of the test; 0 where there is none. It is known to a twentieth of the way from the lower rate to the higher.
func (t *Tally) bend() float64 {
	var base []time.Duration
	for i := range first {
		base = append(base, t.parts[i].took...)
	}
	if len(base) == 0 {
		return t.plan.from()
	}
	slices.Sort(base)
	usual := base[rank(uint64(len(base)), 0.95)-1]
	from := steps
	for i := steps - 1; i >= first && t.parts[i].bad(usual); i-- {
		from = i
	}
	if from == steps {
		return 0
	}
	return math.Round(t.plan.At(time.Duration(from)*t.plan.For/steps)*10) / 10
}

// bad reports whether a part is beyond the bend.
func (p *part) bad(usual time.Duration) bool {
	if p.requests == 0 {
		return false
	}
	if float64(p.errs) > failing*float64(p.requests) || len(p.took) == 0 {
		return true
	}
	took := slices.Sorted(slices.Values(p.took))
	return took[rank(uint64(len(took)), 0.95)-1] > slower*usual
}

// Says is the report in a sentence.
func Says(r evidence.LoadReport) string {
	s := fmt.Sprintf("%d requests in %.1f s, %d failed (%.2f %%)", r.Requests, r.Seconds, r.Errors,
		100*float64(r.Errors)/float64(max(1, r.Requests)))
	if r.BendsAt > 0 {
		s += fmt.Sprintf("; from %.4g a second on it does not keep up", r.BendsAt)
	}
	return s
}
