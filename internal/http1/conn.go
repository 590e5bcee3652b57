package http1

import (
	"bufio"
	"crypto/tls"
	"errors"
	"net"
	"os"
	"syscall"
	"time"
)

var (
	// ErrTimedOut says that what was waited for did not come in time.
	ErrTimedOut = errors.New("nothing came in time")
	// ErrGone says that nobody waits any more for what was waited for.
	ErrGone = errors.New("nobody waits for it any more")
)

const (
	// glance is how often somebody who waits looks whether anybody still waits with them.
	glance = 250 * time.Millisecond
	// Block is how many bytes of a body must come or go in BlockTime at least: the least
	// rate, below which a connection ends.
	Block     = 256 << 10
	BlockTime = 10 * time.Second
)

// Conn is one end of a connection, with deadlines that cost little: they are set again
// only when the last one has come near, and what wakes up early goes on waiting.
type Conn struct {
	net.Conn
	// R reads from the connection.
	R *bufio.Reader
	// Written is how many bytes were written to it.
	Written int64

	raw   syscall.RawConn
	plain bool
	// watched knows from an event loop whether something has come; it is nil when none does.
	watched interface{ Quiet() bool }
	// moved is set by every read.
	moved bool
	// until is when a read gives up, gone is asked meanwhile; wakes and writeBy are the
	// deadlines that are set.
	until          time.Time
	gone           func() bool
	wakes, writeBy time.Time

	// look is what peek runs, made once.
	look     func(fd uintptr)
	looked   lookResult
	lookByte [1]byte
}

type lookResult struct {
	n   int
	err error
}

// NewConn reads a connection through a buffer of a size, which also bounds heads.
func NewConn(c net.Conn, size int) *Conn {
	w := &Conn{Conn: c, plain: true}
	w.R = bufio.NewReaderSize(w, size)
	inner := c
	if t, ok := c.(*tls.Conn); ok {
		inner, w.plain = t.NetConn(), false
	}
	if s, ok := inner.(syscall.Conn); ok {
		w.raw, _ = s.SyscallConn()
	}
	w.watched, _ = inner.(interface{ Quiet() bool })
	w.look = func(fd uintptr) { w.looked.n, w.looked.err = peek(fd, &w.lookByte) }
	return w
}

// Await says how long reads wait from now on: until a time, and for no longer than gone,
// which may be nil, says no.
func (c *Conn) Await(now, until time.Time, gone func() bool) {
	c.until, c.gone = until, gone
	next := c.next(now)
	if c.wakes.After(next) || c.wakes.Before(now.Add(glance/4)) {
		c.wake(next)
	}
}

func (c *Conn) next(now time.Time) time.Time {
	if soon := now.Add(glance); c.gone != nil && soon.Before(c.until) {
		return soon
	}
	return c.until
}

func (c *Conn) wake(at time.Time) {
	c.wakes = at
	_ = c.SetReadDeadline(at) // it fails when the connection is closed, and then so does the read
}

// Read implements io.Reader as Await says; it fails with ErrTimedOut or ErrGone.
func (c *Conn) Read(p []byte) (int, error) {
	for {
		n, err := c.Conn.Read(p)
		c.moved = true
		if n > 0 || !errors.Is(err, os.ErrDeadlineExceeded) {
			return n, err
		}
		now := time.Now()
		if !now.Before(c.until) {
			return 0, ErrTimedOut
		}
		if c.gone != nil && c.gone() {
			return 0, ErrGone
		}
		c.wake(c.next(now))
	}
}

// Moved reports whether anything was read, or waited for, since it was asked last: then it
// is later than it was.
func (c *Conn) Moved() bool {
	moved := c.moved
	c.moved = false
	return moved
}

// Write implements io.Writer, at the least rate or faster.
func (c *Conn) Write(p []byte) (n int, err error) { return c.WriteAt(time.Now(), p) }

// WriteAt writes for those who know what time it is.
func (c *Conn) WriteAt(now time.Time, p []byte) (n int, err error) {
	for len(p) > 0 && err == nil {
		if n > 0 {
			now = time.Now()
		}
		if c.writeBy.Before(now.Add(BlockTime)) {
			c.writeBy = now.Add(2 * BlockTime)
			_ = c.SetWriteDeadline(c.writeBy)
		}
		var k int
		k, err = c.Conn.Write(p[:min(len(p), Block)])
		n, p = n+k, p[k:]
		c.Written += int64(k)
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = ErrTimedOut
	}
	return n, err
}

// Open reports whether the other side has kept the connection open.
func (c *Conn) Open() bool {
	open, _ := c.peek()
	return open
}

// Quiet reports whether the other side has kept the connection open and has sent nothing
// that was not read: only then may a message be sent that is to be answered.
func (c *Conn) Quiet() bool {
	if c.R.Buffered() > 0 {
		return false
	}
	if c.watched != nil && c.watched.Quiet() {
		return true
	}
	open, waiting := c.peek()
	return open && !waiting
}

func (c *Conn) peek() (open, waiting bool) {
	if c.raw == nil {
		return true, false
	}
	if err := c.raw.Control(c.look); err != nil {
		return false, false
	}
	switch {
	case errors.Is(c.looked.err, syscall.EAGAIN):
		return true, false
	case c.looked.err != nil || c.looked.n == 0:
		return false, false
	}
	return true, true
}

// Untouched reports whether the other side surely got none of what was written after the
// first so many bytes: its kernel acknowledged none of it. It is false where the system cannot
// tell.
func (c *Conn) Untouched(before int64) bool {
	if c.raw == nil || !c.plain {
		return false
	}
	untouched := false
	_ = c.raw.Control(func(fd uintptr) {
		acknowledged, ok := acknowledged(fd)
		// Opening the connection counts as one byte.
		untouched = ok && acknowledged <= before+1
	})
	return untouched
}
