package api

import (
	"errors"
	"net/http"

	"innerladder/internal/core/fault"
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

// failed answers with the problem that an error is.
func (a *API) failed(c fiber.Ctx, err error) error {
	p := wire.Problem{RequestID: requestID(c)}
	var f *fault.Fault
	var e *fiber.Error
	var own plain
	switch {
	case errors.As(err, &own):
		f = own.Fault
		p.Status, p.Code, p.Detail, p.Field, p.Remedy = own.status, f.Code, f.Detail, f.Field, f.Remedy
	case errors.As(err, &f):
		p.Status, p.Code, p.Detail, p.Field, p.Remedy = statusOf[f.Kind], f.Code, f.Detail, f.Field, f.Remedy
	case errors.As(err, &e) && e.Code == fiber.StatusRequestEntityTooLarge:
		p.Status, p.Code, p.Detail, p.Remedy = e.Code, "request.too_large", "the request is too large",
			"send files as parts of a registration"
	case errors.As(err, &e) && e.Code < 500:
		p.Status, p.Code, p.Detail, p.Remedy = e.Code, "request.no_such_path", c.Method()+" "+c.Path()+": "+e.Message,
			"see /api/openapi.json for what there is"
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
	return c.Status(p.Status).JSON(p, wire.ProblemType)
}
