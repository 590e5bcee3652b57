package http1

import (
	"errors"
	"net"
	"os"
	"testing"
	"time"
)

// pair is a connection of ours with its other side.
func pair(t *testing.T) (ours *Conn, theirs *net.TCPConn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	accepted := make(chan net.Conn, 1)
	go func() { c, _ := l.Accept(); accepted <- c }()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	theirs = (<-accepted).(*net.TCPConn)
	t.Cleanup(func() { _ = c.Close(); _ = theirs.Close() })
	return NewConn(c, 4096), theirs
}

func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(5 * time.Second); !is(); {
		if time.Now().After(end) {
			t.Fatal(what)
		}
	}
}

func TestAKeptConnectionIsLookedAt(t *testing.T) {
	c, other := pair(t)
	if !c.Quiet() || !c.Open() {
		t.Fatal("a fresh connection is not quiet")
	}
	_, _ = other.Write([]byte("HTTP/1.1 408 "))
	eventually(t, "what was sent unasked is not seen", func() bool { return !c.Quiet() })
	if !c.Open() {
		t.Error("it is still open")
	}
	c, other = pair(t)
	_ = other.Close()
	eventually(t, "the end is not seen", func() bool { return !c.Open() && !c.Quiet() })
	_ = c.Close()
	if c.Open() {
		t.Error("we have closed it ourselves")
	}
}

// What was written to a connection whose other side is gone was surely not processed;
// what the other side's kernel took may have been.
func TestWhatSurelyWasNotReceived(t *testing.T) {
	c, other := pair(t)
	_, _ = c.Write([]byte("first"))
	eventually(t, "the first was not received", func() bool { return !c.Untouched(0) })
	b := make([]byte, 16)
	_, _ = other.Read(b)
	_ = other.Close()
	before := c.Written
	_, _ = c.Write([]byte("second"))
	c.Await(time.Now(), time.Now().Add(time.Second), nil)
	if _, err := c.Read(b); err == nil {
		t.Fatal("an answer came from nobody")
	}
	if !c.Untouched(before) {
		t.Error("what was written to a closed connection seems received")
	}
	if c.Untouched(0) {
		t.Error("the first was received")
	}
}

func TestWaiting(t *testing.T) {
	c, other := pair(t)
	b := make([]byte, 16)
	begin := time.Now()
	c.Await(begin, begin.Add(2*glance), nil)
	if _, err := c.Read(b); !errors.Is(err, ErrTimedOut) || time.Since(begin) < 2*glance {
		t.Errorf("%v after %s", err, time.Since(begin))
	}
	asked := 0
	c.Await(time.Now(), time.Now().Add(time.Hour), func() bool { asked++; return asked == 2 })
	if _, err := c.Read(b); !errors.Is(err, ErrGone) {
		t.Error(err)
	}
	// A deadline that is far is not set again; one that is near is.
	c.Await(time.Now(), time.Now().Add(time.Hour), nil)
	set := c.wakes
	c.Await(time.Now(), time.Now().Add(2*time.Hour), nil)
	if !c.wakes.Equal(set) {
		t.Error("the deadline was set again")
	}
	_, _ = other.Write([]byte("x"))
	if n, err := c.Read(b); n != 1 || err != nil {
		t.Error(n, err)
	}
}

// Through a rated listener a request may take as long as it likes while enough of it comes,
// and not longer.
func TestTheLeastRate(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l := Rated(inner)
	defer l.Close()
	client, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	c, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	go func() {
		for range 8 {
			_, _ = client.Write(make([]byte, apiBlock/4))
		}
	}()
	_ = c.SetReadDeadline(time.Now().Add(BlockTime))
	begun := c.(*rated)
	for read := 0; read < 2*apiBlock; {
		n, err := c.Read(make([]byte, apiBlock/8))
		if read += n; err != nil {
			t.Fatal(err)
		}
	}
	if !begun.inRequest || begun.got >= apiBlock {
		t.Errorf("%+v", begun)
	}
	_ = c.SetReadDeadline(time.Now().Add(50 * time.Millisecond))
	if _, err := c.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Error(err)
	}
	_ = c.SetReadDeadline(time.Now().Add(time.Hour))
	if begun.inRequest {
		t.Error("between two requests nothing is measured")
	}
}
