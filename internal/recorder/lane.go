package recorder

import (
	"math"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
)

// Observation is what the gateway tells of one request.
type Observation struct {
	Class sketch.Class
	// Total runs from the request read to the answer written; Backend is the part of it
	// from the request sent to the answer read.
	Total, Backend time.Duration
	// Drawn is set when the lane was picked at random; Lost when another lane answers then; Fallback
	// when another lane had been picked and could not answer.
	Drawn, Lost, Fallback bool
	// Caller stands for the name of a caller who keeps their version, 0 where there is none. It is
	// only looked at when the request failed.
	Caller uint64
	// Known stands for who a caller is, by their name or key, 0 where they do not say.
	Known uint64
	// Name is the caller's, as they give it or as their key has it; Count says that it is counted by it.
	Name  string
	Count bool
}

// Lane records the traffic of one lane of one split. The gateway holds it and calls it
// for every request. An observation locks only the cell of the caller's shard, which is
// otherwise locked once a second, for as long as it takes to swap two pointers.
type Lane struct {
	Key
	rec     *Recorder
	of      *endpoint
	sampler *sampler
	cells   []cell
	// skipped counts answered requests whose bodies are not offered at all.
	skipped atomic.Uint64
	// pairs are what came of copies.
	pairs pairs

	// The rest belongs to the recorder's lock.

	// past holds the seconds that are over, in the order in which they were counted.
	past []second
	// running is the window that is being filled; closed are full ones that wait to be
	// written.
	running *window
	closed  []*window
	// total are the counts since the split came into force: of this process, and of those
	// before it once known is set.
	total sketch.Counts
	known bool
	// started is everything since the service started.
	started sketch.Traffic
	// last is when something was counted last.
	last time.Time

	// The rest belongs to the reader's lock.

	// content is that of the bodies read since the running window began.
	content sketch.Content
	// sides are the trials that what is done here is evidence of.
	sides []*side
}

// cell is what one shard has observed since it was emptied last.
type cell struct {
	mu    sync.Mutex
	now   *sketch.Traffic
	spare *sketch.Traffic
	// failing are the callers who keep their version and have failed since then.
	failing map[uint64]struct{}
	// calls are what each caller asked since then.
	calls map[string]*request.Calls
	_     [64]byte // so that two shards do not share a line of the processor's memory
}

// second is what a lane did in one second.
type second struct {
	at      int64
	traffic sketch.Traffic
}

// window is a minute of a lane that is not written yet, or still changes.
type window struct {
	at      time.Time
	summary sketch.Summary
	// takenUp is set when what was stored of the minute before is in it.
	takenUp bool
	dirty   bool
}

// Observe records one request. Callers of the same shard wait for each other, so each
// connection should have its own.
func (l *Lane) Observe(shard uint32, o Observation) {
	c := &l.cells[shard%uint32(len(l.cells))]
	c.mu.Lock()
	if c.now == nil {
		c.now = &sketch.Traffic{}
	}
	c.now.Add(o.Class, o.Total, o.Backend)
	if o.Drawn {
		c.now.Counts.Drawn++
	}
	if o.Lost {
		c.now.Counts.Lost++
	}
	if o.Fallback {
		c.now.Counts.Fallback++
	}
	if o.Known != 0 {
		c.now.Callers.AddHash(o.Known)
	}
	if o.Caller != 0 && o.Class.Failed() {
		c.failed(o.Caller)
	}
	if o.Count {
		c.called(o.Name, o.Class)
	}
	c.mu.Unlock()
}

// mostFailing bounds how many callers that failed in a second a cell tells apart; of more than that it
// makes no difference who they are.
const mostFailing = 1024

// failed takes note that a caller has failed in this second. The cell is locked.
func (c *cell) failed(caller uint64) {
	if _, again := c.failing[caller]; again || len(c.failing) >= mostFailing {
		c.now.Counts.Repeated++
		return
	}
	if c.failing == nil {
		c.failing = map[uint64]struct{}{}
	}
	c.failing[caller] = struct{}{}
}

