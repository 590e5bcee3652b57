package recorder

import (
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/oip"
)

// pairs are what came of copies since they were taken last.
type pairs struct {
	// dropped are copies for which there was no room: callers count them on their way, and wait for nobody.
	dropped atomic.Uint64
	// some is set when there is anything in now.
	some atomic.Bool
	mu   sync.Mutex
	now  sketch.Paired
}

// any reports whether there is anything to take.
func (p *pairs) any() bool { return p.some.Load() || p.dropped.Load() > 0 }

// put adds to what came of copies.
func (p *pairs) put(one *sketch.Paired) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now.Merge(one)
	p.some.Store(true)
}

// take gives what came of copies since it was called last.
func (p *pairs) take() sketch.Paired {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := p.now
	out.Dropped += p.dropped.Swap(0)
	p.now = sketch.Paired{}
	p.some.Store(false)
	return out
}

// Dropped takes note of a copy for which there was no room.
func (l *Lane) Dropped() { l.pairs.dropped.Add(1) }

// Unpaired takes note of an answer to a copy that is too large, or of a form, to be held against main's.
func (l *Lane) Unpaired() { l.pairs.put(&sketch.Paired{Unread: 1}) }

// Pair holds the answer to a copy against main's, of which each took a time. Whoever calls it waits until both are
// taken apart, so it must not be the way of a caller.
func (l *Lane) Pair(main, answer []byte, tolerance float64, mainTook, took time.Duration) {
	ours, err1 := oip.Outputs(main, mostRows)
	theirs, err2 := oip.Outputs(answer, mostRows)
	if err1 != nil || err2 != nil {
		l.Unpaired()
		return
	}
	var one sketch.Paired
	one.Agree(ours, theirs, tolerance)
	one.Times(mainTook, took)
	l.pairs.put(&one)
}
