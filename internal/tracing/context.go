// Package tracing joins what the service does to the traces of those who call it and of what it calls: W3C trace
// context comes in and goes out, and where an address is given, spans are exported by OTLP.
package tracing

import (
	"encoding/hex"
	"math/rand/v2"

	"go.opentelemetry.io/otel/trace"
)

// Header is the field of HTTP that carries a context.
const Header = "traceparent"

// Context is where a call stands in a trace. Its zero value is in none.
type Context struct {
	Trace trace.TraceID
	// Span is whoever calls next's parent; Parent is that of Span, zero at the beginning of a trace.
	Span, Parent trace.SpanID
	// Sampled says that spans are wanted.
	Sampled bool
}

// length is that of version, trace, span and flags in hexadecimal with hyphens between them.
const length = 2 + 1 + 32 + 1 + 16 + 1 + 2

// Parse reads a header (W3C Trace Context, level 1). What later versions write behind the flags is left out.
func Parse(b []byte) (c Context, ok bool) {
	if len(b) < length || b[2] != '-' || b[35] != '-' || b[52] != '-' || string(b[:2]) == "ff" ||
		(len(b) > length && (string(b[:2]) == "00" || b[length] != '-')) {
		return c, false
	}
	var version, flags [1]byte
	for _, part := range []struct{ to, from []byte }{
		{version[:], b[:2]}, {c.Trace[:], b[3:35]}, {c.Span[:], b[36:52]}, {flags[:], b[53:55]},
	} {
		for _, x := range part.from {
			if x >= 'A' && x <= 'F' {
				return Context{}, false // small letters only
			}
		}
		if _, err := hex.Decode(part.to, part.from); err != nil {
			return Context{}, false
		}
	}
	c.Sampled = flags[0]&1 == 1
	return c, c.Trace.IsValid() && c.Span.IsValid()
}

// Begin is the context of something that begins with a header, in a trace of its own where that is none. share of
// those are sampled.
func Begin(header []byte, share float64) Context {
	c, ok := Parse(header)
	if !ok {
		c = Context{Sampled: share > 0 && rand.Float64() < share}
		for !c.Trace.IsValid() {
			put(c.Trace[:8], rand.Uint64())
			put(c.Trace[8:], rand.Uint64())
		}
	}
	return c.Next()
}

// Next is the context of something that begins within c.
func (c Context) Next() Context {
	c.Parent = c.Span
	for c.Span = (trace.SpanID{}); !c.Span.IsValid(); {
		put(c.Span[:], rand.Uint64())
	}
	return c
}

func put(into []byte, x uint64) {
	for i := range into[:8] {
		into[i] = byte(x >> (8 * i))
	}
}

// Append writes the header.
func (c *Context) Append(out []byte) []byte {
	out = append(out, "00-"...)
	out = hex.AppendEncode(out, c.Trace[:])
	out = append(out, '-')
	out = hex.AppendEncode(out, c.Span[:])
	if c.Sampled {
		return append(out, "-01"...)
	}
	return append(out, "-00"...)
}
