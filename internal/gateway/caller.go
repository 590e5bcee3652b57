package gateway

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/eventloop"
	"innerladder/internal/http1"
	"innerladder/internal/oip"
)

// callers are the connections of callers.
type callers struct {
	mu   sync.Mutex
	open map[*caller]struct{}
	// shards counts connections, to spread them over the recorder's shards.
	shards uint32
	all    sync.WaitGroup
}

// caller is one caller's connection, with everything that its requests use one after the
// other: a connection has one task and one request at a time.
type caller struct {
	g    *Gateway
	wire *http1.Conn
	// task is what runs serve; nil when a goroutine does.
	task *eventloop.Task
	// now is what time it was after what was waited for last.
	now   time.Time
	shard uint32
	// state is idle, busy or ended.
	state atomic.Int32

	// head and body are the request's, memory holds the head.
	head        http1.Head
	memory      []byte
	requestBody http1.Body
	// reply is the head of the model server's answer, which lies in replyMemory.
	reply       http1.Head
	replyMemory []byte
	replyBody   http1.Body
	answer      oip.Answer
	// named is the answer with its version.
	named []byte
	// leaves asks whether the caller has left, parse reads the head: both made once.
	leaves func() bool
	parse  func([]byte) (int, error)
	// passed are positions of fields; out is what is written next, to either side.
	passed []int
	out    []byte
}

const (
	idle int32 = iota
	busy
	ended
)

// take serves a new connection, or turns it away when there are too many.
func (cs *callers) take(g *Gateway, conn net.Conn) {
	conn = g.loops.Adopt(conn)
	if g.config.TLS != nil {
		conn = tls.Server(conn, g.config.TLS) // the handshake is part of waiting for the first request
	}
	c := &caller{g: g, now: time.Now(), wire: http1.NewConn(conn, largestHead)}
	c.leaves, c.parse = c.left, c.head.ParseRequest
	cs.mu.Lock()
	full := len(cs.open) >= g.config.Callers
	if !full {
		cs.shards++
		c.shard = cs.shards
		cs.open[c] = struct{}{}
		cs.all.Add(1)
	}
	cs.mu.Unlock()
	if full {
		// This runs where connections are accepted, so a slow caller must not hold it up.
		_ = c.wire.SetWriteDeadline(time.Now().Add(time.Second))
		full := &refusal{
			503, "gateway.full", "the gateway has all the connections it can have; try again soon", true,
		}
		if g.config.TLS == nil {
			c.unread(full)
		} else { // there was no handshake in which they could be told
			c.unheard(full)
		}
		_ = c.wire.Close()
		return
	}
	g.loops.Go(c.wire.Conn, func(t *eventloop.Task) {
		c.task = t
		c.serve()
	})
}

func (cs *callers) count() int {
	cs.mu.Lock()
	defer cs.mu.Unlock()
	return len(cs.open)
}

// end ends connections that are idle and waits for the others, until ctx is done.
func (cs *callers) end(ctx context.Context) error {
	cs.mu.Lock()
	for c := range cs.open {
		if c.state.CompareAndSwap(idle, ended) {
			_ = c.wire.Close()
		}
	}
	cs.mu.Unlock()
	done := make(chan struct{})
	go func() { cs.all.Wait(); close(done) }()
	select {
	case <-done:
		return nil
	case <-ctx.Done():
	}
	cs.mu.Lock()
	defer cs.mu.Unlock()
	for c := range cs.open {
		_ = c.wire.Close()
	}
	return fmt.Errorf("waiting for %d callers: %w", len(cs.open), ctx.Err())
}

// serve answers one request after the other.
func (c *caller) serve() {
	defer func() {
		_ = c.wire.Close()
		cs := &c.g.callers
		cs.mu.Lock()
		delete(cs.open, c)
		cs.mu.Unlock()
		cs.all.Done()
	}()
	for c.next() {
	}
}

// next waits for a request and answers it. It reports whether another may follow.
func (c *caller) next() (more bool) {
	if c.g.stopping.Load() {
		return false // who ends idle connections may have looked just before this one was
	}
	c.task.Light()
	c.wire.Await(c.now, c.now.Add(c.g.patience.idle), nil)
	if _, err := c.wire.R.Peek(1); err != nil {
		return false
	}
	c.look(c.wire)
	if !c.state.CompareAndSwap(idle, busy) {
		return false // we are stopping
	}
	x := exchange{caller: c, g: c.g}
	defer func() {
		x.giveBack()
		if p := recover(); p != nil {
			more = false
			c.g.panics.Add(1)
			c.g.log.Error("a request went wrong in our own code", "panic", p, "stack", string(debug.Stack()))
			if !x.begun {
				c.refuseAt(
					&refusal{500, "gateway.failed", "the gateway failed on this request; its log says why", true},
				)
				c.linger()
			}
		}
	}()
	if r := c.readHead(); r != nil {
		c.unread(r)
		c.linger()
		return false
	}
	x.keep = !c.head.Closes() && !c.g.stopping.Load()
	x.serve()
	if x.linger {
		c.linger()
	}
	return x.keep && !c.g.stopping.Load() && c.state.CompareAndSwap(busy, idle)
}

// readHead reads the head of a request, which then lies in our own memory.
func (c *caller) readHead() *refusal {
	c.wire.Await(c.now, c.now.Add(c.g.patience.head), nil)
	var err error
	c.memory, err = http1.ReadHead(c.wire.R, c.memory, c.parse)
	c.look(c.wire)
	var bad *http1.BadMessage
	switch {
	case errors.As(err, &bad):
		return &refusal{bad.Status, "gateway.bad_request", bad.What, true}
	case errors.Is(err, http1.ErrTimedOut):
		return &refusal{
			408,
			"gateway.slow_head",
			fmt.Sprintf("the head of the request did not come within %s", c.g.patience.head),
			true,
		}
	case err != nil:
		return &refusal{400, "gateway.bad_request", "the request broke off in its head", true}
	}
	return nil
}

// look looks what time it is, when something was waited for at a connection.
func (c *caller) look(at *http1.Conn) {
	if at.Moved() {
		c.now = time.Now()
	}
}

// left reports whether the caller has closed the connection.
func (c *caller) left() bool { return !c.wire.Open() }

// lingerTime and lingerMost bound how long and how much is read of a body that nobody
// wants, so that who sends it sees the answer before the connection ends.
const (
	lingerTime = 2 * time.Second
	lingerMost = 16 << 20
)

// linger lets the caller read what was written before the connection ends.
func (c *caller) linger() {
	if half, ok := c.wire.Conn.(interface{ CloseWrite() error }); ok {
		_ = half.CloseWrite()
	}
	now := time.Now()
	c.wire.Await(now, now.Add(lingerTime), nil)
	end := now.Add(lingerTime)
	for read := 0; read < lingerMost && time.Now().Before(end); {
		n, err := c.wire.R.Discard(min(c.wire.R.Size(), lingerMost-read))
		if read += n; err != nil {
			return
		}
	}
}
