// Package gateway is the data plane: it takes a request, picks a lane, forwards it,
// answers, and records one observation. It owns nothing: it reads an immutable table
// behind an atomic pointer, never touches the database, and goes on answering with the
// last table when everything else is down.
package gateway

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"log/slog"
	"math/rand/v2"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"

	"github.com/gofiber/fiber/v3"
	"github.com/google/uuid"
	"github.com/valyala/fasthttp"
)

const (
	// VersionHeader names, on every answer, the version that gave it.
	VersionHeader = "Inner-Ladder-Version"
	// RequestHeader carries the id of the request, to the model server and back.
	RequestHeader = "Inner-Ladder-Request"
	// CallerHeader is set by callers who want to stay on their lane.
	CallerHeader = "Inner-Ladder-Caller"
	// KeyHeader carries the key of callers of keyed endpoints; Authorization: Bearer will
	// do as well. It is not passed on.
	KeyHeader = "Inner-Ladder-Key"
	// keyStart is how keys begin.
	keyStart = "ilc_"
)

const (
	// largestBody is the largest request or answer that is passed on.
	largestBody = 64 << 20
	// mostAttempts is how many model servers are tried for one request when
	// connections are refused.
	mostAttempts = 3
)

// Config says how a gateway behaves.
type Config struct {
	// Timeout is how long a model server may take to answer.
	Timeout time.Duration
	// Connections is the most connections to one model server.
	Connections int
	// IDs makes the ids of requests.
	IDs *traffic.RequestIDs
	// Unreachable is told, without waiting for it, when a model server refused a
	// connection; it may be nil.
	Unreachable func(address string)
}

// Gateway answers for all endpoints.
type Gateway struct {
	app         *fiber.App
	recorder    *recorder.Recorder
	log         *slog.Logger
	timeout     time.Duration
	connections int
	unreachable func(string)
	ids         *traffic.RequestIDs
	// count is that of requests, which makes ids unique.
	count atomic.Uint64

	table atomic.Pointer[table]

	// swapping guards addresses, by server and path, which the request path never reads.
	swapping  sync.Mutex
	addresses map[string]*address
}

// New makes a gateway without routes.
func New(c Config, rec *recorder.Recorder, log *slog.Logger) *Gateway {
	g := &Gateway{recorder: rec, log: log, timeout: c.Timeout, connections: c.Connections, unreachable: c.Unreachable, ids: c.IDs, addresses: map[string]*address{}}
	g.table.Store(&table{})
	g.app = fiber.New(fiber.Config{
		AppName: "Inner Ladder gateway", BodyLimit: largestBody, ReadBufferSize: 16 << 10,
		DisableDefaultContentType: true, IdleTimeout: 2 * time.Minute, ReadTimeout: time.Minute, ErrorHandler: g.failed,
	})
	g.app.Get("/v2", g.server)
	g.app.Get("/v2/health/live", func(c fiber.Ctx) error { return c.JSON(fiber.Map{"live": true}) })
	g.app.Get("/v2/health/ready", func(c fiber.Ctx) error { return c.JSON(fiber.Map{"ready": true}) })
	for _, base := range []string{"/v2/models/:endpoint", "/v2/models/:endpoint/versions/:version"} {
		g.app.Get(base, g.metadata)
		g.app.Get(base+"/ready", g.ready)
		g.app.Post(base+"/infer", g.infer)
	}
	return g
}

// Serve answers on a listener until Stop.
func (g *Gateway) Serve(l net.Listener) error {
	return g.app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true})
}

// Stop takes no new requests and waits for those under way.
func (g *Gateway) Stop(ctx context.Context) error { return g.app.ShutdownWithContext(ctx) }

// refuse answers with an error of the protocol.
func refuse(c fiber.Ctx, status int, code, sentence string) error {
	c.Response().Reset()
	c.Status(status)
	b, err := json.Marshal(struct {
		Error string `json:"error"`
		Code  string `json:"code"`
	}{sentence, code})
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, fiber.MIMEApplicationJSON)
	return c.Send(b)
}

