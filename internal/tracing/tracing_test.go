package tracing

import (
	"context"
	"log/slog"
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/fault"

	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/sdk/trace/tracetest"
	"go.opentelemetry.io/otel/trace"
)

const known = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"

// What we read and write is what another reads and writes: the propagator of OpenTelemetry.
func TestContextsAsOthersReadThem(t *testing.T) {
	theirs := propagation.TraceContext{}
	for header, want := range map[string]bool{
		known: true, strings.Replace(known, "-01", "-00", 1): true, strings.Replace(known, "-01", "-ff", 1): true,
		"": false, known[:54]: false, known + "-x": false, "ff" + known[2:]: false, strings.ToUpper(known): false,
		"cc" + known[2:]: true, "cc" + known[2:] + "-what-comes-later": true, "cc" + known[2:] + "later": false,
		"00-00000000000000000000000000000000-00f067aa0ba902b7-01": false,
		"00-4bf92f3577b34da6a3ce929d0e0e4736-0000000000000000-01": false,
		"00-4bf92f3577b34da6a3ce929d0e0e473g-00f067aa0ba902b7-01": false,
		"00_4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01": false,
	} {
		ours, ok := Parse([]byte(header))
		of := trace.SpanContextFromContext(theirs.Extract(context.Background(),
			propagation.HeaderCarrier(http.Header{"Traceparent": {header}})))
		if ok != want {
			t.Errorf("%q: %v, want %v", header, ok, want)
		}
		// They refuse flags of later versions.
		if ok && header[:2] == "00" && header[53:] != "ff" && (of.TraceID() != ours.Trace || of.SpanID() != ours.Span ||
			of.IsSampled() != ours.Sampled) {
			t.Errorf("%q: %+v, they read %+v", header, ours, of)
		}
		if !ok && of.IsValid() {
			t.Errorf("%q: they read it", header)
		}
	}
	for _, header := range []string{"", known} {
		for _, share := range []float64{0, 1} {
			c := Begin([]byte(header), share)
			of := trace.SpanContextFromContext(theirs.Extract(context.Background(),
				propagation.HeaderCarrier(http.Header{"Traceparent": {string(c.Append(nil))}})))
			if of.TraceID() != c.Trace || of.SpanID() != c.Span || of.IsSampled() != c.Sampled ||
				c.Sampled != (share == 1 || header != "") || c.Parent.IsValid() != (header != "") {
				t.Errorf("%q, %v: %+v, they read %+v", header, share, c, of)
			}
		}
	}
	if c := Begin([]byte(known), 0).Next(); c.Trace.String() != known[3:35] || c.Span == c.Parent {
		t.Errorf("%+v", c)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(known))
	f.Fuzz(func(t *testing.T, b []byte) {
		if c, ok := Parse(b); ok && b[0] == '0' && b[1] == '0' && !c.Sampled && len(b) != length {
			t.Errorf("%q", b)
		}
	})
}

// Spans have the ids that were sent on before they ended, and lead to each other.
func TestSpansLeadToEachOther(t *testing.T) {
	kept := tracetest.NewInMemoryExporter()
	tracer := exportBy(kept, 0, "a build")
	c := tracer.Begin([]byte(known))
	try := c.Next()
	at := time.Now()
	tracer.Put(try, Span{
		Name: "ask", Kind: trace.SpanKindClient, Begin: at, End: at.Add(time.Second), Failed: "it hangs",
	})
	tracer.Put(c, Span{Name: "infer", Kind: trace.SpanKindServer, Begin: at, End: at.Add(2 * time.Second)})
	tracer.Put(tracer.Begin(nil), Span{Name: "not sampled"})
	if err := tracer.provider.ForceFlush(t.Context()); err != nil {
		t.Fatal(err)
	}
	spans := kept.GetSpans()
	if len(spans) != 2 || spans[0].Parent.SpanID() != c.Span || spans[0].SpanContext.SpanID() != try.Span ||
		spans[1].Parent.SpanID().String() != "00f067aa0ba902b7" || spans[0].Status.Code != codes.Error ||
		spans[1].EndTime.Sub(spans[1].StartTime) != 2*time.Second || spans[0].SpanContext.TraceID() != c.Trace {
		t.Errorf("%+v", spans)
	}
	var none *Tracer
	c = none.Begin(nil)
	none.Put(c, Span{})
	if none.Wants(&c) || !c.Trace.IsValid() || none.Stop(t.Context()) != nil {
		t.Error("no tracer exports something")
	}
	for address, share := range map[string]float64{"collector": 0, "ftp://x": 0, "http://x": 2} {
		_, err := To(t.Context(), address, share, "", slog.New(slog.DiscardHandler))
		if !strings.HasPrefix(fault.Code(err), "traces.") {
			t.Errorf("%s, %v: %v", address, share, err)
		}
	}
}
