package eventloop

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// closedBit of Conn.users says that the connection is closed.
const closedBit = 1 << 30

// errNobodys says that a connection without a task cannot wait.
var errNobodys = errors.New("waiting for a connection that belongs to no task")

// Conn is a TCP connection that waits in an event loop. Its task alone reads and writes;
// anybody may Close it.
type Conn struct {
	fd            int
	local, remote net.Addr

	// users counts the calls that use fd, which is closed when the last of them ends.
	users atomic.Int32

	// loop is where it is registered, under id. What follows belongs to that loop.
	loop *loop
	id   uint64
	task *Task
	// readable and writable say that the kernel said so and nothing has shown otherwise;
	// hung that the other side has ended.
	readable, writable, hung bool
	readBy, writeBy          time.Duration
}

// adopt makes a connection ours, which must be plain TCP, and takes it from the runtime.
func adopt(c net.Conn) (*Conn, error) {
	tcp, ok := c.(*net.TCPConn)
	if !ok {
		return nil, errors.New("not a TCP connection")
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return nil, fmt.Errorf("taking a connection over: %w", err)
	}
	own := &Conn{
		local: c.LocalAddr(), remote: c.RemoteAddr(), readable: true, writable: true,
		readBy: never, writeBy: never,
	}
	failed := raw.Control(func(fd uintptr) { own.fd, err = unix.FcntlInt(fd, unix.F_DUPFD_CLOEXEC, 0) })
	if err = errors.Join(failed, err); err != nil {
		return nil, fmt.Errorf("taking a connection over: %w", err)
	}
	_ = c.Close()
	return own, nil
}

// move registers the connection with a loop instead of the one that it was with.
func (c *Conn) move(to *loop) error {
	if !c.use() {
		return net.ErrClosed
	}
	defer c.unuse()
	if from := c.loop; from != nil {
		from.mu.Lock()
		delete(from.conns, c.id)
		from.mu.Unlock()
		_ = unix.EpollCtl(from.epoll, unix.EPOLL_CTL_DEL, c.fd, nil)
	}
	to.mu.Lock()
	defer to.mu.Unlock()
	to.lastID++
	c.loop, c.id, c.readable, c.writable = to, to.lastID, true, true
	e := unix.EpollEvent{
		Events: unix.EPOLLIN | unix.EPOLLOUT | unix.EPOLLRDHUP | unix.EPOLLET&0xffffffff,
		Fd:     int32(uint32(c.id)), Pad: int32(uint32(c.id >> 32)),
	}
	if err := unix.EpollCtl(to.epoll, unix.EPOLL_CTL_ADD, c.fd, &e); err != nil {
		return fmt.Errorf("waiting for a connection: %w", err)
	}
	to.conns[c.id] = c
	return nil
}

// happened takes note of what the kernel said.
func (c *Conn) happened(events uint32) {
	if events&(unix.EPOLLRDHUP|unix.EPOLLHUP|unix.EPOLLERR) != 0 {
		c.hung = true
	}
	if events&unix.EPOLLIN != 0 || c.hung {
		c.readable = true
	}
	if events&(unix.EPOLLOUT|unix.EPOLLHUP|unix.EPOLLERR) != 0 {
		c.writable = true
	}
}

// wait gives way until the connection can be read or written.
func (c *Conn) wait(write bool) error {
	t := c.task
	if t == nil {
		return errNobodys
	}
	t.waits, t.write = c, write
	by := c.readBy
	if write {
		by = c.writeBy
	}
	t.pause(by)
	if t.late {
		return os.ErrDeadlineExceeded
	}
	return nil
}

// Read implements net.Conn.
func (c *Conn) Read(p []byte) (int, error) {
	if !c.use() {
		return 0, net.ErrClosed
	}
	defer c.unuse()
	for {
		if !c.readable {
			if err := c.wait(false); err != nil {
				return 0, err
			}
		}
		n, err := call(unix.SYS_READ, c.fd, p)
		switch {
		case err == unix.EAGAIN:
			c.readable = false
			continue
		case err == unix.EINTR:
			continue
		case c.users.Load()&closedBit != 0:
			return 0, net.ErrClosed
		case err != nil:
			return 0, &net.OpError{
				Op: "read", Net: "tcp", Source: c.local, Addr: c.remote,
				Err: os.NewSyscallError("read", err),
			}
		case n == 0 && len(p) > 0:
			return 0, io.EOF
		}
		// What comes after a short read is an event of its own, but the end may have been one
		// with it.
		c.readable = n == len(p) || c.hung
		if c.task != nil {
			c.task.giveWay(n)
		}
		return n, nil
	}
}

