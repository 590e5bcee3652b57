package eventloop

import (
	"fmt"
	"iter"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// batch is the most events that are taken from the kernel at once.
	batch = 256
	// leastHeavy is the least number of loops for heavy tasks: more than processors, so that
	// the kernel divides the processors among them.
	leastHeavy = 8
	// turn is how many bytes a task reads and writes before others have theirs.
	turn = 64 << 10
	// scanEvery is the least time between two looks at all deadlines, and so about how late
	// one may be noticed.
	scanEvery = 5 * time.Millisecond
	// never is a deadline that does not come.
	never = time.Duration(1<<63 - 1)
	// bellID is the id under which a loop's own wake-up call comes.
	bellID = 0
)

// began is when time begins by the loops' clock.
var began = time.Now()

// since is a time by the loops' clock.
func since(at time.Time) time.Duration {
	if at.IsZero() {
		return never
	}
	return at.Sub(began)
}

// Pool is a number of loops over which tasks are spread.
type Pool struct {
	// loops are where tasks are at home, heavy those for tasks that have much to do.
	loops, heavy          []*loop
	nextLoop, nextOfHeavy atomic.Uint32
}

// New starts so many loops, and some for heavy tasks, each on a goroutine of its own, until
// Stop. A Pool whose loops could not be started runs its tasks as goroutines.
func New(n int) (*Pool, error) {
	p := &Pool{}
	for i := range n + max(n, leastHeavy) {
		l, err := newLoop(i)
		if err != nil {
			p.Stop()
			return &Pool{}, err
		}
		go l.run()
		if i < n {
			p.loops = append(p.loops, l)
		} else {
			p.heavy = append(p.heavy, l)
		}
	}
	return p, nil
}

// Stop ends each loop when its last task has ended.
func (p *Pool) Stop() {
	for _, l := range slices.Concat(p.loops, p.heavy) {
		l.mu.Lock()
		l.stopped = true
		l.mu.Unlock()
		l.wake()
	}
}

// Adopt makes a connection one that a task can wait for. What is not plain TCP is given
// back as it is.
func (p *Pool) Adopt(c net.Conn) net.Conn {
	if len(p.loops) > 0 {
		if own, err := adopt(c); err == nil {
			return own
		}
	}
	return c
}

// Go runs a function as a task of one of the loops, with a connection that was adopted and
// belongs to it; as a goroutine with a nil Task when it was given back as it is.
func (p *Pool) Go(c net.Conn, f func(*Task)) {
	own := beneath(c)
	if own == nil {
		go f(nil)
		return
	}
	t := &Task{pool: p, loop: p.loops[int(p.nextLoop.Add(1))%len(p.loops)], deadline: never}
	t.home = t.loop
	t.resume, _ = iter.Pull(func(yield func(struct{}) bool) {
		t.yield = yield
		_ = t.Own(own) // if that fails, so does the first read
		f(t)
		t.ended = true
	})
	t.loop.post(t)
}

// Task is a coroutine of a loop. A nil *Task stands for a goroutine.
type Task struct {
	pool *Pool
	// home is the loop where it began, loop the one where it is, goes the one where it wants
	// to be.
	home, loop, goes *loop
	// owned are its connections: the caller's, the model server's.
	owned  []*Conn
	resume func() (struct{}, bool)
	yield  func(struct{}) bool
	// waits is the connection that it waits for, to read or to write; both belong to the
	// loop's thread of execution, as all that follows.
	waits *Conn
	write bool
	// deadline is when it stops waiting, by the loops' clock; late says that it came.
	deadline time.Duration
	late     bool
	// spent are the bytes of this turn.
	spent int
	// place is where it stands among the loop's tasks, once it is placed.
	place  int
	placed bool
	ended  bool
}

// Loop is the number of the task's loop, from 0; that of a goroutine is -1. Connections
// are best reused on the loop on which they were used before.
func (t *Task) Loop() int {
	if t == nil {
		return -1
	}
	return t.loop.number
}

// Loop is the number of the loop on which a connection was used last.
func Loop(c net.Conn) int {
	if own := beneath(c); own != nil && own.loop != nil {
		return own.loop.number
	}
	return -1
}

