package gateway

import (
	"encoding/json"
	"net/http"
	"strconv"
	"sync/atomic"
	"time"
)

// refusal is an answer of our own that says why there is no other.
type refusal struct {
	status   int
	code     string
	sentence string
	// closes is set when the connection ends with it.
	closes bool
}

// dateLine is the Date field of the current second.
var dateLine = struct {
	line atomic.Pointer[[]byte]
	at   atomic.Int64
}{}

// date appends the Date field.
func date(out []byte, now time.Time) []byte {
	if second := now.Unix(); dateLine.at.Load() != second || dateLine.line.Load() == nil {
		line := []byte("Date: " + now.UTC().Format(http.TimeFormat) + "\r\n")
		dateLine.line.Store(&line)
		dateLine.at.Store(second)
	}
	return append(out, *dateLine.line.Load()...)
}

// statusLine appends the first line of an answer.
func statusLine(out []byte, status int) []byte {
	out = append(out, "HTTP/1.1 "...)
	out = strconv.AppendInt(out, int64(status), 10)
	out = append(out, ' ')
	if text := http.StatusText(status); text != "" {
		return append(append(out, text...), "\r\n"...)
	}
	return append(out, "Unknown\r\n"...)
}

// refuseAt writes a refusal where nothing is known of the request.
func (c *caller) refuseAt(r *refusal) { c.writeOwn(r.status, r.body(), nil, r.closes, r.retries()) }

// body is an error of the protocol.
func (r *refusal) body() []byte {
	b, _ := json.Marshal(struct { // two texts cannot fail to encode
		Error string `json:"error"`
		Code  string `json:"code"`
	}{r.sentence, r.code})
	return b
}

// retries reports whether it will be worth asking again soon.
func (r *refusal) retries() bool { return r.status == http.StatusServiceUnavailable }

// writeOwn writes an answer of our own, with further header lines.
func (c *caller) writeOwn(status int, body, lines []byte, closes, retries bool) {
	out := date(statusLine(c.out[:0], status), time.Now())
	out = append(out, "Content-Type: application/json\r\nContent-Length: "...)
	out = append(strconv.AppendInt(out, int64(len(body)), 10), "\r\n"...)
	if retries {
		out = append(out, "Retry-After: 1\r\n"...)
	}
	out = c.connectionLine(append(out, lines...), closes)
	out = append(out, "\r\n"...)
	if string(c.head.Method) != "HEAD" {
		out = append(out, body...)
	}
	c.out = out
	_, _ = c.wire.Write(out) // who is gone need not read it
}

// connectionLine appends what the caller must know of the connection.
func (c *caller) connectionLine(out []byte, closes bool) []byte {
	switch {
	case closes:
		return append(out, "Connection: close\r\n"...)
	case c.head.Minor == 0:
		return append(out, "Connection: keep-alive\r\n"...)
	}
	return out
}