// failed answers for what no route took.
func (g *Gateway) failed(c fiber.Ctx, err error) error {
	var e *fiber.Error
	if !errors.As(err, &e) {
		g.log.Error("the gateway failed", "path", c.Path(), "error", err)
		return refuse(c, fiber.StatusInternalServerError, "gateway.failed", "the gateway failed; its log says why")
	}
	switch e.Code {
	case fiber.StatusNotFound, fiber.StatusMethodNotAllowed:
		return refuse(c, e.Code, "gateway.no_such_path", c.Method()+" "+c.Path()+" is no path of the Open Inference Protocol; call POST /v2/models/ENDPOINT/infer")
	case fiber.StatusRequestEntityTooLarge:
		return refuse(c, e.Code, "gateway.too_large", "the request is larger than "+strconv.Itoa(largestBody>>20)+" MiB")
	}
	return refuse(c, e.Code, "gateway.refused", e.Message)
}

func (g *Gateway) server(c fiber.Ctx) error {
	return c.JSON(oip.ServerMetadata{Name: "inner-ladder", Version: "2", Extensions: []string{}})
}

// find returns the endpoint of the request and, when the path names a version, its
// lane. When it returns nil it has answered already.
func (g *Gateway) find(c fiber.Ctx) (e *endpoint, pinned *lane, err error) {
	name := c.Params("endpoint")
	e = g.table.Load().endpoints[name]
	if e == nil {
		return nil, nil, refuse(c, fiber.StatusNotFound, "endpoint.unknown", "there is no endpoint "+strconv.Quote(name))
	}
	if e.keyed && !e.callers[sha256.Sum256([]byte(keyOf(&c.Request().Header)))] {
		c.Response().SetConnectionClose()
		return nil, nil, refuse(c, fiber.StatusUnauthorized, "endpoint.key", e.name+" answers only callers that have a key; send it as "+KeyHeader)
	}
	if len(e.lanes) == 0 {
		return nil, nil, refuse(c, fiber.StatusServiceUnavailable, "endpoint.no_split", e.name+" has no split yet, so nothing answers for it; make one with: innerladder split "+e.name+" MODEL@NUMBER=100")
	}
	if version := c.Params("version"); version != "" {
		if pinned = e.lane(version); pinned == nil {
			return nil, nil, refuse(c, fiber.StatusNotFound, "endpoint.no_such_lane",
				version+" is no version of the split in force, "+e.describe()+"; these are: "+strings.Join(e.versions(), ", "))
		}
	}
	return e, pinned, nil
}

// keyOf reads the key that a caller sent.
func keyOf(h *fasthttp.RequestHeader) string {
	if key := h.Peek(KeyHeader); len(key) > 0 {
		return string(key)
	}
	key, _ := strings.CutPrefix(string(h.Peek(fiber.HeaderAuthorization)), "Bearer ")
	return key
}

func (g *Gateway) ready(c fiber.Ctx) error {
	e, pinned, err := g.find(c)
	if e == nil {
		return err
	}
	ready := e.healthy()
	if pinned != nil {
		ready = pinned.choose(nil) != nil
	}
	if !ready {
		return g.nobody(c, e)
	}
	return c.JSON(fiber.Map{"name": e.name, "ready": true})
}

// nobody answers when no lane can.
func (g *Gateway) nobody(c fiber.Ctx, e *endpoint) error {
	return refuse(c, fiber.StatusServiceUnavailable, "endpoint.no_healthy_lane",
		"no model server of "+e.describe()+" is healthy ("+strings.Join(e.versions(), ", ")+"); see: innerladder endpoint show "+e.name)
}