// Heavy says that the task has much to do now: it goes on in a loop where it makes only
// others wait that have.
func (t *Task) Heavy() {
	if t != nil && t.loop == t.home {
		t.move(t.pool.heavy[int(t.pool.nextOfHeavy.Add(1))%len(t.pool.heavy)])
	}
}

// Light says that the task has little to do again.
func (t *Task) Light() {
	if t != nil {
		t.move(t.home)
	}
}

func (t *Task) move(to *loop) {
	if t.loop == to {
		return
	}
	for _, c := range t.owned {
		if err := c.move(to); err != nil {
			_ = c.Close()
		}
	}
	t.goes = to
	t.pause(never)
}

// Own makes a connection the task's, which alone may read and write it from now on, until
// Disown.
func (t *Task) Own(c net.Conn) error {
	own := beneath(c)
	if t == nil || own == nil {
		return nil
	}
	if own.loop != t.loop {
		if err := own.move(t.loop); err != nil {
			_ = own.Close()
			return err
		}
	}
	own.task = t
	t.owned = append(t.owned, own)
	return nil
}

// Disown says that a connection is nobody's for now.
func Disown(c net.Conn) {
	if own := beneath(c); own != nil && own.task != nil {
		own.task.forget(own)
	}
}

func (t *Task) forget(c *Conn) {
	if i := slices.Index(t.owned, c); i >= 0 {
		t.owned = slices.Delete(t.owned, i, i+1)
	}
	c.task = nil
}

// beneath is our connection beneath those that are built upon it, or nil.
func beneath(c net.Conn) *Conn {
	for {
		switch on := c.(type) {
		case *Conn:
			return on
		case interface{ NetConn() net.Conn }:
			c = on.NetConn()
		default:
			return nil
		}
	}
}

// Block runs a function that may wait for whatever it likes while the loop goes on.
func (t *Task) Block(f func()) {
	if t == nil {
		f()
		return
	}
	var wrong any
	go func() {
		defer t.loop.post(t)
		defer func() { wrong = recover() }()
		f()
	}()
	t.pause(never)
	if wrong != nil {
		panic(wrong)
	}
}

// Dial makes a connection to a TCP address that belongs to the task.
func (t *Task) Dial(address string, patience time.Duration) (c net.Conn, err error) {
	if t == nil {
		return net.DialTimeout("tcp", address, patience)
	}
	t.Block(func() {
		if c, err = net.DialTimeout("tcp", address, patience); err != nil {
			return
		}
		if own, failed := adopt(c); failed == nil {
			c = own
		} else {
			_ = c.Close()
			c, err = nil, failed
		}
	})
	if err != nil {
		return nil, err
	}
	return c, t.Own(c)
}

// pause gives way to the loop until somebody resumes the task.
func (t *Task) pause(deadline time.Duration) {
	t.deadline, t.late, t.spent = deadline, false, 0
	t.loop.soonest = min(t.loop.soonest, deadline)
	t.yield(struct{}{})
	t.deadline = never
}

// giveWay lets others have their turn when this task has had a long one.
func (t *Task) giveWay(n int) {
	if t.spent += n; t.spent >= turn {
		t.loop.again = append(t.loop.again, t)
		t.pause(never)
	}
}

// loop waits for the kernel and resumes tasks.
type loop struct {
	number int
	epoll  int
	bell   int

	// What follows belongs to the loop's thread of execution: its goroutine or the task
	// that it has resumed.
	now     time.Duration
	soonest time.Duration
	scanned time.Duration
	tasks   []*Task
	again   []*Task
	ready   []*Task

	mu sync.Mutex
	// conns are those that are registered, by the id under which their events come.
	conns   map[uint64]*Conn
	lastID  uint64
	posted  []*Task
	rung    bool
	stopped bool
}