// take takes what a cell has observed, which callers have failed, and what each caller asked. Whoever takes it gives it
// back with put.
func (c *cell) take() (*sketch.Traffic, map[uint64]struct{}, map[string]*request.Calls) {
	c.mu.Lock()
	failing, calls := c.failing, c.calls
	c.failing, c.calls = nil, nil
	taken := c.now
	if taken == nil || taken.Counts == (sketch.Counts{}) {
		taken = nil
	} else {
		c.now, c.spare = c.spare, nil
	}
	c.mu.Unlock()
	return taken, failing, calls
}

func (c *cell) put(t *sketch.Traffic) {
	t.Counts = sketch.Counts{}
	t.Latency.Reset()
	t.Backend.Reset()
	t.Callers = sketch.Distinct{}
	c.mu.Lock()
	c.spare = t
	c.mu.Unlock()
}

// Wants reports whether the recorder wants to see the bodies of an answered request, of
// so many bytes together; the gateway then calls Offer.
func (l *Lane) Wants(bytes int) bool { return l.sampler.wants(bytes) }

// Skip takes note of an answered request whose bodies are too large to be looked at.
func (l *Lane) Skip() { l.skipped.Add(1) }

// Offer hands over the bodies of an answered request, which are copied. It never waits:
// when the reader is behind, they are dropped and counted.
func (l *Lane) Offer(request, answer []byte) {
	size := int64(len(request) + len(answer))
	if l.rec.queued.Add(size) > mostQueued {
		l.rec.queued.Add(-size)
		l.Skip()
		return
	}
	both := make([]byte, 0, size)
	both = append(append(both, request...), answer...)
	select {
	case l.rec.queue <- bodies{l, both[:len(request):len(request)], both[len(request):]}:
	default:
		l.rec.queued.Add(-size)
		l.Skip()
	}
}

// drain takes what was observed since it was called last, as the second that ended at a moment. The recorder is locked.
func (l *Lane) drain(at time.Time) *sketch.Traffic {
	var sum *sketch.Traffic
	var failing map[uint64]struct{}
	for i := range l.cells {
		c := &l.cells[i]
		t, callers, calls := c.take()
		l.rec.countCalls(l.Endpoint, at, calls)
		if t == nil {
			continue
		}
		if sum == nil {
			sum, failing = &sketch.Traffic{}, callers
		} else {
			for caller := range callers {
				if _, again := failing[caller]; again {
					sum.Counts.Repeated++
				} else if failing == nil {
					failing = map[uint64]struct{}{caller: {}}
				} else {
					failing[caller] = struct{}{}
				}
			}
		}
		sum.Merge(t)
		c.put(t)
	}
	return sum
}

// keptSeconds is how many seconds of each lane are kept one by one in memory.
const keptSeconds = 15 * 60

// count adds what was observed in a second. The recorder is locked.
func (l *Lane) count(at time.Time, t *sketch.Traffic) {
	l.running.summary.Traffic.Merge(t)
	l.running.dirty = true
	l.started.Merge(t)
	l.total = l.total.Plus(t.Counts)
	past := second{at.Unix(), *t}
	past.traffic.Callers = sketch.Distinct{} // nobody asks who it was in a second
	l.past = append(l.past, past)
	l.last = at
}

// forgetSeconds drops seconds that are too old. The recorder is locked.
func (l *Lane) forgetSeconds(at time.Time) {
	old := 0
	for old < len(l.past) && l.past[old].at <= at.Unix()-keptSeconds {
		old++
	}
	if old > 64 || old == len(l.past) { // now and then, so that little is copied
		l.past = append(l.past[:0:0], l.past[old:]...)
	}
}

// mostClosed is how many minutes of a lane wait to be written, at most.
const mostClosed = 240

// turn begins a new window when a moment lies in another minute. The recorder and the
// reader are locked.
func (l *Lane) turn(at time.Time) {
	minute := at.Truncate(time.Minute)
	if l.running != nil && l.running.at.Equal(minute) {
		return
	}
	if l.running != nil {
		l.takeContent()
		if l.running.dirty {
			l.closed = append(l.closed, l.running)
			l.closed = l.closed[max(0, len(l.closed)-mostClosed):]
		}
	}
	l.running = &window{at: minute}
}