// metadata asks the main lane's model server, or the named version's, and answers in
// the endpoint's name.
func (g *Gateway) metadata(c fiber.Ctx) error {
	e, l, err := g.find(c)
	if e == nil {
		return err
	}
	var a *target
	if l != nil {
		a = l.choose(nil)
	} else {
		l, a = e.instead(nil)
	}
	if a == nil {
		return g.nobody(c, e)
	}
	req := fasthttp.AcquireRequest()
	defer fasthttp.ReleaseRequest(req)
	res := fasthttp.AcquireResponse()
	defer fasthttp.ReleaseResponse(res)
	req.SetRequestURI(a.url + l.path)
	for _, h := range e.headers {
		req.Header.Set(h.Name, h.Value)
	}
	if err := a.client.DoTimeout(req, res, g.timeout); err != nil {
		return refuse(c, fiber.StatusBadGateway, "model_server.failed", l.version+" did not answer: "+err.Error())
	}
	var m oip.ModelMetadata
	if res.StatusCode() != fiber.StatusOK || json.Unmarshal(res.Body(), &m) != nil {
		return refuse(c, fiber.StatusBadGateway, "model_server.failed", l.version+" did not answer with model metadata")
	}
	m.Name, m.Versions = e.name, e.versions()
	c.Set(VersionHeader, l.version)
	return c.JSON(m)
}

// infer is the way of a request: find the endpoint, pick a lane, forward, name the
// version, observe.
func (g *Gateway) infer(c fiber.Ctx) error {
	start := time.Now()
	e, pinned, err := g.find(c)
	if e == nil {
		return err
	}
	picked, observation := e.assign(c.Get(CallerHeader), pinned)
	id := g.newID(e, picked, start)

	req := fasthttp.AcquireRequest()
	defer fasthttp.ReleaseRequest(req)
	prepare(req, c.Request(), id)
	for _, h := range e.headers {
		req.Header.Set(h.Name, h.Value)
	}

	l, failure, sent := picked, error(nil), start
	var tried []*target
	for range mostAttempts {
		a := l.choose(tried)
		if a == nil && pinned == nil {
			// The lane cannot answer; a caller's request matters more than its lane.
			if l, a = e.instead(tried); l != picked && a != nil {
				observation.Fallback = true
				// The id says who answers; nobody has seen the first one.
				id = g.newID(e, l, start)
				req.Header.SetCanonical(requestHeader, id)
			}
		}
		if a == nil {
			break
		}
		failure = g.forward(a, req, c.Response())
		received := time.Now()
		observation.Backend, sent = received.Sub(sent), received
		if !refused(failure) {
			return g.answer(c, e, picked, l, pinned != nil, observation, failure, start, id)
		}
		// The request never got there, so it can safely go elsewhere.
		a.down.Store(true)
		tried = append(tried, a)
		if g.unreachable != nil {
			g.unreachable(a.url)
		}
	}
	return g.answer(c, e, picked, picked, pinned != nil, observation, errors.Join(errNobody, failure), start, id)
}

var errNobody = errors.New("no healthy model server")

// newID makes the id of a request that a lane is about to answer.
func (g *Gateway) newID(e *endpoint, l *lane, start time.Time) []byte {
	id := uuid.UUID(g.ids.Make(start, traffic.Origin{Endpoint: e.id, Split: e.split, Lane: l.position}, g.count.Add(1)))
	text, _ := id.MarshalText() // never fails
	return text
}

// assign picks the lane for a caller, at random when there is no caller's name.
func (e *endpoint) assign(caller string, pinned *lane) (*lane, recorder.Observation) {
	switch {
	case pinned != nil:
		return pinned, recorder.Observation{}
	case caller != "":
		return e.lanes[traffic.Pick(e.plain, traffic.Point(e.name, e.plain, caller))], recorder.Observation{}
	}
	return e.lanes[traffic.Pick(e.plain, rand.IntN(traffic.Whole))], recorder.Observation{Drawn: true}
}

// aboutConnection reports whether a header is about one connection only (RFC 9110,
// section 7.6.1) and must not be passed on.
func aboutConnection(name []byte) bool {
	switch string(name) {
	case "Connection", "Keep-Alive", "Proxy-Authenticate", "Proxy-Authorization", "Proxy-Connection", "Te", "Trailer", "Transfer-Encoding", "Upgrade":
		return true
	}
	return false
}

var (
	versionHeader = []byte(VersionHeader)
	requestHeader = []byte(RequestHeader)
)

