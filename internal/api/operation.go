package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"

	"innerladder/internal/app"
	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/records"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
)

// operation is one route of the API: what the router needs to serve it and what the
// OpenAPI document says about it, so the two cannot differ.
type operation struct {
	method, path string
	// id names the operation in the document; summary says what it does.
	id, summary string
	// permission is what it needs; empty needs no sign-in.
	permission access.Permission
	// everywhere is set when the permission is needed for the whole service, console when only a session will do.
	everywhere, console bool
	// takes is the media type of a body that is read as it comes, and is no form.
	takes string
	// in and out are the request's and the answer's structures; out is nil when there is
	// no JSON body.
	in, out any
	// alone is another form of the request, JSON where in is a form.
	alone any
	// produces is the answer's media type when it is not JSON.
	produces string
	status   int
	// streams says that the body may be of any size and is read as it comes.
	streams bool
	handle  func(*API, fiber.Ctx, act.Actor) error
}

// forService is an operation whose permission is needed for the whole service.
func (o operation) forService() operation {
	o.everywhere = true
	return o
}

// inConsole is an operation for whoever is signed in to the console: no token will do.
func (o operation) inConsole() operation {
	o.console = true
	return o
}

// call is a call of an operation: until when it goes on, and who makes it.
type call struct {
	context.Context
	by  act.Actor
	app *app.App
}

// open makes a handler of one that needs no sign-in.
func open(handle func(*API, fiber.Ctx) error) func(*API, fiber.Ctx, act.Actor) error {
	return func(a *API, c fiber.Ctx, _ act.Actor) error { return handle(a, c) }
}

// op makes an operation that reads an In and answers with what fn returns; where that is nothing, struct{}, with 204.
func op[In, Out any](method, path, id, summary string, p access.Permission, status int,
	fn func(call, *In) (Out, error),
) operation {
	out := any(new(Out))
	if _, nothing := out.(*struct{}); nothing {
		out, status = nil, fiber.StatusNoContent
	}
	return operation{
		method: method, path: path, id: id, summary: summary, permission: p, status: status, in: new(In), out: out,
		handle: func(a *API, c fiber.Ctx, by act.Actor) error {
			if c.Method() == fiber.MethodPost {
				if before, err := a.app.EarlierAnswer(c.Context(), by); err != nil || before != nil {
					return errors.Join(err, answered(c, status, before))
				}
			}
			in := new(In)
			if err := read(c, in); err != nil {
				return err
			}
			out, err := fn(call{c.Context(), by, a.app}, in)
			if err != nil {
				return err
			}
			if e, ok := any(out).(interface{ ETag() string }); ok {
				fiber.Locals(c, etagKey{}, e.ETag())
			}
			linked(c, out)
			return answered(c, status, out)
		},
	}
}

func answered(c fiber.Ctx, status int, out any) error {
	if status == fiber.StatusNoContent {
		return c.SendStatus(status)
	}
	return c.Status(status).JSON(out)
}

// read fills in from the path, the query, the headers, and for requests that change
// something from the JSON body.
func read(c fiber.Ctx, in any) error {
	if err := checkQuery(c, reflect.TypeOf(in).Elem()); err != nil {
		return err
	}
	for what, bind := range map[string]func(any) error{
		"path": c.Bind().URI, "query": c.Bind().Query,
		"header": c.Bind().Header,
	} {
		if err := bind(in); err != nil {
			return fault.New(fault.Invalid, "request."+what, "the %s cannot be read: %v", what, err).In(what).
				Do("see /api/openapi.json for what is expected")
		}
	}
	if c.Query("limit") == "0" { // which would be as if it were not given
		return badLimit(0)
	}
	if slices.Contains([]string{fiber.MethodGet, fiber.MethodHead, fiber.MethodDelete}, c.Method()) || !hasBody(in) {
		return nil
	}
	body := c.Body()
	if len(bytes.TrimSpace(body)) == 0 {
		return fault.New(fault.Invalid, "request.empty", "the request has no body").In("body").Do("send a JSON object")
	}
	return decode(body, in)
}

// checkQuery says what of a query is no value of its kind, in the words of whoever writes it.
func checkQuery(c fiber.Ctx, t reflect.Type) error {
	for i := range t.NumField() {
		f := t.Field(i)
		name := f.Tag.Get("query")
		if f.Anonymous && name == "" && f.Type.Kind() == reflect.Struct {
			if err := checkQuery(c, f.Type); err != nil {
				return err
			}
			continue
		}
		given := c.Query(name)
		if name == "" || given == "" {
			continue
		}
		of := f.Type
		for of.Kind() == reflect.Pointer {
			of = of.Elem()
		}
		var err error
		switch of.Kind() {
		case reflect.Bool:
			_, err = strconv.ParseBool(given)
		case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
			_, err = strconv.ParseInt(given, 10, of.Bits())
		case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
			_, err = strconv.ParseUint(given, 10, of.Bits())
		case reflect.Float32, reflect.Float64:
			_, err = strconv.ParseFloat(given, of.Bits())
		}
		if err != nil {
			return fault.New(fault.Invalid, "request.query", "%s: %q is not %s", name, given, jsonType(of)).In(name).
				Do("give %s, or leave it out", jsonType(of))
		}
	}
	return nil
}

