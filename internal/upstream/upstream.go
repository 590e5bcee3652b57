// Package upstream keeps the addresses of model servers: it picks one, keeps connections
// to it, sends it a request and reads the head of its answer within a deadline. What
// became of a request that failed is told apart by whether the server may have seen it.
package upstream

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/eventloop"
	"innerladder/internal/http1"
)

const (
	// largestHead bounds the head of an answer.
	largestHead = 16 << 10
	// dialTime is how long making a connection may take.
	dialTime = 5 * time.Second
	// idleTime is how long a connection is kept idle where the server does not say how
	// long it keeps its own: shorter than the shortest that is common.
	idleTime = 4 * time.Second
	// learnedFor is how long it is remembered that a server closes idle connections sooner.
	learnedFor = 10 * time.Minute
)

// Failure says what became of a request that got no answer.
type Failure struct {
	Class sketch.Class
	// Safe is set when the server surely has not processed the request, so that it may be
	// sent again.
	Safe bool
	// Refused is set when nobody listens at the address.
	Refused bool
	// What says why, without addresses or what was read: it goes to callers.
	What string
}

func (f *Failure) Error() string { return f.What }

// Address is one model at one model server, with the connections to it. It is safe for use
// by several goroutines at once.
type Address struct {
	// URL is the server's.
	URL string
	// Host is what goes into the Host field.
	Host string

	dial   string
	secure *tls.Config
	most   int

	// busy is the number of requests it is answering now.
	busy atomic.Int64
	// down is set when it was found unhealthy, by the checks or by a request.
	down atomic.Bool

	// idle are the connections that wait to be used again, by loops. Who holds one of their
	// locks may take mu, not the other way round.
	idle [pools]pool
	// learned is what was found out of the server; nil when nothing was.
	learned atomic.Pointer[habit]
	closed  atomic.Bool

	mu sync.Mutex
	// recorded is the last health that the records told.
	recorded bool
	// open is how many connections there are, streams how many of them a large body comes
	// through.
	open, streams int
}

// Conn is a connection to a model server.
type Conn struct {
	*http1.Conn
	address *Address
	// reused is set when a request has been answered on it before.
	reused bool
	// stream is set when a large body goes through it.
	stream bool
	// since is when it became idle, ends when it is too old to be used.
	since, ends time.Time
	// before is what had been written before this request.
	before int64
}

