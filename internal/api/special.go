package api

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/url"
	"strconv"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/service"
	"innerladder/internal/store"

	"github.com/gofiber/fiber/v3"
)

// special lists the routes that are not plain JSON in, JSON out.
func special() []operation {
	return []operation{
		{method: "POST", path: "/session", id: "signIn", summary: "Sign in to the console with a token; sets a cookie", status: 200,
			in: new(signInIn), out: new(store.Person), handle: (*API).signIn},
		{method: "GET", path: "/session", id: "whoAmI", summary: "Who is signed in", permission: service.Read, status: 200,
			in: new(none), out: new(store.Person), handle: (*API).whoAmI},
		{method: "DELETE", path: "/session", id: "signOut", summary: "Sign out of the console", permission: service.Read, status: 204,
			in: new(none), handle: (*API).signOut},
		{method: "POST", path: "/versions", id: "register", summary: "Register a version with its files, as parts in this order: spec, artifact (one or more), sample (optional)", permission: service.Write, status: 201,
			in: new(registerIn), out: new(service.Registered), handle: (*API).register},
		{method: "GET", path: "/versions/{ref}/artifacts/{artifact}", id: "getArtifact", summary: "Get a file of a version", permission: service.Read, status: 200,
			in: new(artifactIn), produces: "application/octet-stream", handle: (*API).artifact},
		{method: "GET", path: "/events", id: "events", summary: "Server-sent events: every change as `change`, and every second what all endpoints do as `now`", permission: service.Read, status: 200,
			in: new(eventsIn), produces: "text/event-stream", handle: (*API).events},
	}
}

type signInIn struct {
	Token string `json:"token" required:"true"`
}

// sessionCookie holds the session of the console.
const sessionCookie = "innerladder_session"

func (a *API) signIn(c fiber.Ctx) error {
	var in signInIn
	if err := read(c, &in); err != nil {
		return err
	}
	if err := sameSite(c); err != nil {
		return err
	}
	session, person, err := a.service.SignIn(c.Context(), in.Token)
	if err != nil {
		return err
	}
	c.Cookie(&fiber.Cookie{Name: sessionCookie, Value: session, Path: "/", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode,
		Secure: c.Secure(), MaxAge: int(service.SessionLasts.Seconds())})
	return c.JSON(person)
}

func (a *API) whoAmI(c fiber.Ctx) error { return c.JSON(fiber.Locals[store.Person](c, personKey{})) }

func (a *API) signOut(c fiber.Ctx) error {
	if err := a.service.SignOut(c.Context(), c.Cookies(sessionCookie)); err != nil {
		return err
	}
	c.Cookie(&fiber.Cookie{Name: sessionCookie, Path: "/", HTTPOnly: true, SameSite: fiber.CookieSameSiteStrictMode, Secure: c.Secure(), Expires: time.Unix(1, 0)})
	return c.SendStatus(fiber.StatusNoContent)
}

// registerIn describes the parts of a registration for the document.
type registerIn struct {
	Spec     string           `formData:"spec" required:"true" description:"a Registration as JSON: model, task, description, note, metrics, params, code, targets, units"`
	Artifact []multipart.File `formData:"artifact" required:"true" description:"the files of the version"`
	Sample   multipart.File   `formData:"sample" description:"example rows as CSV with a header, JSON, or JSON lines; the signature is read from it"`
}

const (
	// largestSpec bounds the JSON part of a registration.
	largestSpec = 1 << 20
	// largestSample bounds the sample, which is held in memory.
	largestSample = 64 << 20
)

// register reads the parts as they come, so files of any size pass through without
// being held in memory.
func (a *API) register(c fiber.Ctx) (err error) {
	kind, params, err := mime.ParseMediaType(c.Get(fiber.HeaderContentType))
	if err != nil || kind != fiber.MIMEMultipartForm {
		return fault.New(fault.Invalid, "register.form", "the request is no multipart form").In("Content-Type").Do("send multipart/form-data with the parts spec, artifact and sample")
	}
	body := c.Request().BodyStream()
	if body == nil {
		return fault.New(fault.Invalid, "request.empty", "the request has no body").In("body").Do("send multipart/form-data with the parts spec, artifact and sample")
	}
	r := registration{api: a, ctx: c.Context()}
	defer func() {
		for _, f := range r.files {
			f.Upload.Discard()
		}
		if err != nil {
			// What is left of the body is not read; the connection cannot be used again.
			c.Response().SetConnectionClose()
		}
	}()
	parts := multipart.NewReader(body, params["boundary"])
	for {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fault.New(fault.Invalid, "register.cut", "the form breaks off: %v", err).In("body").Do("send it again; nothing was kept")
		}
		if err := r.take(part); err != nil {
			return err
		}
	}
	if r.spec == nil {
		return fault.New(fault.Invalid, "register.no_spec", "the form has no part spec").In("spec").Do("send the Registration as the first part")
	}
	out, err := a.service.Register(c.Context(), *r.spec, r.files, r.sample)
	if err != nil {
		return err
	}
	status := fiber.StatusCreated
	if !out.Created {
		status = fiber.StatusOK
	}
	c.Location("/api/v1/versions/" + out.Ref)
	return c.Status(status).JSON(out)
}

