package api

import (
	"errors"
	"net/http"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/tracing"

	"github.com/gofiber/fiber/v3"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/trace"
)

// traced exports the span of a call that began at a time. Who calls is no part of it, and neither are names in paths.
func (a *API) traced(c fiber.Ctx, o operation, at tracing.Context, begin time.Time, failed error) {
	status := c.Response().StatusCode()
	s := tracing.Span{Name: o.id, Kind: trace.SpanKindServer, Begin: begin, End: time.Now()}
	if failed != nil {
		status = http.StatusInternalServerError
		var f *fault.Fault
		if errors.As(failed, &f) {
			status = statusOf[f.Kind]
			s.Attributes = append(s.Attributes, attribute.String("error.type", f.Code))
		}
		if status >= http.StatusInternalServerError {
			s.Failed = failed.Error()
		}
	}
	s.Attributes = append(s.Attributes, attribute.String("http.request.method", o.method),
		attribute.String("http.route", base+o.path), attribute.Int("http.response.status_code", status),
		attribute.String("innerladder.request_id", requestID(c)))
	a.traces.Put(at, s)
}