// New makes an address of a server, with so many connections at most.
func New(server string, connections int, healthy bool) (*Address, error) {
	u, err := url.Parse(server)
	if err != nil || u.Hostname() == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, fmt.Errorf("routing to %q: not an address of http or https", server)
	}
	a := &Address{URL: server, Host: u.Host, dial: u.Host, most: max(1, connections), recorded: healthy}
	if u.Port() == "" {
		a.dial = net.JoinHostPort(u.Hostname(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
	}
	if u.Scheme == "https" {
		a.secure = &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	}
	a.down.Store(!healthy)
	return a, nil
}

// Recorded says what the records know of the address's health. Only what has changed
// there counts: what a request found out since is not overwritten by being told the same
// again.
func (a *Address) Recorded(healthy bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if healthy != a.recorded {
		a.recorded = healthy
		a.down.Store(!healthy)
	}
}

// MarkUp takes the address into use again after a good check.
func (a *Address) MarkUp() { a.down.Store(false) }

// MarkDown takes it out of use, because nobody listens there.
func (a *Address) MarkDown() { a.down.Store(true) }

// Down reports whether the address is not to be used.
func (a *Address) Down() bool { return a.down.Load() }

// Begin and End count the requests under way, for Choose.
func (a *Address) Begin() { a.busy.Add(1) }

// End is called once for every Begin.
func (a *Address) End() { a.busy.Add(-1) }

// Choose picks the less busy of two random healthy addresses of those that are not among
// tried; nil when there is none.
func Choose(addresses, tried []*Address) *Address {
	var first, second *Address
	seen := 0
	for _, a := range addresses {
		if a.Down() || contains(tried, a) {
			continue
		}
		seen++ // reservoir sampling of two
		switch {
		case first == nil:
			first = a
		case second == nil:
			second = a
		default:
			if i := rand.IntN(seen); i == 0 {
				first = a
			} else if i == 1 {
				second = a
			}
		}
	}
	if second == nil {
		return first
	}
	switch b1, b2 := first.busy.Load(), second.busy.Load(); {
	case b2 < b1, b2 == b1 && rand.IntN(2) == 0:
		return second
	}
	return first
}

func contains(list []*Address, a *Address) bool {
	for _, x := range list {
		if x == a {
			return true
		}
	}
	return false
}

// Connect gives a connection: one that was kept and that the server has kept too, or a
// new one, which then belongs to the task. fresh asks for a new one; stream says that a
// large body will come through it, of which there may be half as many as connections. The
// Failure is nil when it gives one.
func (a *Address) Connect(t *eventloop.Task, now, until time.Time, fresh, stream bool) (*Conn, *Failure) {
	for !fresh {
		c := a.take(now, t.Loop())
		if c == nil {
			break
		}
		if t.Own(c.Conn.Conn) == nil && c.Quiet() {
			return a.lend(c, stream)
		}
		a.learn(now, c)
		c.Discard()
	}
	a.mu.Lock()
	if a.open >= a.most || (stream && a.streams >= (a.most+1)/2) {
		a.mu.Unlock()
		return nil, &Failure{
			Class: sketch.NotReached,
			Safe:  true,
			What:  fmt.Sprintf("has all of its %d connections in use", a.most),
		}
	}
	a.open++
	a.mu.Unlock()
	c, err := a.connect(t, now, until)
	if err != nil {
		a.mu.Lock()
		a.open--
		a.mu.Unlock()
		return nil, connectFailure(err)
	}
	return a.lend(&Conn{Conn: http1.NewConn(c, largestHead), address: a}, stream)
}

func (a *Address) lend(c *Conn, stream bool) (*Conn, *Failure) {
	c.before, c.stream = c.Written, stream
	if stream {
		a.mu.Lock()
		a.streams++
		a.mu.Unlock()
	}
	return c, nil
}

func (a *Address) connect(task *eventloop.Task, now, until time.Time) (net.Conn, error) {
	patience := min(dialTime, until.Sub(now))
	if patience <= 0 {
		return nil, http1.ErrTimedOut
	}
	c, err := task.Dial(a.dial, patience)
	if err != nil {
		return nil, err
	}
	// A host name may lead elsewhere than when it was placed.
	if at, tcp := c.RemoteAddr().(*net.TCPAddr); tcp && !traffic.MayServe(at.AddrPort().Addr()) {
		_ = c.Close()
		return nil, syscall.EHOSTUNREACH
	}
	if a.secure == nil {
		return c, nil
	}
	t := tls.Client(c, a.secure)
	_ = t.SetDeadline(now.Add(patience))
	if err := t.Handshake(); err != nil {
		_ = c.Close()
		return nil, err
	}
	return t, t.SetDeadline(time.Time{})
}

// connectFailure says why no connection was made. The request was not sent, whatever it
// was.
func connectFailure(err error) *Failure {
	f := &Failure{Class: sketch.NotReached, Safe: true, What: "cannot be reached"}
	var timeout net.Error
	var dns *net.DNSError
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		f.What, f.Refused = "refuses connections", true
	case errors.As(err, &dns):
		f.What, f.Refused = "has a host name that is not known", true
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		f.Refused = true
	case errors.Is(err, http1.ErrTimedOut), errors.As(err, &timeout) && timeout.Timeout():
		f.What, f.Class = "did not take the connection in time", sketch.TimedOut
	}
	return f
}

// Reused reports whether a request has been answered on the connection before.
func (c *Conn) Reused() bool { return c.reused }

// Receive reads the head of the answer into head, whose memory is good until the body is
// read; it skips those that only say that there is more to come. gone is asked meanwhile
// whether anybody still waits.
func (c *Conn) Receive(now, until time.Time, gone func() bool, head *http1.Head,
	memory []byte,
) ([]byte, http1.Framing, *Failure) {
	c.Await(now, until, gone)
	for {
		var err error
		if memory, err = http1.ReadHead(c.R, memory, head.ParseAnswer); err != nil {
			return memory, http1.Framing{}, c.Failed(err)
		}
		if head.Status < 200 && head.Status != 101 {
			continue
		}
		framing, err := head.AnswerFraming()
		if err != nil {
			return memory, framing, malformed("answered with a length that is in doubt")
		}
		return memory, framing, nil
	}
}

func malformed(what string) *Failure { return &Failure{Class: sketch.Malformed, What: what} }

// Failed says what an error of sending or reading means.
func (c *Conn) Failed(err error) *Failure {
	var bad *http1.BadMessage
	switch {
	case errors.Is(err, http1.ErrTimedOut):
		return &Failure{Class: sketch.TimedOut, What: "did not answer in time"}
	case errors.Is(err, http1.ErrGone):
		return &Failure{Class: sketch.Abandoned, What: "had not answered when the caller left"}
	case errors.As(err, &bad):
		return malformed("did not answer in HTTP")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return malformed("broke off in the middle of its answer")
	}
	return &Failure{
		Class: sketch.NotReached,
		Safe:  c.Untouched(c.before),
		What:  "closed the connection before it answered",
	}
}
