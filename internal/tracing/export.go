package tracing

import (
	"context"
	"fmt"
	"log/slog"
	"net/url"
	"sync"
	"time"

	"innerladder/internal/core/fault"

	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/codes"
	"go.opentelemetry.io/otel/exporters/otlp/otlptrace/otlptracehttp"
	"go.opentelemetry.io/otel/sdk/resource"
	sdk "go.opentelemetry.io/otel/sdk/trace"
	"go.opentelemetry.io/otel/trace"
)

// Tracer exports spans. A nil one exports none, and makes contexts all the same.
type Tracer struct {
	provider *sdk.TracerProvider
	tracer   trace.Tracer
	share    float64
}

// queued is how many spans wait at most; what comes while a collector is slow, or gone, is dropped.
const queued = 8192

// quiet is how long nothing more is said in the log of spans that could not be sent.
const quiet = time.Minute

// To makes a tracer that sends spans by OTLP, in HTTP with Protobuf, to a collector; empty is none. share of what
// comes without a context is sampled; what comes with one is as that says.
func To(ctx context.Context, address string, share float64, build string, log *slog.Logger) (*Tracer, error) {
	if !(share >= 0 && share <= 1) {
		return nil, fault.New(fault.Invalid, "traces.share", "%v of the calls cannot be traced", share).
			In("-traces-share").Do("give a share from 0 to 1, such as 0.01")
	}
	if address == "" {
		return nil, nil
	}
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fault.New(fault.Invalid, "traces.address", "%q is no address of a collector", address).
			In("-traces-to").Do("give a URL such as http://127.0.0.1:4318")
	}
	if u.Path == "" || u.Path == "/" {
		u.Path = "/v1/traces"
	}
	exporter, err := otlptracehttp.New(ctx, otlptracehttp.WithEndpointURL(u.String()),
		otlptracehttp.WithCompression(otlptracehttp.GzipCompression))
	if err != nil {
		return nil, fmt.Errorf("sending traces to %s: %w", address, err)
	}
	return exportBy(&telling{SpanExporter: exporter, log: log, to: u.Host}, share, build), nil
}

func exportBy(exporter sdk.SpanExporter, share float64, build string) *Tracer {
	of := resource.NewSchemaless(attribute.String("service.name", "inner-ladder"),
		attribute.String("service.version", build))
	provider := sdk.NewTracerProvider(sdk.WithResource(of), sdk.WithSampler(sdk.AlwaysSample()),
		sdk.WithIDGenerator(given{}), sdk.WithBatcher(exporter, sdk.WithMaxQueueSize(queued)))
	return &Tracer{provider, provider.Tracer("innerladder"), share}
}

// telling says in the log that spans cannot be sent, now and then.
type telling struct {
	sdk.SpanExporter
	log *slog.Logger
	to  string

	mu   sync.Mutex
	last time.Time
}

// ExportSpans sends spans on.
func (t *telling) ExportSpans(ctx context.Context, spans []sdk.ReadOnlySpan) error {
	err := t.SpanExporter.ExportSpans(ctx, spans)
	if err != nil {
		t.mu.Lock()
		defer t.mu.Unlock()
		if now := time.Now(); now.Sub(t.last) > quiet {
			t.last = now
			t.log.Warn("spans could not be sent, and are lost", "to", t.to, "spans", len(spans), "error", err)
		}
	}
	return nil
}

// Stop sends what waits, until ctx is done.
func (t *Tracer) Stop(ctx context.Context) error {
	if t == nil {
		return nil
	}
	return t.provider.Shutdown(ctx)
}

// Begin is the context of something that begins with a header, which may be empty.
func (t *Tracer) Begin(header []byte) Context {
	if t == nil {
		return Begin(header, 0)
	}
	return Begin(header, t.share)
}

// Wants reports whether the span of a context is to be exported.
func (t *Tracer) Wants(c *Context) bool { return t != nil && c.Sampled }

// Span is something that was done.
type Span struct {
	Name       string
	Kind       trace.SpanKind
	Begin, End time.Time
	// Failed is why it failed; empty when it did not.
	Failed     string
	Attributes []attribute.KeyValue
}

// Put exports a span of a context, if that is sampled.
func (t *Tracer) Put(c Context, s Span) {
	if !t.Wants(&c) {
		return
	}
	ctx := context.WithValue(context.Background(), spanKey{}, c)
	if c.Parent.IsValid() {
		ctx = trace.ContextWithRemoteSpanContext(ctx, trace.NewSpanContext(trace.SpanContextConfig{
			TraceID: c.Trace, SpanID: c.Parent, TraceFlags: trace.FlagsSampled, Remote: true,
		}))
	}
	_, span := t.tracer.Start(ctx, s.Name, trace.WithTimestamp(s.Begin), trace.WithSpanKind(s.Kind),
		trace.WithAttributes(s.Attributes...))
	if s.Failed != "" {
		span.SetStatus(codes.Error, s.Failed)
	}
	span.End(trace.WithTimestamp(s.End))
}

// spanKey is where a context says which ids its span has: they were sent on before it ended.
type spanKey struct{}

// given gives spans the ids of their contexts.
type given struct{}

func (given) NewIDs(ctx context.Context) (trace.TraceID, trace.SpanID) {
	c, _ := ctx.Value(spanKey{}).(Context)
	return c.Trace, c.Span
}

func (given) NewSpanID(ctx context.Context, _ trace.TraceID) trace.SpanID {
	c, _ := ctx.Value(spanKey{}).(Context)
	return c.Span
}