// Write implements net.Conn.
func (c *Conn) Write(p []byte) (n int, err error) {
	if !c.use() {
		return 0, net.ErrClosed
	}
	defer c.unuse()
	for n < len(p) {
		if !c.writable {
			if err := c.wait(true); err != nil {
				return n, err
			}
		}
		k, err := call(unix.SYS_WRITE, c.fd, p[n:])
		switch {
		case err == unix.EAGAIN:
			c.writable = false
			continue
		case err == unix.EINTR:
			continue
		case c.users.Load()&closedBit != 0:
			return n, net.ErrClosed
		case err != nil:
			return n, &net.OpError{
				Op: "write", Net: "tcp", Source: c.local, Addr: c.remote,
				Err: os.NewSyscallError("write", err),
			}
		}
		n += k
		if c.task != nil {
			c.task.giveWay(k)
		}
	}
	return n, nil
}

// Quiet reports whether nothing has come, not even the end, since everything was read. When
// it says no, something may have come.
func (c *Conn) Quiet() bool { return c.task != nil && !c.readable && !c.hung }

// call reads or writes without telling the runtime that the kernel is called, since the
// call does not wait: fd is not blocking.
func call(what uintptr, fd int, p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	n, _, err := unix.RawSyscall(what, uintptr(fd), uintptr(unsafe.Pointer(&p[0])), uintptr(len(p)))
	if err != 0 {
		return 0, err
	}
	return int(n), nil
}

// use begins a call that needs fd; it says no when the connection is closed.
func (c *Conn) use() bool {
	for {
		n := c.users.Load()
		if n&closedBit != 0 {
			return false
		}
		if c.users.CompareAndSwap(n, n+1) {
			return true
		}
	}
}

func (c *Conn) unuse() {
	if c.users.Add(-1) == closedBit {
		c.end()
	}
}

// Close implements net.Conn. A task that waits for the connection goes on with an error.
func (c *Conn) Close() error {
	if !c.use() {
		return net.ErrClosed
	}
	for {
		n := c.users.Load()
		if n&closedBit != 0 { // somebody else was faster
			c.unuse()
			return net.ErrClosed
		}
		if c.users.CompareAndSwap(n, n|closedBit) {
			break
		}
	}
	if c.users.Load() > closedBit+1 {
		_ = unix.Shutdown(c.fd, unix.SHUT_RDWR)
	}
	c.unuse()
	return nil
}

// end closes fd, when nobody uses it any more.
func (c *Conn) end() {
	if l := c.loop; l != nil {
		l.mu.Lock()
		delete(l.conns, c.id)
		l.mu.Unlock()
	}
	_ = unix.Close(c.fd)
}

// CloseWrite tells the other side that nothing more comes.
func (c *Conn) CloseWrite() error {
	if !c.use() {
		return net.ErrClosed
	}
	defer c.unuse()
	return os.NewSyscallError("shutdown", unix.Shutdown(c.fd, unix.SHUT_WR))
}

// LocalAddr implements net.Conn.
func (c *Conn) LocalAddr() net.Addr { return c.local }

// RemoteAddr implements net.Conn.
func (c *Conn) RemoteAddr() net.Addr { return c.remote }

// SetDeadline implements net.Conn.
func (c *Conn) SetDeadline(at time.Time) error {
	return errors.Join(c.SetReadDeadline(at), c.SetWriteDeadline(at))
}

// SetReadDeadline implements net.Conn, for the reads that follow.
func (c *Conn) SetReadDeadline(at time.Time) error {
	c.readBy = since(at)
	return nil
}

// SetWriteDeadline implements net.Conn, for the writes that follow.
func (c *Conn) SetWriteDeadline(at time.Time) error {
	c.writeBy = since(at)
	return nil
}

// SyscallConn implements syscall.Conn.
func (c *Conn) SyscallConn() (syscall.RawConn, error) { return rawConn{c}, nil }

type rawConn struct{ c *Conn }

// Control implements syscall.RawConn.
func (r rawConn) Control(f func(fd uintptr)) error {
	if !r.c.use() {
		return net.ErrClosed
	}
	defer r.c.unuse()
	f(uintptr(r.c.fd))
	return nil
}

// Read implements syscall.RawConn.
func (rawConn) Read(func(fd uintptr) bool) error { return errors.ErrUnsupported }

// Write implements syscall.RawConn.
func (rawConn) Write(func(fd uintptr) bool) error { return errors.ErrUnsupported }