// hasBody reports whether a request structure has members that come from a JSON body.
func hasBody(in any) bool {
	t := reflect.TypeOf(in).Elem()
	for i := range t.NumField() {
		f := t.Field(i)
		if tag, ok := f.Tag.Lookup("json"); ok && tag != "-" {
			return true
		}
		if f.Anonymous && f.Type.Kind() == reflect.Struct && hasBody(reflect.New(f.Type).Interface()) {
			return true
		}
	}
	return false
}

// largest is the largest body that the operation takes, unless it reads it as it comes.
func (o operation) largest() int {
	if o.permission == "" {
		return largestOfStrangers
	}
	return largestBody
}

// bound reads the body of a request that is no upload, up to the largest that is taken.
// Bodies are streamed, so that uploads can be; nothing else may be of any size.
func bound(c fiber.Ctx, largest int) error {
	stream := c.Request().BodyStream()
	if stream == nil {
		return nil
	}
	body, err := io.ReadAll(io.LimitReader(stream, int64(largest)+1))
	if err != nil {
		return fault.New(fault.Invalid, "request.cut", "the body breaks off: %v", err).In("body").Do("send it again")
	}
	if len(body) > largest {
		hearOut(c, 3*largestBody)
		return fault.New(fault.TooLarge, "request.too_large", "the body is larger than %d KiB", largest>>10).
			In("body").Do("send files as parts of a registration")
	}
	c.Request().SetBody(body)
	return nil
}

// hearOut reads what a caller still sends, up to so many bytes. When that is not all, the connection is closed: a
// caller that is still sending then may lose the answer with it.
func hearOut(c fiber.Ctx, most int64) {
	stream := c.Request().BodyStream()
	if stream == nil {
		return
	}
	if n, err := io.CopyN(io.Discard, stream, most); n == most || !errors.Is(err, io.EOF) {
		c.Response().SetConnectionClose()
	}
}

// heardOut is how much of a file is heard out that is refused before its end.
const heardOut = 64 << 20

// repeatKey reads the Idempotency-Key of a request. Of a body that is read as it comes only the length tells whether it
// is the same again: it may be of any size.
func repeatKey(c fiber.Ctx, streams bool) (act.RepeatKey, error) {
	key := c.Get("Idempotency-Key")
	if key == "" || c.Method() != fiber.MethodPost || c.IsMultipart() {
		return act.RepeatKey{}, nil
	}
	if len(key) > 200 {
		return act.RepeatKey{}, fault.New(fault.Invalid, "idempotency.long",
			"the Idempotency-Key has %d characters", len(key)).In("Idempotency-Key").Do("use at most 200")
	}
	body := fmt.Appendf(nil, "%d bytes", c.Request().Header.ContentLength())
	if !streams {
		body = c.Body()
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %s\n%s", c.Method(), c.OriginalURL(), body))
	return act.RepeatKey{Key: key, Digest: sum[:]}, nil
}

// pageIn is the part of a list that is asked for.
type pageIn struct {
	Limit  int    `query:"limit" minimum:"1" maximum:"200" description:"how many at most; 50 when not given"`
	Cursor string `query:"cursor" description:"the next_cursor of the part before"`
}

const (
	usualLimit = 50
	mostLimit  = 200
)

func (p pageIn) page() (records.Page, error) {
	if p.Limit == 0 {
		p.Limit = usualLimit
	}
	if p.Limit < 1 || p.Limit > mostLimit {
		return records.Page{}, badLimit(p.Limit)
	}
	after, err := base64.RawURLEncoding.DecodeString(p.Cursor)
	if err != nil {
		return records.Page{}, badCursor(p.Cursor)
	}
	return records.Page{Limit: p.Limit, After: string(after)}, nil
}

func badLimit(limit int) error {
	return fault.New(fault.Invalid, "list.limit", "a limit of %d cannot be served", limit).In("limit").
		Do("give 1 to %d", mostLimit)
}

func badCursor(cursor string) error {
	return fault.New(fault.Invalid, "list.cursor", "%q is no cursor", cursor).In("cursor").
		Do("give the next_cursor of the part before, or none")
}

// partOf lists a part of a list that is read whole, in the order of its keys.
func partOf[T any](p pageIn, all wire.Listed[T], err error, key func(T) string) (wire.Listed[T], error) {
	if err != nil {
		return all, err
	}
	return listed(p, func(page records.Page) (wire.Listed[T], error) {
		out := wire.Listed[T]{Items: []T{}}
		for _, item := range all.Items {
			if key(item) <= page.After {
				continue
			}
			if len(out.Items) == page.Limit {
				out.Next = key(out.Items[page.Limit-1])
				break
			}
			out.Items = append(out.Items, item)
		}
		return out, nil
	})
}

// listed lists a part and makes the cursor opaque.
func listed[T any](p pageIn, read func(records.Page) (wire.Listed[T], error)) (wire.Listed[T], error) {
	page, err := p.page()
	if err != nil {
		return wire.Listed[T]{}, err
	}
	out, err := read(page)
	var syntax *strconv.NumError
	if errors.As(err, &syntax) {
		return out, badCursor(p.Cursor)
	}
	if out.Next != "" {
		out.Next = base64.RawURLEncoding.EncodeToString([]byte(out.Next))
	}
	return out, err
}
