package gateway

import (
	"cmp"
	"time"

	"innerladder/internal/tracing"
	"innerladder/internal/upstream"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/trace"
)

// traceField appends where the model server stands in the trace: in the span of this try where spans are wanted; else
// as the caller said, which is passed on as it is, or at the beginning of a trace of its own.
func (x *exchange) traceField(out []byte) []byte {
	at := &x.trace
	switch {
	case x.tried.Sampled:
		at = &x.tried
	case !at.Trace.IsValid() || at.Parent.IsValid():
		return out
	}
	return append(at.Append(append(out, tracing.Header+": "...)), "\r\n"...)
}

// traced exports the span of a request that began at a time.
func (x *exchange) traced(begin time.Time) {
	s := tracing.Span{Name: "infer", Kind: trace.SpanKindServer, Begin: begin, End: time.Now()}
	if x.endpoint != nil {
		s.Name = "infer " + x.endpoint.name
	}
	s.Attributes = append(x.attributes(), attribute.Int("http.response.status_code", x.status))
	if x.planned != nil && x.planned != x.lane {
		s.Attributes = append(s.Attributes, attribute.String("innerladder.planned", x.planned.version))
	}
	if x.refused != nil {
		s.Attributes = append(s.Attributes, attribute.String("error.type", x.refused.code))
		if x.status >= 500 {
			s.Failed = x.refused.sentence
		}
	}
	x.g.config.Traces.Put(x.trace, s)
}

// tracedTry exports the span of one try at a model server.
func (x *exchange) tracedTry(begin time.Time, a *upstream.Address, failure *upstream.Failure) {
	s := tracing.Span{
		Name: "ask " + x.lane.version, Kind: trace.SpanKindClient, Begin: begin, End: time.Now(),
		Attributes: append(x.attributes(), attribute.String("server.address", a.Host)),
	}
	if failure != nil {
		s.Failed = cmp.Or(failure.What, "there was no answer in time")
	} else {
		s.Attributes = append(s.Attributes, attribute.Int("http.response.status_code", x.reply.Status))
	}
	x.g.config.Traces.Put(x.tried, s)
}

// attributes say whom a request is about.
func (x *exchange) attributes() (out []attribute.KeyValue) {
	if x.endpoint != nil {
		out = append(out, attribute.String("innerladder.endpoint", x.endpoint.name),
			attribute.Int("innerladder.split", x.endpoint.split))
	}
	if x.lane != nil {
		out = append(out, attribute.String("innerladder.version", x.lane.version),
			attribute.String("innerladder.lane", string(x.lane.kind)),
			attribute.String("innerladder.request", string(x.id[:])))
	}
	return out
}
