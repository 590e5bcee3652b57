//go:build !linux

package eventloop

import (
	"net"
	"time"
)

// Pool runs tasks as goroutines where there is no epoll.
type Pool struct{}

// New makes a pool; the number is of no meaning here.
func New(int) (*Pool, error) { return &Pool{}, nil }

// Stop ends the pool.
func (*Pool) Stop() {}

// Adopt gives a connection back as it is.
func (*Pool) Adopt(c net.Conn) net.Conn { return c }

// Go runs a function.
func (*Pool) Go(_ net.Conn, f func(*Task)) { go f(nil) }

// Task is always nil here.
type Task struct{}

// Loop is the number of the task's loop: there is none.
func (*Task) Loop() int { return -1 }

// Loop is the number of the loop on which a connection was used last: there is none.
func Loop(net.Conn) int { return -1 }

// Heavy says that the task has much to do now.
func (*Task) Heavy() {}

// Light says that the task has little to do again.
func (*Task) Light() {}

// Own makes a connection the task's.
func (*Task) Own(net.Conn) error { return nil }

// Disown says that a connection is nobody's for now.
func Disown(net.Conn) {}

// Block runs a function that may wait.
func (*Task) Block(f func()) { f() }

// Dial makes a connection to a TCP address.
func (*Task) Dial(address string, patience time.Duration) (net.Conn, error) {
	return net.DialTimeout("tcp", address, patience)
}
