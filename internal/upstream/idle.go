package upstream

import (
	"slices"
	"sync"
	"time"

	"innerladder/internal/eventloop"
	"innerladder/internal/http1"
)

const (
	// pools is over how many pools the idle connections of an address are spread, so that
	// loops do not wait for each other; the last is that of goroutines.
	pools = 17
	// idlest is how many idle connections a pool keeps.
	idlest = 256
)

// pool keeps the idle connections of one loop to one address, or of a few loops.
type pool struct {
	mu sync.Mutex
	// idle are in the order in which they became so.
	idle []*Conn
	// Loops are processors apart: what one writes does not lie beside what another reads.
	_ [32]byte
}

// habit is what was found out of a server.
type habit struct {
	// keeps is how long it keeps idle connections; forgotten when this is out of date.
	keeps     time.Duration
	forgotten time.Time
}

// pool is that of a loop, or with -1 that of goroutines.
func (a *Address) pool(loop int) *pool {
	if loop < 0 {
		return &a.idle[pools-1]
	}
	return &a.idle[loop%(pools-1)]
}

// take takes the youngest idle connection of a loop that is not too old, or if there is
// none one of another loop, which has to be moved.
func (a *Address) take(now time.Time, loop int) *Conn {
	own := a.pool(loop)
	if c := a.takeFrom(own, now); c != nil {
		return c
	}
	for i := range a.idle {
		if p := &a.idle[i]; p != own {
			if c := a.takeFrom(p, now); c != nil {
				return c
			}
		}
	}
	return nil
}

func (a *Address) takeFrom(p *pool, now time.Time) *Conn {
	p.mu.Lock()
	defer p.mu.Unlock()
	n := len(p.idle)
	if n == 0 {
		return nil
	}
	c := p.idle[n-1]
	if c.ends.After(now) {
		p.idle[n-1] = nil
		p.idle = p.idle[:n-1]
		return c
	}
	// The youngest is too old, so all are.
	a.drop(p.idle)
	clear(p.idle)
	p.idle = p.idle[:0]
	return nil
}

// drop closes idle connections.
func (a *Address) drop(idle []*Conn) {
	if len(idle) == 0 {
		return
	}
	for _, c := range idle {
		_ = c.Close()
	}
	a.mu.Lock()
	a.open -= len(idle)
	a.mu.Unlock()
}

// learn takes note that a server has closed a connection that was idle: it keeps them no
// longer than this one was.
func (a *Address) learn(now time.Time, c *Conn) {
	known := a.learned.Load()
	if idle := now.Sub(c.since) * 3 / 4; known == nil || idle < known.keeps || now.After(known.forgotten) {
		a.learned.CompareAndSwap(known, &habit{max(idle, time.Millisecond), now.Add(learnedFor)})
	}
}

// Keep gives back a connection whose answer was read whole. The server says in head
// whether it keeps it, and for how long.
func (c *Conn) Keep(now time.Time, head *http1.Head) {
	a := c.address
	if head.Closes() || c.R.Buffered() > 0 {
		c.Discard()
		return
	}
	patience := idleTime
	if said := head.KeepAlive(); said > 0 {
		// A little less than it says, for the way there.
		patience = time.Duration(said)*time.Second - 500*time.Millisecond
	}
	if known := a.learned.Load(); known != nil && now.Before(known.forgotten) {
		patience = min(patience, known.keeps)
	}
	c.release()
	eventloop.Disown(c.Conn.Conn)
	p := a.pool(eventloop.Loop(c.Conn.Conn))
	p.mu.Lock()
	defer p.mu.Unlock()
	if a.closed.Load() || len(p.idle) >= idlest {
		a.drop([]*Conn{c})
		return
	}
	c.reused, c.since, c.ends = true, now, now.Add(patience)
	p.idle = append(p.idle, c)
}

// release ends the stream of a connection.
func (c *Conn) release() {
	if !c.stream {
		return
	}
	c.stream = false
	c.address.mu.Lock()
	c.address.streams--
	c.address.mu.Unlock()
}

// Discard ends a connection.
func (c *Conn) Discard() {
	eventloop.Disown(c.Conn.Conn)
	c.release()
	c.address.drop([]*Conn{c})
}

// Tidy closes idle connections that are too old, and once the address is Closed, all.
func (a *Address) Tidy(now time.Time) {
	for i := range a.idle {
		p := &a.idle[i]
		p.mu.Lock()
		old := 0
		for old < len(p.idle) && (a.closed.Load() || !p.idle[old].ends.After(now)) {
			old++
		}
		a.drop(p.idle[:old])
		p.idle = slices.Delete(p.idle, 0, old)
		p.mu.Unlock()
	}
}

// Close ends idle connections, now and as they come back. Requests under way go on.
func (a *Address) Close() {
	a.closed.Store(true)
	a.Tidy(time.Time{})
}
