package api

import (
	"errors"
	"fmt"
	"net/http"

	"innerladder/internal/core/fault"
	"innerladder/internal/disk"
	"innerladder/internal/http1"
	"innerladder/internal/records"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

var statusOf = map[fault.Kind]int{
	fault.Invalid: http.StatusUnprocessableEntity, fault.Unknown: http.StatusNotFound,
	fault.Refused: http.StatusConflict,
	fault.Stale:   http.StatusPreconditionFailed, fault.Unsigned: http.StatusUnauthorized,
	fault.Forbidden: http.StatusForbidden,
	fault.TooOften:  http.StatusTooManyRequests, fault.TooLarge: http.StatusRequestEntityTooLarge,
	fault.Unavailable: http.StatusServiceUnavailable,
}

// retryAfter is in how many seconds a call may fare better.
var retryAfter = map[int]string{http.StatusServiceUnavailable: "5", http.StatusTooManyRequests: "30"}

// failed answers with the problem that an error is.
func (a *API) failed(c fiber.Ctx, err error) error {
	p := wire.Problem{RequestID: requestID(c)}
	var f *fault.Fault
	var e *fiber.Error
	var own plain
	var not *records.NotWritten
	switch {
	case errors.As(err, &own):
		f = own.Fault
		p.Status, p.Code, p.Detail, p.Field, p.Remedy = own.status, f.Code, f.Detail, f.Field, f.Remedy
	case errors.As(err, &f):
		p.Status, p.Code, p.Detail, p.Field, p.Remedy = statusOf[f.Kind], f.Code, f.Detail, f.Field, f.Remedy
	case errors.As(err, &e):
		p.Status, p.Code, p.Detail, p.Remedy = unread(e, c)
	case errors.As(err, &not):
		p.Status, p.Code, p.Detail, p.Remedy = http.StatusServiceUnavailable, "records.not_written",
			"nothing can be recorded: "+not.Why, "try again when that is mended; requests are answered meanwhile, and "+
				"everything can be read"
	case disk.Why(err) != "": // a file that was sent, say
		p.Status, p.Code, p.Detail, p.Remedy = http.StatusServiceUnavailable, "disk.not_written",
			"it cannot be written: "+disk.Why(err), "try again when that is mended"
	default:
		a.log.Error("a call failed", "method", c.Method(), "path", c.Path(), "request_id", p.RequestID, "error", err)
		p.Status, p.Code, p.Detail, p.Remedy = http.StatusInternalServerError, "internal", "the service failed",
			"try again; the log says why under this request_id"
	}
	p.Title = http.StatusText(p.Status)
	p.Type = "urn:innerladder:problem:" + p.Code
	if p.Status == http.StatusUnauthorized {
		c.Set(fiber.HeaderWWWAuthenticate, "Bearer")
	}
	if after := retryAfter[p.Status]; after != "" {
		c.Set(fiber.HeaderRetryAfter, after)
	}
	return c.Status(p.Status).JSON(p, wire.ProblemType)
}

// unread says why a request did not come to an operation: the server found no path, or no request.
func unread(e *fiber.Error, c fiber.Ctx) (status int, code, detail, remedy string) {
	switch e.Code {
	case fiber.StatusRequestEntityTooLarge:
		return e.Code, "request.too_large", "the request is too large", "send files as parts of a registration"
	case fiber.StatusNotFound, fiber.StatusMethodNotAllowed:
		return e.Code, "request.no_such_path", c.Method() + " " + c.Path() + ": " + e.Message,
			"see /api/openapi.json for what there is"
	case fiber.StatusRequestTimeout:
		return e.Code, "request.slow", fmt.Sprintf("the request did not come within %s", http1.BlockTime),
			"send it again, without a pause"
	case fiber.StatusRequestHeaderFieldsTooLarge:
		return e.Code, "request.head_too_large", "the head of the request is too large", "send fewer or shorter headers"
	case fiber.StatusNotImplemented:
		return e.Code, "request.method", "the method is none that is known here",
			"see /api/openapi.json for what there is"
	}
	// The connection broke, or what came is not HTTP.
	return fiber.StatusBadRequest, "request.malformed", "what came is no request of HTTP/1.1",
		"send it again as HTTP/1.1, or as https where the service's address begins so"
}