func newLoop(number int) (*loop, error) {
	l := &loop{number: number, soonest: never, conns: map[uint64]*Conn{}, lastID: bellID}
	var err error
	if l.epoll, err = unix.EpollCreate1(unix.EPOLL_CLOEXEC); err != nil {
		return nil, fmt.Errorf("starting an event loop: %w", err)
	}
	if l.bell, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err == nil {
		err = unix.EpollCtl(l.epoll, unix.EPOLL_CTL_ADD, l.bell, &unix.EpollEvent{Events: unix.EPOLLIN})
	}
	if err != nil {
		_ = unix.Close(l.epoll)
		return nil, fmt.Errorf("starting an event loop: %w", err)
	}
	return l, nil
}

// post has a task resumed, from any goroutine.
func (l *loop) post(t *Task) {
	l.mu.Lock()
	l.posted = append(l.posted, t)
	l.mu.Unlock()
	l.wake()
}

func (l *loop) wake() {
	l.mu.Lock()
	rung := l.rung
	l.rung = true
	l.mu.Unlock()
	if !rung {
		one := [8]byte{1}
		_, _ = unix.Write(l.bell, one[:])
	}
}

// run is the loop.
func (l *loop) run() {
	var events [batch]unix.EpollEvent
	for {
		n, err := unix.EpollWait(l.epoll, events[:], l.patience())
		if err != nil && err != unix.EINTR {
			panic(fmt.Sprintf("waiting for connections: %v", err)) // only our own mistakes make it fail
		}
		l.now = time.Since(began)
		l.gather(events[:max(n, 0)])
		l.ready, l.again = append(l.ready, l.again...), l.again[:0]
		if l.now >= l.soonest && l.now-l.scanned >= scanEvery {
			l.scan()
		}
		for _, t := range l.ready {
			l.step(t)
		}
		clear(l.ready)
		l.ready = l.ready[:0]
		if l.isOver() {
			_, _ = unix.Close(l.bell), unix.Close(l.epoll)
			return
		}
	}
}

// isOver reports whether the loop has nothing to do any more.
func (l *loop) isOver() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.stopped && len(l.tasks) == 0 && len(l.posted) == 0
}

// patience is how many milliseconds the kernel may wait for events.
func (l *loop) patience() int {
	switch {
	case len(l.again) > 0:
		return 0
	case l.soonest == never:
		return -1
	}
	wait := max(l.soonest-l.now, scanEvery-(l.now-l.scanned))
	return int(min(max(wait, 0), time.Hour)/time.Millisecond) + 1
}

// gather takes note of events and collects the tasks that go on.
func (l *loop) gather(events []unix.EpollEvent) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, e := range events {
		id := uint64(uint32(e.Fd)) | uint64(uint32(e.Pad))<<32
		if id == bellID {
			var b [8]byte
			_, _ = unix.Read(l.bell, b[:])
			l.rung = false
			l.ready = append(l.ready, l.posted...)
			l.posted = l.posted[:0]
			continue
		}
		c := l.conns[id]
		if c == nil {
			continue // it was closed or moved meanwhile
		}
		c.happened(e.Events)
		if t := c.task; t != nil && t.waits == c && (t.write && c.writable || !t.write && c.readable) {
			t.waits = nil
			l.ready = append(l.ready, t)
		}
	}
}

// scan finds the tasks whose deadlines have come, and when the next one comes.
func (l *loop) scan() {
	l.soonest, l.scanned = never, l.now
	for _, t := range l.tasks {
		switch {
		case t.waits == nil:
		case t.deadline <= l.now:
			t.waits, t.late = nil, true
			l.ready = append(l.ready, t)
		default:
			l.soonest = min(l.soonest, t.deadline)
		}
	}
}

// step resumes a task until it waits again, ends, or goes elsewhere.
func (l *loop) step(t *Task) {
	if !t.placed {
		t.placed, t.place = true, len(l.tasks)
		l.tasks = append(l.tasks, t)
	}
	if t.resume(); !t.ended && t.goes == nil {
		return
	}
	last := len(l.tasks) - 1
	l.tasks[t.place] = l.tasks[last]
	l.tasks[t.place].place = t.place
	l.tasks[last] = nil
	l.tasks = l.tasks[:last]
	if t.placed = false; !t.ended {
		t.loop, t.goes = t.goes, nil
		t.loop.post(t)
	}
}
