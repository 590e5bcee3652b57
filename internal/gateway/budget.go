package gateway

import (
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"
)

// budget bounds the bytes of all bodies that are in flight at the same time, and lends the
// memory for those that are held. A body that is streamed counts whole: we hold little of
// it, but a model server may hold it all.
type budget struct {
	most int64
	held atomic.Int64
	// streamed is how many of those are of bodies that are streamed: three quarters at most,
	// so that a crowd with large bodies leaves room for all others.
	streamed atomic.Int64
	// peak is the most that was held since memory was given back last.
	peak  atomic.Int64
	given time.Time
	pools [len(sizes)]sync.Pool
}

// sizes are those of buffers that are lent.
var sizes = [...]int{4 << 10, 16 << 10, 64 << 10, 256 << 10, heldBody}

const (
	// worthGiving is how much must have been held for memory to be given back.
	worthGiving = 32 << 20
	// givesEvery is how often that happens at most: it stops everything for a moment.
	givesEvery = 10 * time.Second
)

// reserve takes bytes from the budget, or none when they are not there.
func (b *budget) reserve(n int64) bool {
	held := b.held.Add(n)
	if held > b.most {
		b.held.Add(-n)
		return false
	}
	for {
		peak := b.peak.Load()
		if held <= peak || b.peak.CompareAndSwap(peak, held) {
			return true
		}
	}
}

// reserveStream takes bytes for a body that is streamed.
func (b *budget) reserveStream(n int64) bool {
	if b.streamed.Add(n) > b.most/4*3 || !b.reserve(n) {
		b.streamed.Add(-n)
		return false
	}
	return true
}

// release gives bytes back, of which so many were for a body that was streamed.
func (b *budget) release(n, streamed int64) {
	b.held.Add(-n)
	b.streamed.Add(-streamed)
}

// lend gives a buffer of at least n bytes, at most heldBody, with the length 0.
func (b *budget) lend(n int) *[]byte {
	i := 0
	for i < len(sizes)-1 && sizes[i] < n {
		i++
	}
	if p, ok := b.pools[i].Get().(*[]byte); ok {
		*p = (*p)[:0]
		return p
	}
	s := make([]byte, 0, sizes[i])
	return &s
}

// take back a buffer that was lent.
func (b *budget) takeBack(p *[]byte) {
	for i, size := range sizes {
		if cap(*p) == size {
			b.pools[i].Put(p)
		}
	}
}

// tidy gives memory back to the system when much was needed and is not any more.
func (b *budget) tidy(now time.Time) {
	held, peak := b.held.Load(), b.peak.Load()
	if peak < worthGiving || held > peak/4 || now.Sub(b.given) < givesEvery {
		return
	}
	b.given = now
	b.peak.Store(held)
	debug.FreeOSMemory() // pools are emptied by the collections that this makes
	debug.FreeOSMemory()
}
