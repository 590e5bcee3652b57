//go:build linux

package eventloop

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// start starts a pool that ends with the test.
func start(t *testing.T, loops int) *Pool {
	t.Helper()
	p, err := New(loops)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Stop)
	return p
}

// pair makes the two ends of a TCP connection; ours is adopted.
func pair(t *testing.T, p *Pool) (ours, theirs net.Conn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = l.Close() }()
	theirs, err = net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	c, err := l.Accept()
	if err != nil {
		t.Fatal(err)
	}
	ours = p.Adopt(c)
	t.Cleanup(func() { _, _ = ours.Close(), theirs.Close() })
	return ours, theirs
}

// run runs a function as a task and gives what it ends with.
func run(p *Pool, c net.Conn, f func(*Task) error) <-chan error {
	done := make(chan error, 1)
	p.Go(c, func(t *Task) { done <- f(t) })
	return done
}

// soon fails the test when nothing comes.
func soon(t *testing.T, done <-chan error) error {
	t.Helper()
	select {
	case err := <-done:
		return err
	case <-time.After(20 * time.Second):
		t.Fatal("the task has not ended")
		return nil
	}
}

// Echoes of all sizes come back whole, from light and heavy loops, many at once.
func TestEchoes(t *testing.T) {
	p := start(t, 3)
	var all sync.WaitGroup
	for i := range 60 {
		ours, theirs := pair(t, p)
		size := 1 << (i % 21)
		run(p, ours, func(task *Task) error {
			if size > 64<<10 {
				task.Heavy()
			}
			b := make([]byte, size)
			for {
				if _, err := io.ReadFull(ours, b); err != nil {
					return err
				}
				if _, err := ours.Write(b); err != nil {
					return err
				}
				if task.Light(); i%2 == 0 {
					task.Heavy()
				}
			}
		})
		all.Go(func() {
			sent := bytes.Repeat([]byte(fmt.Sprintf("%07d\n", i)), size/8+1)[:size]
			got := make([]byte, size)
			for range 20 {
				go func() { _, _ = theirs.Write(sent) }()
				if _, err := io.ReadFull(theirs, got); err != nil || !bytes.Equal(got, sent) {
					t.Errorf("an echo of %d bytes: %v", size, err)
					return
				}
			}
		})
	}
	all.Wait()
}

// A read and a write that nobody answers end at their deadlines, and the connection can be
// used after that.
func TestDeadlines(t *testing.T) {
	p := start(t, 1)
	ours, theirs := pair(t, p)
	err := soon(t, run(p, ours, func(*Task) error {
		begin := time.Now()
		_ = ours.SetReadDeadline(begin.Add(30 * time.Millisecond))
		if _, err := ours.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
			return fmt.Errorf("a read that nobody answers: %w", err)
		}
		if took := time.Since(begin); took < 30*time.Millisecond {
			return fmt.Errorf("it ended after %s", took)
		}
		_ = ours.SetWriteDeadline(time.Now().Add(30 * time.Millisecond))
		if n, err := ours.Write(make([]byte, 64<<20)); !errors.Is(err, os.ErrDeadlineExceeded) || n == 0 {
			return fmt.Errorf("a write that nobody reads: %d bytes, %w", n, err)
		}
		_ = ours.SetDeadline(time.Time{})
		go func() { _, _ = theirs.Write([]byte("x")) }()
		_, err := ours.Read(make([]byte, 1))
		return err
	}))
	if err != nil {
		t.Fatal(err)
	}
}