// prepare copies what is passed on of a request: all headers but those about the
// connection, so W3C trace context too, and the body as it is.
func prepare(to, from *fasthttp.Request, id []byte) {
	from.Header.CopyTo(&to.Header)
	for name := range from.Header.All() {
		// The version is written into the answer, so the answer must not be compressed.
		if aboutConnection(name) || string(name) == "Accept-Encoding" {
			to.Header.DelBytes(name)
		}
	}
	// Our callers' keys are no business of the model servers.
	to.Header.Del(KeyHeader)
	if bytes.HasPrefix(from.Header.Peek(fiber.HeaderAuthorization), []byte("Bearer "+keyStart)) {
		to.Header.Del(fiber.HeaderAuthorization)
	}
	to.Header.SetCanonical(requestHeader, id)
	to.SetBodyRaw(from.Body())
}

// forward sends the request to one model server and reads its answer into res.
func (g *Gateway) forward(a *target, req *fasthttp.Request, res *fasthttp.Response) error {
	req.SetURI(a.infer)
	a.busy.Add(1)
	defer a.busy.Add(-1)
	return a.client.DoTimeout(req, res, g.timeout)
}

// refused reports whether a request never reached the model server.
func refused(err error) bool {
	if err == nil {
		return false
	}
	var op *net.OpError
	return errors.Is(err, fasthttp.ErrDialTimeout) || (errors.As(err, &op) && op.Op == "dial")
}

// answer finishes a request that lane l dealt with, and records it.
func (g *Gateway) answer(c fiber.Ctx, e *endpoint, picked, l *lane, pinned bool, o recorder.Observation, failure error, start time.Time, id []byte) error {
	res := c.Response()
	o.Class = classify(failure, res.StatusCode())
	if failure == nil {
		for name := range res.Header.All() {
			if aboutConnection(name) {
				res.Header.DelBytes(name)
			}
		}
		res.Header.ResetConnectionClose() // that was between us and the model server
		if nameable(res) {
			res.SetBodyRaw(l.naming.Name(res.Body()))
		}
	} else if err := g.explain(c, e, l, failure); err != nil {
		return err
	}
	res.Header.SetCanonical(versionHeader, l.header)
	res.Header.SetCanonical(requestHeader, id)

	rec := l.recorder
	switch {
	case pinned:
		rec = l.pinned
	case l != picked && o.Drawn:
		picked.recorder.CountDrawn(start)
		o.Drawn = false
	}
	now := time.Now()
	o.Total = now.Sub(start)
	if rec.Observe(o, now) {
		rec.Offer(append([]byte(nil), c.Request().Body()...), append([]byte(nil), res.Body()...))
	}
	return nil
}

// explain answers for a model server that did not.
func (g *Gateway) explain(c fiber.Ctx, e *endpoint, l *lane, failure error) error {
	switch {
	case errors.Is(failure, errNobody):
		return g.nobody(c, e)
	case errors.Is(failure, fasthttp.ErrTimeout):
		return refuse(c, fiber.StatusGatewayTimeout, "model_server.too_slow", l.version+" did not answer within "+g.timeout.String())
	case errors.Is(failure, fasthttp.ErrNoFreeConns):
		return refuse(c, fiber.StatusServiceUnavailable, "model_server.busy", "all "+strconv.Itoa(g.connections)+" connections to "+l.version+" are in use")
	}
	return refuse(c, fiber.StatusBadGateway, "model_server.failed", l.version+" broke off: "+failure.Error())
}

func classify(failure error, status int) sketch.Class {
	switch {
	case errors.Is(failure, fasthttp.ErrTimeout):
		return sketch.TimedOut
	case failure != nil:
		return sketch.NotReached
	case status >= 500:
		return sketch.ServerError
	case status >= 400:
		return sketch.CallerError
	}
	return sketch.Answered
}

// nameable reports whether the version can be written into an answer's body. An answer
// with binary tensors states the length of its JSON part in a header and is left as it
// is; its header names the version all the same.
func nameable(res *fasthttp.Response) bool {
	return res.StatusCode() == fiber.StatusOK && len(res.Header.Peek("Inference-Header-Content-Length")) == 0
}