// takeContent moves what was read of bodies into the running window. The recorder and the
// reader are locked.
func (l *Lane) takeContent() {
	if n := l.skipped.Swap(0); n > 0 {
		l.content.Unread += n
		l.rec.unread += n
	}
	if l.pairs.any() {
		l.add(&sketch.Content{Paired: l.pairs.take()})
	}
	if l.content.Bodies == 0 && l.content.Unread == 0 && l.content.Paired.Empty() {
		return
	}
	l.running.summary.Content.Merge(&l.content)
	l.running.dirty = true
	l.content = sketch.Content{}
}

// recent merges the seconds in [from, to). The recorder is locked.
func (l *Lane) recent(from, to int64) *sketch.Traffic {
	out := &sketch.Traffic{}
	for i := range l.past {
		if s := &l.past[i]; s.at >= from && s.at < to {
			out.Merge(&s.traffic)
		}
	}
	return out
}

// sampler decides whose bodies are read: with one probability for all lanes of an endpoint
// in a second, so that lanes stay comparable whatever their traffic.
type sampler struct {
	// threshold is the probability as a share of 2³².
	threshold atomic.Uint64
	// taken and bytes are what this second has had, whatever the probability: a bound for
	// a second in which traffic jumps, the same for all lanes. mostTaken and mostBytes are
	// what a second should have.
	taken, bytes         atomic.Int64
	mostTaken, mostBytes atomic.Int64
	// read are the bodies that were read this second, rows and values what they held.
	read, rows, values atomic.Int64
	// budget is how many bodies of one row a second are read. cost is what a body costs of
	// it, and size its bytes, judged by the last second that had any: of large bodies less
	// than one a second may be drawn, and a second without is no news of their size.
	budget int64
	cost   float64
	size   float64
}

const (
	certain = 1 << 32
	// usualBody is how many bytes of bodies are read for each of the budget: larger bodies
	// are read less often.
	usualBody = 16 << 10
	// rowsForOne is how many rows cost as much as a body does at any rate. Bodies of many
	// rows are read less often, since their rows tell as much as those of others. valuesForOne
	// is how many values do, of all columns: it is they that take the reader's time.
	rowsForOne   = 8
	valuesForOne = 64
)

func newSampler(budget int) *sampler {
	s := &sampler{budget: int64(budget), cost: 1}
	s.threshold.Store(certain)
	s.mostTaken.Store(int64(budget))
	s.mostBytes.Store(int64(budget) * usualBody)
	return s
}

// wants draws.
func (s *sampler) wants(bytes int) bool {
	if t := s.threshold.Load(); t < certain && uint64(rand.Uint32()) >= t {
		return false
	}
	return s.taken.Add(1) <= 2*s.mostTaken.Load() && s.bytes.Add(int64(bytes)) <= 4*s.mostBytes.Load()
}

// hasRead takes note of a body that was read.
func (s *sampler) hasRead(rows, values int) {
	s.read.Add(1)
	s.rows.Add(int64(rows))
	s.values.Add(int64(values))
}

// probability is that of the running second.
func (s *sampler) probability() float64 { return float64(s.threshold.Load()) / certain }

// next chooses the probability of the next second, from how many answers this one had.
func (s *sampler) next(answered uint64) {
	taken, bytes := s.taken.Swap(0), s.bytes.Swap(0)
	if read, rows, values := s.read.Swap(0), s.rows.Swap(0), s.values.Swap(0); read > 0 {
		s.cost = 1 + (float64(max(rows-read, 0))/rowsForOne+float64(values)/valuesForOne)/float64(read)
	}
	most := max(1, float64(s.budget)/s.cost)
	s.mostTaken.Store(int64(most))
	p := 1.0
	if float64(answered) > most {
		p = most / float64(answered)
	}
	if taken > 0 {
		s.size = float64(bytes) / float64(taken)
	}
	if all, most := s.size*float64(answered), float64(s.budget*usualBody); all*p > most {
		p = most / all
	}
	s.threshold.Store(uint64(math.Round(p * certain)))
}
