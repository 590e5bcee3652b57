// Package api is the control plane over HTTP: the routes, authentication, server-sent
// events, metrics, and the console's files.
package api

import (
	"context"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/app"
	"innerladder/internal/app/act"
	"innerladder/internal/core/fault"
	"innerladder/internal/gateway"
	"innerladder/internal/http1"
	"innerladder/internal/jobs"
	"innerladder/internal/recorder"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"
	"github.com/gofiber/fiber/v3/middleware/helmet"
	"github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/google/uuid"
)

// API serves the control plane.
type API struct {
	router   *fiber.App
	app      *app.App
	log      *slog.Logger
	document []byte
	// provider vouches for people; nil when there is none.
	provider *Provider
	proxies  []netip.Prefix
	// stopping is closed when the API stops, to end the streams.
	stopping chan struct{}
	stopOnce sync.Once

	nowMu    sync.Mutex
	nowAt    time.Time
	nowCache []wire.EndpointNow
}

// largestBody is the largest JSON body; files are streamed and may be larger.
const largestBody = 4 << 20

// Config says what an API serves besides the service itself.
type Config struct {
	// Console holds the console's files, or is empty when it was not built.
	Console Console
	// Provider vouches for people; nil when there is none.
	Provider *Provider
	// Proxies are the ranges of proxies whose word is taken where a call comes from.
	Proxies []netip.Prefix
	// Jobs and Gateway say how jobs and the gateway fare, for the metrics; nil when there is
	// nothing to say.
	Jobs    func() []jobs.Report
	Gateway func() gateway.Status
}

// New makes the API.
func New(does *app.App, rec *recorder.Recorder, conf Config, log *slog.Logger) (*API, error) {
	doc, err := Document()
	if err != nil {
		return nil, err
	}
	a := &API{
		app: does, log: log, document: doc, provider: conf.Provider, proxies: conf.Proxies,
		stopping: make(chan struct{}),
	}
	a.router = fiber.New(fiber.Config{
		AppName: "Inner Ladder", BodyLimit: largestBody, StreamRequestBody: true, DisablePreParseMultipartForm: true,
		UnescapePath: true, Immutable: true, IdleTimeout: 2 * time.Minute, ReadTimeout: http1.BlockTime,
		ErrorHandler: a.failed,
	})
	a.router.Use(recover.New())
	a.router.Use(helmet.New(helmet.Config{
		// Nothing at all, unless a handler allows more.
		ContentSecurityPolicy: "default-src 'none'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'",
		ReferrerPolicy:        "no-referrer", XFrameOptions: "DENY", HSTSMaxAge: 365 * 24 * 3600,
	}))
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
		c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSON)
		return c.Send(a.document)
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

// answer answers a call of an operation: the body is bounded, who calls is found out, and both sides agree on the form.
func (a *API) answer(c fiber.Ctx, o operation) error {
	c.Set(fiber.HeaderCacheControl, "no-store")
	if !o.streams {
		if err := bound(c); err != nil {
			return err
		}
	}
	by, err := a.admit(c, o)
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
	return a.router.Listener(http1.Rated(l), fiber.ListenConfig{DisableStartupMessage: true})
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

// admit finds out who calls; nobody where an operation needs no sign-in.
func (a *API) admit(c fiber.Ctx, o operation) (act.Actor, error) {
	id := requestID(c)
	if o.permission == "" {
		return act.Actor{}, nil
	}
	by, err := a.caller(c)
	if err != nil {
		return by, err
	}
	if by.Repeat, err = repeatKey(c, o.streams); err != nil {
		return by, err
	}
	by.RequestID, by.Address = id, a.address(c)
	// The project is known only when the thing has been found; whoever has the permission in no
	// project is turned away before that.
	return by, by.May(o.permission)
}

// address is where a call comes from. What a proxy of ours says about that is believed,
// back to the first address that is no proxy of ours; what anybody else says is not.
func (a *API) address(c fiber.Ctx) string {
	at := c.RequestCtx().RemoteIP().String()
	said := strings.Split(c.Get(fiber.HeaderXForwardedFor), ",")
	for i := len(said) - 1; i >= 0 && a.isProxy(at); i-- {
		if _, err := netip.ParseAddr(strings.TrimSpace(said[i])); err != nil {
			break
		}
		at = strings.TrimSpace(said[i])
	}
	return at
}

func (a *API) isProxy(address string) bool {
	at, err := netip.ParseAddr(address)
	return err == nil && slices.ContainsFunc(a.proxies, func(p netip.Prefix) bool { return p.Contains(at.Unmap()) })
}

// caller finds who calls: by a bearer token, or by the console's cookie.
func (a *API) caller(c fiber.Ctx) (act.Actor, error) {
	find, err := a.identity(c)
	if err != nil {
		return act.Actor{}, err
	}
	return find(c.Context())
}

// identity is how whoever makes a call is found, now and again later while the call goes on.
func (a *API) identity(c fiber.Ctx) (func(context.Context) (act.Actor, error), error) {
	if token, ok := strings.CutPrefix(c.Get(fiber.HeaderAuthorization), "Bearer "); ok {
		return func(ctx context.Context) (act.Actor, error) { return a.app.People.ByToken(ctx, token) }, nil
	}
	session := c.Cookies(sessionCookie)
	if session == "" {
		return nil, fault.New(fault.Unsigned, "sign_in.needed", "the call has no token").
			In("Authorization").
			Do("send Authorization: Bearer TOKEN, or sign in with: innerladder login")
	}
	if err := sameSite(c); err != nil {
		return nil, err
	}
	return func(ctx context.Context) (act.Actor, error) { return a.app.People.BySession(ctx, session) }, nil
}

// sameSite refuses changes that another site has a browser make with our cookie. Browsers say
// where a call comes from; a call with a cookie that does not say so is refused.
func sameSite(c fiber.Ctx) error {
	if c.Method() == fiber.MethodGet || c.Method() == fiber.MethodHead {
		return nil
	}
	site, origin := c.Get("Sec-Fetch-Site"), c.Get(fiber.HeaderOrigin)
	u, err := url.Parse(origin)
	own := err == nil && origin != "" && u.Host == c.Host()
	if (site == "same-origin" || site == "" || site == "none") && (own || (origin == "" && site == "same-origin")) {
		return nil
	}
	return fault.New(fault.Forbidden, "session.other_site",
		"the call comes from another site, or does not say where from").In("Origin").Do("use the console, or a token")
}
