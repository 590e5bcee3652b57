// Package gateway is the data plane: it takes a request, picks a lane, forwards it,
// answers, and records one observation. It owns nothing: it reads immutable routes behind
// atomic pointers, never touches the database, and goes on answering with the last routes
// when everything else is down.
//
// The way of a request is exchange.infer, from top to bottom: what came in, which lane,
// which address and which try, the answer, the observation.
package gateway

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/eventloop"
	"innerladder/internal/http1"
	"innerladder/internal/recorder"
	"innerladder/internal/requestlog"
	"innerladder/internal/tracing"
	"innerladder/internal/upstream"
)

const (
	// VersionHeader names, on every answer, the version that gave it.
	VersionHeader = "Inner-Ladder-Version"
	// RequestHeader carries the id of the request, to the model server and back.
	RequestHeader = "Inner-Ladder-Request"
	// CallerHeader is set by callers who want to stay on their lane.
	CallerHeader = "Inner-Ladder-Caller"
	// KeyHeader carries the key of callers of keyed endpoints; Authorization: Bearer will
	// do as well. It is not passed on.
	KeyHeader = "Inner-Ladder-Key"
	// keyStart is how keys begin.
	keyStart = "ilc_"
)

const (
	// largestBody is the largest request or answer that is passed on.
	largestBody = 64 << 20
	// heldBody is the largest body that is held; larger ones are streamed through.
	heldBody = 1 << 20
	// mostAttempts is how many model servers are tried for one request.
	mostAttempts = 3
	// largestHead bounds the head of a request.
	largestHead = 16 << 10
	// usualBodies and usualCallers are the bounds where none are given.
	usualBodies  = 512 << 20
	usualCallers = 8192
)

// Config says how a gateway behaves.
type Config struct {
	// Timeout is how long a model server may take to answer.
	Timeout time.Duration
	// Connections is the most connections to one model at one model server.
	Connections int
	// Callers is the most connections of callers at the same time; 0 is 8192.
	Callers int
	// Loops is the number of event loops; 0 is one for each processor.
	Loops int
	// Bodies is the most bytes of bodies that are held in memory at the same time; 0 is
	// 512 MiB.
	Bodies int64
	// IDs makes the ids of requests.
	IDs *traffic.RequestIDs
	// Requests keeps single requests; nil keeps none.
	Requests *requestlog.Log
	// Unreachable is told, without waiting for it, when a model server refused a
	// connection; it may be nil.
	Unreachable func(address string)
	// Traces exports spans; nil exports none.
	Traces *tracing.Tracer
	// TLS is how callers are spoken to; nil is plainly.
	TLS *tls.Config
}

// patience is how long callers may take.
type patience struct {
	// head is for the head of a request from its first byte, block for each block of its
	// body, idle for the time between two requests.
	head, block, idle time.Duration
}

// Gateway answers for all endpoints.
type Gateway struct {
	recorder *recorder.Recorder
	log      *slog.Logger
	config   Config
	bodies   budget
	patience patience
	// count is that of requests, which makes ids unique.
	count atomic.Uint64
	// panics counts requests that went wrong in our own code.
	panics atomic.Uint64

	// routes is the map of all endpoints; it is copied when one comes or goes, and each
	// endpoint is swapped by itself.
	routes atomic.Pointer[map[string]*atomic.Pointer[endpoint]]

	// swapping guards addresses, by server and path, which the request path never reads.
	swapping  sync.Mutex
	addresses map[string]*upstream.Address

	// nowhere counts and keeps the requests that found no endpoint.
	nowhere account

	// loops wait for all connections.
	loops    *eventloop.Pool
	copies   copies
	callers  callers
	stopping atomic.Bool
	listener atomic.Pointer[net.Listener]
}

// New makes a gateway without routes.
func New(c Config, rec *recorder.Recorder, log *slog.Logger) *Gateway {
	if c.Bodies == 0 {
		c.Bodies = usualBodies
	}
	if c.Loops == 0 {
		c.Loops = runtime.NumCPU()
	}
	if c.Callers == 0 {
		c.Callers = usualCallers
	}
	g := &Gateway{
		recorder: rec, log: log, config: c, addresses: map[string]*upstream.Address{},
		patience: patience{head: 10 * time.Second, block: http1.BlockTime, idle: 2 * time.Minute},
	}
	var err error
	if g.loops, err = eventloop.New(c.Loops); err != nil {
		log.Warn("the gateway waits for each connection by itself, which is slower", "error", err)
	}
	g.nowhere = g.accountOf(0, "", request.UsualKeeping())
	g.bodies.most = c.Bodies
	g.callers.open = map[*caller]struct{}{}
	g.routes.Store(&map[string]*atomic.Pointer[endpoint]{})
	return g
}

// Serve answers on a listener until Stop.
func (g *Gateway) Serve(l net.Listener) error {
	g.listener.Store(&l)
	pause := time.Duration(0)
	for {
		c, err := l.Accept()
		switch {
		case g.stopping.Load():
			if err == nil {
				_ = c.Close()
			}
			return nil
		case errors.Is(err, net.ErrClosed):
			return err
		case err != nil: // out of files, say: others will end, and then it goes on
			pause = min(max(2*pause, 5*time.Millisecond), time.Second)
			g.log.Error("a caller's connection was not taken; trying again", "error", err, "in", pause)
			time.Sleep(pause)
			continue
		}
		pause = 0
		g.callers.take(g, c)
	}
}

// Stop takes no new requests and waits for those under way until ctx is done.
func (g *Gateway) Stop(ctx context.Context) error {
	g.stopping.Store(true)
	if l := g.listener.Load(); l != nil {
		_ = (*l).Close()
	}
	err := g.callers.end(ctx)
	g.endCopies(ctx)
	g.loops.Stop()
	return err
}

// Tidy gives back what is not needed any more: idle connections to model servers, and
// memory that bodies needed. It is called every second.
func (g *Gateway) Tidy(now time.Time) {
	g.swapping.Lock()
	for _, a := range g.addresses {
		a.Tidy(now)
	}
	g.swapping.Unlock()
	g.bodies.tidy(now)
}

// Status is how the gateway itself is.
type Status struct {
	// Callers is the number of connections of callers; Bodies the bytes of bodies held now.
	Callers int
	Bodies  int64
	// Panics counts the requests that went wrong in our own code.
	Panics uint64
}

// Status says how the gateway is now.
func (g *Gateway) Status() Status {
	return Status{g.callers.count(), g.bodies.held.Load(), g.panics.Load()}
}
