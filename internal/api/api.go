// Package api is the control plane over HTTP: the routes, authentication, server-sent
// events, metrics, and the console's files.
package api

import (
	"context"
	"crypto/tls"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"innerladder/internal/app"
	"innerladder/internal/core/fault"
	"innerladder/internal/gateway"
	"innerladder/internal/http1"
	"innerladder/internal/jobs"
	"innerladder/internal/recorder"
	"innerladder/internal/tracing"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/gofiber/fiber/v3/middleware/helmet"
	"github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/google/uuid"
)

// API serves the control plane.
type API struct {
	router *fiber.App
	app    *app.App
	log    *slog.Logger
	// provider vouches for people; nil when there is none.
	provider *Provider
	proxies  []netip.Prefix
	hosts    []string
	tls      *tls.Config
	traces   *tracing.Tracer
	// stopping is closed when the API stops, to end the streams.
	stopping chan struct{}
	stopOnce sync.Once

	nowMu    sync.Mutex
	nowAt    time.Time
	nowCache []wire.EndpointNow
}

const (
	// largestBody is the largest JSON body; files are streamed and may be larger.
	largestBody = 4 << 20
	// largestOfStrangers is the largest body of a call that needs no sign-in.
	largestOfStrangers = 64 << 10
	// mostConnections are those at the same time; who comes then is asked to try again.
	mostConnections = 8192
)

// Config says what an API serves besides the service itself.
type Config struct {
	// Console holds the console's files, or is empty when it was not built.
	Console Console
	// Provider vouches for people; nil when there is none.
	Provider *Provider
	// Proxies are the ranges of proxies whose word is taken where a call comes from.
	Proxies []netip.Prefix
	// Hosts are the names by which people reach the console and the API. Addresses in numbers and localhost are known
	// without being named.
	Hosts []string
	// TLS is how callers are spoken to; nil is plainly.
	TLS *tls.Config
	// Traces exports spans; nil exports none.
	Traces *tracing.Tracer
	// Jobs and Gateway say how jobs and the gateway fare, for the metrics; nil when there is
	// nothing to say.
	Jobs    func() []jobs.Report
	Gateway func() gateway.Status
	// Databases says how the databases stand, for the metrics; nil says nothing.
	Databases func() []Database
}

// New makes the API.
func New(does *app.App, rec *recorder.Recorder, conf Config, log *slog.Logger) (*API, error) {
	a := &API{
		app: does, log: log, provider: conf.Provider, proxies: conf.Proxies, hosts: conf.Hosts,
		tls: conf.TLS, traces: conf.Traces,
		stopping: make(chan struct{}),
	}
	a.router = fiber.New(fiber.Config{
		AppName: "Inner Ladder", BodyLimit: largestBody, StreamRequestBody: true, DisablePreParseMultipartForm: true,
		Concurrency: mostConnections, UnescapePath: true, Immutable: true, IdleTimeout: 2 * time.Minute,
		ReadTimeout:  http1.BlockTime,
		ErrorHandler: a.failed,
	})
	a.router.Use(recover.New())
	a.router.Use(helmet.New(helmet.Config{
		// Nothing at all, unless a handler allows more.
		ContentSecurityPolicy: "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'",
		ReferrerPolicy:        "no-referrer", XFrameOptions: "DENY",
	}))
	a.router.Use(a.hosted, a.byTLS)
	packed := compress.New(compress.Config{Level: compress.LevelBestSpeed})
	a.router.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	a.router.Get("/readyz", func(c fiber.Ctx) error {
		if err := does.Ready(c.Context()); err != nil {
			return fault.New(fault.Unavailable, "not_ready", "the records cannot be read: %v", err)
		}
		if what := does.Degraded(); what != "" {
			return c.SendString("degraded: " + what + "\n")
		}
		return c.SendString("ready\n")
	})
	a.router.Get("/metrics", packed, a.metrics(rec, conf))
	a.router.Get("/api/openapi.json", packed, func(c fiber.Ctx) error {
		document, err := Document()
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSON)
		return c.Send(document)
	})
	others := called{}
	for _, o := range operations() {
		others[fiberPath(o.path)] = append(others[fiberPath(o.path)], o.methods()...)
		answer := func(c fiber.Ctx) error { return a.answer(c, o) }
		if o.produces != "" { // files are sent as they are, and events as they come
			a.router.Add(o.methods(), fiberPath(o.path), answer)
			continue
		}
		a.router.Add(o.methods(), fiberPath(o.path), retagged, packed, answer)
	}
	a.router.Use("/api", others.other)
	conf.Console.mount(a.router, packed)
	return a, nil
}

// answer answers a call of an operation: who calls is found out before anything of the body is read, the body is
// bounded, and both sides agree on the form.
func (a *API) answer(c fiber.Ctx, o operation) (failed error) {
	c.Set(fiber.HeaderCacheControl, "no-store")
	at := a.traces.Begin(c.Request().Header.Peek(tracing.Header))
	if a.traces.Wants(&at) {
		begin := time.Now()
		defer func() { a.traced(c, o, at, begin, failed) }()
	}
	by, err := a.admit(c, o)
	if err != nil {
		return a.unheard(c, err)
	}
	if !o.streams {
		err = bound(c, o.largest())
	}
	if err == nil {
		by.Repeat, err = repeatKey(c, o.streams)
	}
	if err == nil {
		err = o.negotiate(c)
	}
	if err == nil {
		err = o.handle(a, c, by)
	}
	if err == nil && o.produces == "" {
		tagged(c)
	}
	return err
}

// base is where all operations live.
const base = "/api/v1"

// fiberPath turns {name} into the router's :name.
func fiberPath(path string) string {
	return base + strings.NewReplacer("{", ":", "}", "").Replace(path)
}

// Serve answers on a listener until Stop.
func (a *API) Serve(l net.Listener) error {
	l = http1.Rated(l)
	if a.tls != nil {
		l = tls.NewListener(l, a.tls)
	}
	return a.router.Listener(l, fiber.ListenConfig{DisableStartupMessage: true})
}

// Stop ends the streams, takes no new requests, and waits for those under way.
func (a *API) Stop(ctx context.Context) error {
	a.stopOnce.Do(func() { close(a.stopping) })
	return a.router.ShutdownWithContext(ctx)
}

type requestIDKey struct{}

// requestID is the id of a call, which its problems and its record carry.
func requestID(c fiber.Ctx) string {
	if id := fiber.Locals[string](c, requestIDKey{}); id != "" {
		return id
	}
	id, err := uuid.NewV7()
	if err != nil {
		id = uuid.New()
	}
	fiber.Locals(c, requestIDKey{}, id.String())
	c.Set("Inner-Ladder-Request", id.String())
	return id.String()
}