// registration gathers the parts of one.
type registration struct {
	api    *API
	ctx    context.Context
	spec   *service.Registration
	files  []*service.File
	sample *registry.Sample
}

func (r *registration) take(part *multipart.Part) (err error) {
	switch name := part.FormName(); name {
	case "spec":
		dec := json.NewDecoder(io.LimitReader(part, largestSpec))
		dec.DisallowUnknownFields()
		if err := dec.Decode(&r.spec); err != nil {
			return badJSON(err)
		}
	case "artifact":
		f, err := r.api.service.Receive(r.ctx, part.FileName(), part)
		if err != nil {
			var known *fault.Fault
			if errors.Is(err, io.ErrUnexpectedEOF) && !errors.As(err, &known) {
				return fault.New(fault.Invalid, "register.cut", "%s breaks off", part.FileName()).In("artifact").Do("send it again; nothing was kept")
			}
			return err
		}
		r.files = append(r.files, f)
	case "sample":
		bounded := &io.LimitedReader{R: part, N: largestSample + 1}
		r.sample, err = registry.ReadSample(part.FileName(), bounded)
		if bounded.N == 0 {
			return fault.New(fault.TooLarge, "sample.too_large", "%s is larger than %d MiB", part.FileName(), largestSample>>20).In("sample").Do("give fewer rows; a few thousand are enough")
		}
		return err
	default:
		return fault.New(fault.Invalid, "register.part", "there is no part %q", name).In(name).Do("send the parts spec, artifact and sample")
	}
	return nil
}

type artifactIn struct {
	refIn
	Artifact string `uri:"artifact" path:"artifact"`
}

func (a *API) artifact(c fiber.Ctx) error {
	var in artifactIn
	if err := read(c, &in); err != nil {
		return err
	}
	meta, f, err := a.service.Artifact(c.Context(), in.Ref, in.Artifact)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, fiber.MIMEOctetStream)
	c.Set(fiber.HeaderContentDisposition, "attachment; filename*=UTF-8''"+url.PathEscape(meta.Name))
	c.Set(fiber.HeaderETag, strconv.Quote(meta.Digest))
	return c.SendStream(f, int(meta.Size)) // the stream closes the file
}

type eventsIn struct {
	LastEventID string `header:"Last-Event-ID" description:"the last change that was seen; what came after is sent first"`
}

// events streams changes and the state of all endpoints.
func (a *API) events(c fiber.Ctx) error {
	var in eventsIn
	if err := read(c, &in); err != nil {
		return err
	}
	ctx := context.WithoutCancel(c.Context()) // the stream outlives the handler
	changes, stop := a.service.Changes()
	var missed []store.Entry
	if last, err := strconv.ParseInt(in.LastEventID, 10, 64); err == nil {
		if missed, err = a.service.EntriesSince(ctx, last); err != nil {
			stop()
			return err
		}
	}
	c.Set(fiber.HeaderContentType, "text/event-stream")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	c.Set("X-Accel-Buffering", "no")
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer stop()
		a.stream(ctx, w, missed, changes)
	})
}

func (a *API) stream(ctx context.Context, w *bufio.Writer, missed []store.Entry, changes <-chan store.Entry) {
	send := func(id int64, event string, data any) bool {
		b, err := json.Marshal(data)
		if err != nil {
			a.log.Error("an event was not sent", "event", event, "error", err)
			return true
		}
		if id > 0 {
			fmt.Fprintf(w, "id: %d\n", id)
		}
		fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event, b)
		return w.Flush() == nil // an error means that the listener has gone
	}
	seen := int64(0)
	change := func(e store.Entry) bool {
		if e.Seq <= seen {
			return true
		}
		seen = e.Seq
		return send(e.Seq, "change", e)
	}
	for _, e := range missed {
		if !change(e) {
			return
		}
	}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		now, err := a.now(ctx)
		if err != nil {
			a.log.Error("the state of the endpoints was not read", "error", err)
		} else if !send(0, "now", now) {
			return
		}
		// A change is sent at once, the state once a second.
		for ticked := false; !ticked; {
			select {
			case e, open := <-changes:
				if !open || !change(e) {
					return
				}
			case <-tick.C:
				ticked = true
			case <-a.stopping:
				return
			}
		}
	}
}

// now reads the state of all endpoints, at most about once a second however many
// listen.
func (a *API) now(ctx context.Context) ([]service.EndpointNow, error) {
	a.nowMu.Lock()
	defer a.nowMu.Unlock()
	if time.Since(a.nowAt) < 900*time.Millisecond {
		return a.nowCache, nil
	}
	now, err := a.service.Now(ctx)
	if err == nil {
		a.nowCache, a.nowAt = now, time.Now()
	}
	return now, err
}