// A connection that anybody closes ends the wait of its task; the other side's end is read
// as the end.
func TestEnds(t *testing.T) {
	p := start(t, 2)
	ours, _ := pair(t, p)
	waits := make(chan struct{})
	done := run(p, ours, func(*Task) error {
		close(waits)
		_, err := ours.Read(make([]byte, 1))
		return err
	})
	<-waits
	if err := ours.Close(); err != nil {
		t.Fatal(err)
	}
	if err := soon(t, done); !errors.Is(err, net.ErrClosed) {
		t.Errorf("a read of a connection that was closed meanwhile: %v", err)
	}
	if _, err := ours.Write([]byte("x")); !errors.Is(err, net.ErrClosed) {
		t.Errorf("a write to a closed connection: %v", err)
	}
	if err := ours.Close(); !errors.Is(err, net.ErrClosed) {
		t.Errorf("closing twice: %v", err)
	}

	other, theirs := pair(t, p)
	done = run(p, other, func(*Task) error {
		b, err := io.ReadAll(other)
		if string(b) != "the last" || err != nil {
			return fmt.Errorf("read %q: %w", b, err)
		}
		_, err = other.Write([]byte("thanks"))
		return errors.Join(err, other.Close())
	})
	_, _ = theirs.Write([]byte("the last"))
	_ = theirs.(*net.TCPConn).CloseWrite()
	if b, err := io.ReadAll(theirs); string(b) != "thanks" || err != nil {
		t.Errorf("the answer to somebody who has said all: %q, %v", b, err)
	}
	if err := soon(t, done); err != nil {
		t.Error(err)
	}
}

// A connection that one task gives away is used by another, on whichever loop, and what
// came meanwhile is not lost.
func TestHandingOver(t *testing.T) {
	p := start(t, 4)
	shared, theirs := pair(t, p)
	for i := range 40 {
		sent, back := []byte{byte(i)}, make([]byte, 1)
		if i%2 == 0 {
			_, _ = theirs.Write(sent) // before anybody waits for it
		}
		own, _ := pair(t, p)
		done := run(p, own, func(task *Task) error {
			if i%5 == 0 {
				task.Heavy()
			}
			if err := task.Own(shared); err != nil {
				return err
			}
			defer Disown(shared)
			if Loop(shared) != task.Loop() {
				return fmt.Errorf("the connection is on loop %d, the task on %d", Loop(shared), task.Loop())
			}
			b := make([]byte, 1)
			if _, err := shared.Read(b); err != nil {
				return err
			}
			if i%3 == 0 { // in the middle of its work
				task.Heavy()
			}
			_, err := shared.Write(b)
			return err
		})
		if i%2 == 1 {
			_, _ = theirs.Write(sent)
		}
		if err := soon(t, done); err != nil {
			t.Fatal(err)
		}
		if _, err := io.ReadFull(theirs, back); err != nil || back[0] != sent[0] {
			t.Fatalf("turn %d answered %d: %v", i, back[0], err)
		}
	}
}

// Quiet knows what has come, and does not claim to when nobody owns the connection.
func TestQuiet(t *testing.T) {
	p := start(t, 1)
	ours, theirs := pair(t, p)
	ready, seen := make(chan struct{}), make(chan struct{})
	done := run(p, ours, func(task *Task) error {
		c, b := ours.(*Conn), make([]byte, 8)
		if _, err := ours.Read(b); err != nil || !c.Quiet() {
			return fmt.Errorf("everything was read, and it is not quiet: %w", err)
		}
		task.Block(func() { close(ready); <-seen })
		// The loop has been told before it resumed us, or is told at its next turn.
		for end := time.Now().Add(10 * time.Second); c.Quiet(); {
			if time.Now().After(end) {
				return errors.New("something has come, and it is quiet")
			}
			task.Block(func() {})
		}
		Disown(ours)
		if c.Quiet() {
			return errors.New("nobody's connection is said to be quiet")
		}
		return nil
	})
	_, _ = theirs.Write([]byte("x"))
	<-ready
	_, _ = theirs.Write([]byte("y"))
	close(seen)
	if err := soon(t, done); err != nil {
		t.Error(err)
	}
}

