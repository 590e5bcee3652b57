package load

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"innerladder/internal/core/fault"
)

func TestRequestsAreDueAtTheRate(t *testing.T) {
	for name, p := range map[string]Plan{
		"steady":  {Rate: 200, For: 10 * time.Second},
		"growing": {Rate: 500, From: 10, For: 20 * time.Second},
	} {
		n := p.Requests()
		if last := p.Due(n - 1); last > p.For || last < p.For-time.Second/5 {
			t.Errorf("%s: the last of %d is due after %s of %s", name, n, last, p.For)
		}
		for i := range n - 1 { // the gap between two is one over the rate there
			at, next := p.Due(i), p.Due(i+1)
			if rate := 1 / (next - at).Seconds(); i > 20 && math.Abs(rate/p.At(at)-1) > 0.05 {
				t.Fatalf("%s: at %s %.1f a second, want %.1f", name, at, rate, p.At(at))
			}
		}
	}
	for code, p := range map[string]Plan{
		"":              {Rate: 200, For: time.Minute},
		"load.rate":     {Rate: 0, For: time.Minute},
		"load.ramp":     {Rate: 10, From: 20, For: time.Minute},
		"load.for":      {Rate: 10, For: time.Millisecond},
		"load.none":     {Rate: 0.1, For: 5 * time.Second},
		"load.requests": {Rate: 20_000, For: time.Hour},
	} {
		if got := fault.Code(p.Check()); got != code {
			t.Errorf("%+v: %q, want %q", p, got, code)
		}
	}
	if fault.Code(Plan{Rate: math.NaN(), For: time.Minute}.Check()) != "load.rate" {
		t.Error("no number is a rate")
	}
}

// A server with one worker that takes 5 ms for each keeps up with 200 a second, and its answers wait longer and longer
// beyond that.
func TestWhereItBends(t *testing.T) {
	p := Plan{Rate: 400, From: 20, For: 60 * time.Second}
	tally := NewTally(p)
	free := time.Duration(0)
	dice := rand.New(rand.NewPCG(1, 1))
	for i := range p.Requests() {
		due := p.Due(i)
		free = max(free, due) + time.Duration(dice.ExpFloat64()*float64(5*time.Millisecond))
		tally.Add(due, free-due, "")
	}
	if r := tally.Report(); r.BendsAt < 120 || r.BendsAt > 220 {
		t.Errorf("it bends at %v a second", r.BendsAt)
	}
	good := NewTally(p)
	for i := range p.Requests() {
		why := ""
		if i%500 == 0 {
			why = fmt.Sprint("status ", 500+i%64)
		}
		good.Add(p.Due(i), time.Duration(dice.ExpFloat64()*float64(5*time.Millisecond)), why)
	}
	if r := good.Report(); r.BendsAt != 0 || r.Errors != int64(p.Requests()+499)/500 ||
		len(r.Failures) > mostKinds+1 {
		t.Errorf("one that keeps up: %+v", r)
	}
}

// The intervals hold the true quantile about as often as they say.
func TestBoundsHoldTheTruth(t *testing.T) {
	dice := rand.New(rand.NewPCG(2, 3))
	p := Plan{Rate: 100, For: 10 * time.Second}
	held, all := 0, 0
	for range 300 {
		tally := NewTally(p)
		for i := range p.Requests() {
			tally.Add(p.Due(i), time.Duration(dice.ExpFloat64()*1e7), "")
		}
		r := tally.Report()
		for name, q := range map[string]float64{"p50": 0.5, "p95": 0.95} {
			truth := -math.Log(1-q) * 10
			b := r.BoundsMs[name]
			if all++; b[0] <= truth && truth <= b[1] {
				held++
			}
		}
	}
	if share := float64(held) / float64(all); share < 0.93 {
		t.Errorf("%.3f of the bounds hold", share)
	}
}
