package api

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"innerladder/internal/core/fault"

	"github.com/cespare/xxhash/v2"
	"github.com/gofiber/fiber/v3"
)

// plain is a fault of HTTP itself, with the status that HTTP has for it.
type plain struct {
	status int
	*fault.Fault
}

// Unwrap is the fault.
func (p plain) Unwrap() error { return p.Fault }

const eventStream = "text/event-stream"

// methods are those by which an operation is called: what can be got can be asked for its headers alone.
func (o operation) methods() []string {
	if o.method == fiber.MethodGet && o.produces != eventStream {
		return []string{fiber.MethodGet, fiber.MethodHead}
	}
	return []string{o.method}
}

// jsonBody reports whether an operation reads a JSON body and nothing else.
func (o operation) jsonBody() bool {
	changes := o.method != fiber.MethodGet && o.method != fiber.MethodDelete
	return changes && !o.streams && o.alone == nil && o.in != nil && hasBody(o.in)
}

// negotiate refuses a body that is no JSON, and a caller who takes none.
func (o operation) negotiate(c fiber.Ctx) error {
	if sent := c.Get(fiber.HeaderContentType); o.jsonBody() && sent != "" && len(c.Body()) > 0 && !isJSON(sent) {
		c.Set("Accept-Post", fiber.MIMEApplicationJSON)
		return plain{http.StatusUnsupportedMediaType, fault.New(fault.Invalid, "request.media_type",
			"the body is %.100q", sent).In("Content-Type").Do("send JSON, with Content-Type: application/json")}
	}
	if wanted := c.Get(fiber.HeaderAccept); o.produces == "" && wanted != "" &&
		c.Accepts(fiber.MIMEApplicationJSON, "application/problem+json") == "" {
		return plain{http.StatusNotAcceptable, fault.New(fault.Invalid, "request.accept", "the answer is JSON, and "+
			"%.100q is accepted", wanted).In("Accept").Do("accept application/json")}
	}
	return nil
}

func isJSON(media string) bool {
	kind, _, err := mime.ParseMediaType(media)
	return err == nil && (kind == fiber.MIMEApplicationJSON || strings.HasSuffix(kind, "+json"))
}

// called are the methods of each path, by its parts; a part that begins with a colon is any.
type called map[string][]string

// allow are the methods by which what is at a path is called; none where there is nothing. Of several that it could be,
// it is the one with the fewest places for names, as where it is called.
func (m called) allow(path string) (methods []string) {
	parts, fewest := strings.Split(path, "/"), len(path)
	for pattern, of := range m {
		names := 0
		if slices.EqualFunc(strings.Split(pattern, "/"), parts, func(p, part string) bool {
			if strings.HasPrefix(p, ":") && part != "" {
				names++
				return true
			}
			return p == part
		}) && names < fewest {
			fewest, methods = names, append(slices.Clone(of), fiber.MethodOptions)
		}
	}
	slices.Sort(methods)
	return slices.Compact(methods)
}

// other answers to OPTIONS, and to what a path is not called by, with what it is.
func (m called) other(c fiber.Ctx) error {
	methods := m.allow(c.Path())
	if len(methods) == 0 {
		return fiber.ErrNotFound
	}
	allow := strings.Join(methods, ", ")
	c.Set(fiber.HeaderAllow, allow)
	if c.Method() == fiber.MethodOptions {
		return c.SendStatus(fiber.StatusNoContent)
	}
	return plain{http.StatusMethodNotAllowed, fault.New(fault.Invalid, "request.method", "%s is not called by %s",
		c.Path(), c.Method()).Do("use %s", allow)}
}

// etagKey is where the ETag of an answer is kept until it is packed: it is of what is said, however that is packed, so
// that who has read it packed can decide on it.
type etagKey struct{}

// retagged gives answers the ETag that was kept.
func retagged(c fiber.Ctx) error {
	err := c.Next()
	if tag := fiber.Locals[string](c, etagKey{}); tag != "" && err == nil {
		c.Set(fiber.HeaderETag, tag)
	}
	return err
}

// tagged gives an answer that can be got its ETag, and answers with 304 where the caller has it.
func tagged(c fiber.Ctx) {
	get := c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead
	if !get || c.Response().StatusCode() != fiber.StatusOK || c.Response().IsBodyStream() {
		return
	}
	tag := fiber.Locals[string](c, etagKey{})
	if tag == "" {
		sum := binary.BigEndian.AppendUint64(nil, xxhash.Sum64(c.Response().Body()))
		tag = `W/"` + hex.EncodeToString(sum) + `"`
		fiber.Locals(c, etagKey{}, tag)
	}
	if has(c.Get(fiber.HeaderIfNoneMatch), tag) {
		c.Response().ResetBody()
		c.Response().Header.Del(fiber.HeaderContentType)
		c.Status(fiber.StatusNotModified)
	}
}

// has reports whether a list of ETags has one, by the weak comparison (RFC 9110, 8.8.3.2).
func has(list, tag string) bool {
	opaque := func(s string) string { return strings.TrimPrefix(strings.TrimSpace(s), "W/") }
	for one := range strings.SplitSeq(list, ",") {
		if strings.TrimSpace(one) == "*" || one != "" && opaque(one) == opaque(tag) {
			return true
		}
	}
	return false
}

// linked says where the next part of a list is.
func linked(c fiber.Ctx, out any) {
	l, is := out.(interface{ NextPart() string })
	if !is || l.NextPart() == "" {
		return
	}
	u, err := url.ParseRequestURI(c.OriginalURL())
	if err != nil {
		return
	}
	q := u.Query()
	q.Set("cursor", l.NextPart())
	u.RawQuery = q.Encode()
	c.Set(fiber.HeaderLink, fmt.Sprintf(`<%s>; rel="next"`, u.RequestURI()))
}
