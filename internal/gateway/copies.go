package gateway

import (
	"context"
	"math/rand/v2"
	"net/http"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/http1"
	"innerladder/internal/upstream"
)

const (
	// mostCopies is how many copies for one lane may be under way at once: what comes while a shadow is slow, or
	// gone, is dropped.
	mostCopies = 64
	// copiesPart is the part of the budget of bodies that copies may have: callers come first.
	copiesPart = 8
)

// copies are those of all endpoints that are under way.
type copies struct {
	held atomic.Int64
	all  sync.WaitGroup
}

// copied is a copy of a request that main has answered.
type copied struct {
	// answer is main's, and took how long its model server took; nil when it cannot be compared.
	answer []byte
	took   time.Duration
	size   int64
}

// copyOut sends copies of a request that main has just answered to the shadows of the endpoint. The answer is on
// its way by then, and nothing here waits: where there is no room, a copy is dropped and counted. answer is main's,
// as the model server gave it; nil when it cannot be compared.
func (x *exchange) copyOut(answer []byte) {
	if len(x.endpoint.shadows) == 0 || x.lane.kind != traffic.Main || x.pinned || x.streamed {
		return
	}
	for _, l := range x.endpoint.shadows {
		if rand.IntN(traffic.Whole) >= l.share {
			continue
		}
		c := &copied{took: x.backend, size: int64(len(x.memory) + len(x.body) + len(answer))}
		if !x.g.mayCopy(l, c.size) {
			l.recorder.Dropped()
			continue
		}
		// All that is x's belongs to the connection, which goes on to the next request.
		both := make([]byte, 0, c.size)
		both = append(append(append(both, x.memory...), x.body...), answer...)
		head, body := both[:len(x.memory)], both[len(x.memory):len(x.memory)+len(x.body)]
		if answer != nil {
			c.answer = both[len(x.memory)+len(x.body):]
		}
		copyOf := exchange{
			caller: &caller{g: x.g, shard: x.shard + uint32(rand.IntN(traffic.Whole))}, g: x.g, endpoint: x.endpoint,
			planned: l, lane: l, id: x.id, body: body, copied: c,
		}
		x.g.copies.all.Add(1)
		go copyOf.answerCopy(head)
	}
}

// mayCopy reserves room for a copy.
func (g *Gateway) mayCopy(l *lane, size int64) bool {
	if l.copying.Add(1) > mostCopies {
		l.copying.Add(-1)
		return false
	}
	if g.copies.held.Add(size) > g.config.Bodies/copiesPart || !g.bodies.reserve(size) {
		g.copies.held.Add(-size)
		l.copying.Add(-1)
		return false
	}
	return true
}

// answerCopy has a shadow answer a copy, and holds that against main's answer.
func (x *exchange) answerCopy(head []byte) {
	defer func() {
		x.giveBack()
		x.g.bodies.release(x.copied.size, 0)
		x.g.copies.held.Add(-x.copied.size)
		x.lane.copying.Add(-1)
		x.g.copies.all.Done()
		if p := recover(); p != nil {
			x.g.panics.Add(1)
			x.g.log.Error("a copy went wrong in our own code", "panic", p, "stack", string(debug.Stack()))
		}
	}()
	if _, err := x.head.ParseRequest(head); err != nil {
		return // it was read before
	}
	x.now = time.Now()
	x.start, x.deadline = x.now, x.now.Add(x.g.config.Timeout)
	a := upstream.Choose(x.lane.addresses, nil)
	if a == nil {
		x.observe(sketch.Unavailable, nil)
		return
	}
	if failure := x.try(a); failure != nil {
		x.observe(failure.Class, nil)
	}
}

// compare reads the answer to a copy, and holds it against main's.
func (x *exchange) compare(conn *upstream.Conn, framing http1.Framing, begin time.Time,
) (kept bool, failure *upstream.Failure) {
	body, whole, failure := x.readAnswer(conn, framing)
	if failure != nil {
		return false, failure
	}
	x.now = time.Now()
	x.backend = x.now.Sub(begin)
	lane := x.lane.recorder
	switch {
	case x.reply.Status >= http.StatusBadRequest: // main could answer the very same request
		x.observe(sketch.ServerError, nil)
	case !whole:
		x.observe(sketch.Answered, nil)
		lane.Unpaired()
	default:
		_, lines, err := x.nameAnswer(body)
		if err != nil {
			return false, malformed(err.Error())
		}
		if len(lines) > 0 || x.copied.answer == nil { // binary tensors are not taken apart
			x.observe(sketch.Answered, nil)
			lane.Unpaired()
			break
		}
		x.observe(sketch.Answered, body)
		lane.Pair(x.copied.answer, body, x.lane.tolerance, x.copied.took, x.backend)
	}
	if whole {
		x.keepConn(conn, framing)
	}
	return whole, nil
}

// endCopies waits for the copies that are under way until ctx is done.
func (g *Gateway) endCopies(ctx context.Context) {
	done := make(chan struct{})
	go func() { g.copies.all.Wait(); close(done) }()
	select {
	case <-done:
	case <-ctx.Done():
	}
}
