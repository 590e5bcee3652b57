package recorder

import (
	"sync/atomic"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/signals"
)

// Refusals counts the requests to one endpoint that the gateway turned away.
type Refusals struct {
	// now are those since the last second was counted.
	now [request.Reasons]atomic.Uint64

	// The rest belongs to the recorder's lock.

	// past are seconds that are over and had any, in the order of time; unwritten are minutes that wait to be
	// written.
	past      []refusedSecond
	unwritten map[time.Time]request.Refusals
	// started are those since the service started.
	started request.Refusals
}

type refusedSecond struct {
	at int64
	request.Refusals
}

// Count counts one request.
func (f *Refusals) Count(why request.Reason) { f.now[why].Add(1) }

// Refusals returns where the refusals of an endpoint are counted; the empty name stands for requests that found none.
func (r *Recorder) Refusals(endpoint string) *Refusals {
	r.mu.Lock()
	defer r.mu.Unlock()
	f := r.refusals[endpoint]
	if f == nil {
		f = &Refusals{unwritten: map[time.Time]request.Refusals{}}
		r.refusals[endpoint] = f
	}
	return f
}

// tick counts what was turned away in a second. The recorder is locked.
func (f *Refusals) tick(at time.Time) {
	var n request.Refusals
	for i := range n {
		n[i] = f.now[i].Swap(0)
	}
	old := 0
	for old < len(f.past) && f.past[old].at <= at.Unix()-keptSeconds {
		old++
	}
	f.past = f.past[old:]
	if n.Total() == 0 {
		return
	}
	f.past = append(f.past, refusedSecond{at.Unix(), n})
	f.started = f.started.Plus(n)
	minute := at.Truncate(time.Minute)
	if _, ok := f.unwritten[minute]; ok || len(f.unwritten) < mostClosed {
		f.unwritten[minute] = f.unwritten[minute].Plus(n)
	}
}

// RefusedLately adds up what was turned away at an endpoint in [from, to), as far back as seconds are kept.
func (r *Recorder) RefusedLately(endpoint string, from, to time.Time) (n request.Refusals) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if f := r.refusals[endpoint]; f != nil {
		for _, s := range f.past {
			if s.at >= from.Unix() && s.at < to.Unix() {
				n = n.Plus(s.Refusals)
			}
		}
	}
	return n
}

// RefusedTotals are what was turned away since the service started, by endpoint.
func (r *Recorder) RefusedTotals() map[string]request.Refusals {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := map[string]request.Refusals{}
	for name, f := range r.refusals {
		out[name] = f.started
	}
	return out
}

// takeRefusals takes what waits to be written. The recorder is locked.
func (r *Recorder) takeRefusals() (out []signals.Refused) {
	for name, f := range r.refusals {
		for at, n := range f.unwritten {
			out = append(out, signals.Refused{Endpoint: name, At: at, Refusals: n})
		}
		clear(f.unwritten)
	}
	return out
}

// keepRefusals takes back what could not be written. The recorder is locked.
func (r *Recorder) keepRefusals(back []signals.Refused) {
	for _, b := range back {
		f := r.refusals[b.Endpoint]
		f.unwritten[b.At] = f.unwritten[b.At].Plus(b.Refusals)
	}
}