// What may wait does not make others wait, and its panic is the task's.
func TestBlock(t *testing.T) {
	p := start(t, 1)
	slow, _ := pair(t, p)
	release := make(chan struct{})
	var caught atomic.Value
	blocked := run(p, slow, func(task *Task) error {
		defer func() { caught.Store(recover()) }()
		task.Block(func() { <-release; panic("a name that cannot be looked up") })
		return nil
	})
	quick, theirs := pair(t, p)
	done := run(p, quick, func(*Task) error {
		_, err := quick.Read(make([]byte, 1))
		return err
	})
	_, _ = theirs.Write([]byte("x"))
	if err := soon(t, done); err != nil {
		t.Error(err)
	}
	close(release)
	_ = blocked // it ends by its panic
	for end := time.Now().Add(10 * time.Second); caught.Load() == nil && time.Now().Before(end); {
		c, _ := pair(t, p)
		_ = soon(t, run(p, c, func(*Task) error { return nil }))
	}
	if caught.Load() != "a name that cannot be looked up" {
		t.Errorf("caught %v", caught.Load())
	}
}

// A task that always finds something to read does not keep the others of its loop waiting.
func TestTurns(t *testing.T) {
	p := start(t, 1)
	greedy, flood := pair(t, p)
	var drunk atomic.Int64
	run(p, greedy, func(*Task) error {
		b := make([]byte, 4096)
		for {
			n, err := greedy.Read(b)
			if drunk.Add(int64(n)); err != nil {
				return err
			}
		}
	})
	go func() {
		for b := make([]byte, 1<<20); ; {
			if _, err := flood.Write(b); err != nil {
				return
			}
		}
	}()
	modest, theirs := pair(t, p)
	run(p, modest, func(*Task) error { _, err := io.Copy(modest, modest); return err })
	for range 50 {
		_, _ = theirs.Write([]byte("x"))
		_ = theirs.SetReadDeadline(time.Now().Add(10 * time.Second))
		if _, err := io.ReadFull(theirs, make([]byte, 1)); err != nil {
			t.Fatalf("beside one that has read %d bytes: %v", drunk.Load(), err)
		}
	}
	_ = flood.Close()
}

// A dial that fails fails, one that does not belongs to the task.
func TestDial(t *testing.T) {
	p := start(t, 2)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	go func() {
		c, err := l.Accept()
		if err == nil {
			_, _ = io.Copy(c, c)
		}
	}()
	own, _ := pair(t, p)
	err = soon(t, run(p, own, func(task *Task) error {
		c, err := task.Dial(l.Addr().String(), time.Second)
		if err != nil {
			return err
		}
		defer func() { _ = c.Close() }()
		_, _ = c.Write([]byte("hello"))
		b := make([]byte, 5)
		if _, err := io.ReadFull(c, b); string(b) != "hello" {
			return fmt.Errorf("%q came back: %w", b, err)
		}
		_ = l.Close()
		if _, err := task.Dial(l.Addr().String(), time.Second); err == nil {
			return errors.New("nobody listens, and still it is connected")
		}
		return nil
	}))
	if err != nil {
		t.Error(err)
	}
}

// Loops end when their tasks have; goroutines take what cannot be adopted.
func TestStop(t *testing.T) {
	p, err := New(2)
	if err != nil {
		t.Fatal(err)
	}
	ours, theirs := pair(t, p)
	done := run(p, ours, func(*Task) error { _, err := ours.Read(make([]byte, 1)); return err })
	p.Stop()
	_, _ = theirs.Write([]byte("x"))
	if err := soon(t, done); err != nil {
		t.Errorf("a task under way when the loops are stopped: %v", err)
	}
	a, b := net.Pipe()
	done = run(p, a, func(task *Task) error {
		if task != nil || p.Adopt(a) != a {
			return errors.New("a pipe was adopted")
		}
		task.Heavy()
		task.Light()
		_, err := a.Read(make([]byte, 1))
		return errors.Join(err, task.Own(a))
	})
	_, _ = b.Write([]byte("x"))
	if err := soon(t, done); err != nil {
		t.Error(err)
	}
}
