package recorder

import (
	"context"
	"math/rand/v2"
	"sync"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/store"
)

// keptSeconds is how many seconds of each lane are kept one by one in memory.
const keptSeconds = 15 * 60

// Observation is what the gateway tells of one request.
type Observation struct {
	Class sketch.Class
	// Total runs from the request read to the answer ready to be written; Backend is
	// the model server's part of it.
	Total, Backend time.Duration
	// Drawn is set when the lane was picked at random; Fallback when another lane had
	// been picked and could not answer.
	Drawn, Fallback bool
}

// second is what a lane did in one second.
type second struct {
	at      int64
	traffic sketch.Traffic
}

// Lane records the traffic of one lane of one split. The gateway holds it and calls it
// for every request; nothing in it waits for anything.
type Lane struct {
	rec *Recorder
	Key store.LaneKey

	mu  sync.Mutex
	now second
	// past holds the closed seconds, oldest first.
	past []second
	// lastRate is how many requests the last closed second had; sampled counts the
	// bodies asked for in this one.
	lastRate, sampled uint64

	// minute is the window being filled, of the minute that began at minuteAt; closed
	// are full ones that wait to be written.
	minute   *sketch.Summary
	minuteAt time.Time
	dirty    bool
	closed   []store.Window

	// total is everything since the split came into force. After a restart its latency is
	// not whole, and its content only when that was asked for; its counts always are.
	total sketch.Summary
	// started is everything since the service started, the running second excepted.
	started sketch.Traffic
}

// takeUp reads what was written of the lane before now. The running minute goes on where
// it was.
func (l *Lane) takeUp(ctx context.Context, signals *store.Signals, since, now time.Time, content bool) error {
	from := l.minuteAt
	if content {
		from = since
	}
	windows, err := signals.Windows(ctx, l.Key.Endpoint, from, now)
	if err != nil {
		return err
	}
	for _, w := range windows {
		if w.LaneKey != l.Key {
			continue
		}
		if content {
			l.total.Content.Merge(&w.Summary.Content)
		}
		if w.Minute.Equal(l.minuteAt) {
			l.minute.Merge(w.Summary)
		}
	}
	requests, failed, err := signals.Counted(ctx, l.Key, since)
	// Which way a request failed matters to nobody here, so one kind stands for all.
	l.total.Counts = sketch.Counts{Requests: requests, ServerErrors: failed}
	return err
}

// Observe records one request that ended at now. It reports whether the recorder wants
// to see the bodies; the gateway then calls Offer.
func (l *Lane) Observe(o Observation, now time.Time) (wantBodies bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.advance(now)
	l.now.traffic.Add(o.Class, o.Total, o.Backend)
	l.total.Counts.Add(o.Class)
	if o.Drawn {
		l.now.traffic.Counts.Drawn++
	}
	if o.Fallback {
		l.now.traffic.Counts.Fallback++
	}
	return o.Class == sketch.Answered && l.wantsBody()
}

// wantsBody draws a random sample of about the budget out of every second.
func (l *Lane) wantsBody() bool {
	budget := uint64(l.rec.budget)
	if l.sampled >= 2*budget {
		return false
	}
	if l.lastRate > budget && rand.Uint64N(l.lastRate) >= budget {
		return false
	}
	l.sampled++
	return true
}

// CountDrawn records that the lane was picked at random for a request that another lane
// answered.
func (l *Lane) CountDrawn(now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.advance(now)
	l.now.traffic.Counts.Drawn++
}

// Offer hands over copies of the bodies of an answered request. It never waits: when
// the reader is behind, the bodies are dropped and counted.
func (l *Lane) Offer(request, answer []byte) {
	select {
	case l.rec.queue <- bodies{l, request, answer}:
	default:
		l.mu.Lock()
		l.minute.Content.Unread++
		l.total.Content.Unread++
		l.dirty = true
		l.mu.Unlock()
		l.rec.unread.Add(1)
	}
}

// advance closes the current second and minute when now lies beyond them. Requests that
// end together may tell their times out of order; the late one counts as now.
func (l *Lane) advance(now time.Time) {
	sec := now.Unix()
	if sec <= l.now.at {
		return
	}
	last := l.now.at
	l.closeSecond()
	l.lastRate = 0
	if n := len(l.past); sec == last+1 && n > 0 && l.past[n-1].at == last {
		l.lastRate = l.past[n-1].traffic.Counts.Requests
	}
	old := 0
	for old < len(l.past) && l.past[old].at <= sec-keptSeconds {
		old++
	}
	if old > 0 {
		l.past = append(l.past[:0:0], l.past[old:]...)
	}
	l.now.at, l.sampled = sec, 0
	if m := now.Truncate(time.Minute); m.After(l.minuteAt) {
		if l.dirty {
			l.closed = append(l.closed, store.Window{LaneKey: l.Key, Minute: l.minuteAt, Summary: l.minute})
		}
		l.minute, l.minuteAt, l.dirty = &sketch.Summary{}, m, false
	}
}

// closeSecond adds the running second to its minute and to the past, and empties it.
func (l *Lane) closeSecond() {
	t := &l.now.traffic
	if t.Counts == (sketch.Counts{}) {
		return
	}
	l.minute.Traffic.Merge(t)
	l.started.Merge(t)
	l.dirty = true
	if n := len(l.past); n > 0 && l.past[n-1].at == l.now.at {
		l.past[n-1].traffic.Merge(t) // it was closed before, for a reader in a hurry
	} else {
		l.past = append(l.past, second{l.now.at, sketch.Traffic{Counts: t.Counts, Latency: *t.Latency.Clone(), Backend: *t.Backend.Clone()}})
	}
	t.Counts = sketch.Counts{}
	t.Latency.Reset()
	t.Backend.Reset()
}

// windows takes the windows that wait to be written, a copy of the running one too.
func (l *Lane) windows(now time.Time) []store.Window {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.advance(now)
	l.closeSecond()
	out := l.closed
	l.closed = nil
	if l.dirty {
		out = append(out, store.Window{LaneKey: l.Key, Minute: l.minuteAt, Summary: l.minute.Clone()})
		l.dirty = false
	}
	return out
}

// takeBack keeps windows that could not be written, for the next try. The running
// minute needs no keeping: it is only marked.
func (l *Lane) takeBack(w store.Window) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if w.Minute.Equal(l.minuteAt) {
		l.dirty = true
		return
	}
	l.closed = append(l.closed, w)
}

// idleSince reports whether nothing has been recorded, or waits to be written, since a
// time.
func (l *Lane) idleSince(t time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return !l.dirty && len(l.closed) == 0 && l.now.traffic.Counts == (sketch.Counts{}) && l.now.at < t.Unix()
}

// recent merges the seconds in [from, to).
func (l *Lane) recent(from, to int64) *sketch.Traffic {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := &sketch.Traffic{}
	for i := range l.past {
		if s := &l.past[i]; s.at >= from && s.at < to {
			out.Merge(&s.traffic)
		}
	}
	if l.now.at >= from && l.now.at < to {
		out.Merge(&l.now.traffic)
	}
	return out
}
