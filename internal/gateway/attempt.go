package gateway

import (
	"strconv"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/http1"
	"innerladder/internal/upstream"
)

// attempt tries model servers until one answers. It returns nil when the caller has an
// answer, whatever that says, else why there is none; x.lane is then the lane that failed
// last.
func (x *exchange) attempt() *upstream.Failure {
	var memory [mostAttempts]*upstream.Address
	tried := memory[:0]
	var last *upstream.Failure
	for range mostAttempts {
		a := x.choose(tried, last)
		if a == nil {
			break
		}
		tried = append(tried, a)
		if last = x.try(a); last == nil {
			return nil
		}
		x.now = time.Now()
		if x.begun || !x.mayRepeat(last) {
			return last
		}
		if last.Refused {
			a.MarkDown()
			if x.g.config.Unreachable != nil {
				x.g.config.Unreachable(a.URL)
			}
		}
	}
	if last == nil {
		return &upstream.Failure{Class: sketch.Unavailable}
	}
	if last.Refused { // for the caller nobody is there; for the lane it is a failure
		x.nobodyLeft = true
	}
	return last
}

// choose picks the next address: one of the lane, or of another lane when the lane has no
// more. A caller who named the version gets no other.
func (x *exchange) choose(tried []*upstream.Address, last *upstream.Failure) *upstream.Address {
	a := upstream.Choose(x.lane.addresses, tried)
	if a != nil || x.pinned {
		return a
	}
	other, a := x.endpoint.instead(tried)
	if a == nil || other == x.lane {
		return a
	}
	if last == nil {
		last = &upstream.Failure{Class: sketch.Unavailable}
	}
	x.failed(x.lane, last)
	x.lane = other
	x.name(x.now) // nobody has seen the first one's id
	return a
}

// mayRepeat reports whether the request may be sent once more: it surely was not
// processed, or asking twice does no harm, and all of it is still here.
func (x *exchange) mayRepeat(f *upstream.Failure) bool {
	if x.sent || f.Class == sketch.Abandoned || f.Class == sketch.TimedOut && !f.Safe ||
		!x.now.Before(x.deadline) {
		return false
	}
	return f.Safe || x.endpoint.repeatable
}

// try sends the request to one address and passes the answer on.
func (x *exchange) try(a *upstream.Address) *upstream.Failure {
	a.Begin()
	defer a.End()
	for fresh := false; ; fresh = true {
		conn, failure := a.Connect(x.task, x.now, x.deadline, fresh, x.streamed || x.copied != nil)
		if failure != nil {
			return failure
		}
		if !conn.Reused() {
			x.now = time.Now() // it took a while
		}
		failure = x.exchangeOn(conn, a)
		// A kept connection may end at the very moment it is used. That the server did not
		// see the request is then sure, and says nothing of it.
		if failure == nil || fresh || !conn.Reused() || !failure.Safe || x.sent {
			return failure
		}
		x.now = time.Now()
	}
}

// exchangeOn sends the request on a connection, passes the answer on, and gives the
// connection back or ends it.
func (x *exchange) exchangeOn(conn *upstream.Conn, a *upstream.Address) (failure *upstream.Failure) {
	kept := false
	defer func() {
		if !kept {
			conn.Discard()
		}
	}()
	begin := x.now
	if x.g.config.Traces.Wants(&x.trace) {
		x.tried = x.trace.Next()
		defer func() { x.tracedTry(begin, a, failure) }()
	}
	callers, err := x.send(conn, a)
	if x.streamed {
		x.now = time.Now()
		begin = x.now
		x.start, x.deadline = begin, begin.Add(x.g.config.Timeout)
	}
	if callers != nil {
		x.callersFault = callers
		return &upstream.Failure{Class: sketch.CallerError}
	}
	if err != nil {
		if failure = conn.Failed(err); !x.sent {
			return failure
		}
		// A server may answer before it has read a large body, and close.
		x.deadline = begin.Add(time.Second)
	}
	framing, failure := x.receive(conn, begin)
	if failure != nil {
		return failure
	}
	if x.copied != nil {
		kept, failure = x.compare(conn, framing, begin)
	} else {
		kept, failure = x.pass(conn, framing, begin)
	}
	return failure
}

// wholeHead is the most that is written in one piece with the head.
const wholeHead = 64 << 10

// send writes the request. callers is why the caller's side broke.
func (x *exchange) send(conn *upstream.Conn, a *upstream.Address) (callers *refusal, err error) {
	out := append(append(append(x.out[:0], x.lane.start...), a.Host...), "\r\n"...)
	out = x.requestFields(out)
	if x.framing.Chunked && x.streamed {
		out = append(out, "Transfer-Encoding: chunked\r\n\r\n"...)
	} else {
		length := x.framing.Length
		if !x.streamed {
			length = int64(len(x.body))
		}
		out = append(out, "Content-Length: "...)
		out = append(strconv.AppendInt(out, length, 10), "\r\n\r\n"...)
	}
	if !x.streamed && len(out)+len(x.body) <= wholeHead {
		x.out = append(out, x.body...)
		_, err = conn.WriteAt(x.now, x.out)
		return nil, err
	}
	x.out = out
	if _, err = conn.Write(out); err != nil {
		return nil, err
	}
	if !x.streamed {
		_, err = conn.Write(x.body)
		return nil, err
	}
	x.sent = true
	if len(x.body) > 0 {
		if err := x.piece(conn, x.body); err != nil {
			return nil, err
		}
	}
	return x.streamTo(conn.Conn)
}

// requestFields appends the header lines that are passed on, those of the environment, and
// the request's id. The version is written into the answer, so the answer must not be
// compressed; and our callers' keys are no business of the model servers.
func (x *exchange) requestFields(out []byte) []byte {
	x.passed = x.head.Passed(x.passed[:0])
	for _, i := range x.passed {
		f := x.head.Fields[i]
		switch f.Known {
		case http1.Host,
			http1.AcceptEncoding,
			http1.Expect,
			http1.LadderKey,
			http1.LadderCopy,
			http1.LadderRequest,
			http1.LadderVersion:
			continue
		case http1.Traceparent:
			if x.tried.Sampled || x.trace.Trace.IsValid() && !x.trace.Parent.IsValid() {
				continue // ours, which leads back to the caller's if that was one
			}
		case http1.Authorization:
			if hasPrefix(f.Value, "Bearer "+keyStart) {
				continue
			}
		}
		if x.endpoint.overrides(f) {
			continue
		}
		out = appendField(out, f)
	}
	for _, h := range x.endpoint.headers {
		out = append(out, h.line...)
	}
	if x.copied != nil {
		out = append(out, traffic.CopyHeader+": true\r\n"...)
	}
	out = x.traceField(out)
	out = append(append(out, RequestHeader+": "...), x.id[:]...)
	return append(out, "\r\n"...)
}

func hasPrefix(b []byte, prefix string) bool {
	return len(b) >= len(prefix) && string(b[:len(prefix)]) == prefix
}
