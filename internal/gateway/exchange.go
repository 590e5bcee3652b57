package gateway

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/signature"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/http1"
	"innerladder/internal/oip"
	"innerladder/internal/recorder"
	"innerladder/internal/tracing"
	"innerladder/internal/upstream"

	"github.com/cespare/xxhash/v2"
	"github.com/google/uuid"
)

// exchange is one request with its answer. It lives on its caller's goroutine.
type exchange struct {
	*caller
	g *Gateway
	// keep is whether the connection goes on, linger whether the caller may still send
	// what nobody reads, begun whether some of the answer was written.
	keep, linger, begun bool

	endpoint *endpoint
	// callerName is whose key the request has, where that was looked at.
	callerName string
	// pinned is set when the caller named the version.
	pinned bool
	// told is set when a rule sent it to its lane: it is counted apart, as what is pinned, and another lane may deal
	// with it all the same.
	told bool
	// planned is the lane that was picked; lane the one that deals with the request now.
	planned, lane *lane
	drawn         bool
	// who stands for the name of a caller who keeps their version, 0 where there is none.
	who uint64
	// id is the text of uuid.
	id   [36]byte
	uuid uuid.UUID
	// question is set when something about the gateway or an endpoint is asked, headless when the head could not be
	// read, willObserve when a lane counts how the request ends.
	question, headless, willObserve bool
	// status is what the caller was told, refused why it was an answer of ours, said the body of an error that a
	// model server gave.
	status  int
	refused *refusal
	said    []byte

	// body is the request's, or as much of it as is held: in memory that was lent, request,
	// or still in the connection's buffer, peeked bytes of it. answered is memory lent for
	// the answer. What was reserved for both is given back at the end.
	framing           http1.Framing
	body              []byte
	request, answered *[]byte
	peeked            int
	replyPeeked       int
	reserved          int64
	reservedStream    int64
	// streamed is set when the body goes through without being held, sent when some of it
	// has gone.
	streamed, sent bool

	// copied is set for a copy, which nobody waits for.
	copied *copied

	// start is when the request had been read; deadline when a model server must have
	// answered.
	start, deadline time.Time
	backend         time.Duration
	// trace is where the request stands in a trace, tried where the try stands that goes on; zero for copies.
	trace, tried tracing.Context
	// callersFault is what was wrong with a body as it was streamed; nobodyLeft is set when
	// all addresses that were tried refused the connection.
	callersFault *refusal
	nobodyLeft   bool
}

// giveBack ends what the exchange has borrowed.
func (x *exchange) giveBack() {
	for _, b := range []*[]byte{x.request, x.answered} {
		if b != nil {
			x.g.bodies.takeBack(b)
		}
	}
	x.request, x.answered = nil, nil
	x.g.bodies.release(x.reserved, x.reservedStream)
	x.reserved, x.reservedStream = 0, 0
	if x.peeked > 0 {
		_, _ = x.wire.R.Discard(x.peeked)
		x.peeked = 0
	}
}

// refuse answers with an error of the protocol. What the caller still sends is not read
// any more when it is more than a little.
func (x *exchange) refuse(r *refusal) {
	if (x.body == nil && !x.framing.Empty()) || x.requestLeft() {
		x.keep, x.linger = false, true
	}
	closes := r.closes || !x.keep
	x.keep = !closes
	x.begun = true
	x.status, x.refused = r.status, r
	var lines []byte
	if x.lane != nil {
		lines = x.namedLines(nil)
	} else {
		x.nameRefused()
		lines = x.refusedLines()
	}
	x.turnedAway(r)
	x.writeOwn(r.status, r.body(), lines, closes, r.retries())
}

// namedLines appends the headers that say who answered, and the request's id.
func (x *exchange) namedLines(out []byte) []byte {
	out = append(append(out, x.lane.named...), RequestHeader+": "...)
	return append(append(out, x.id[:]...), "\r\n"...)
}

// say answers a question about the gateway or an endpoint.
func (x *exchange) say(v any, lines []byte) {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // they are all made here
	}
	if !x.framing.Empty() {
		x.keep, x.linger = false, true
	}
	x.begun = true
	x.writeOwn(http.StatusOK, b, lines, !x.keep, false)
}

// serve finds out what is asked and answers it.
func (x *exchange) serve() {
	var err error
	if x.framing, err = x.head.RequestFraming(); err != nil {
		var bad *http1.BadMessage
		errors.As(err, &bad)
		x.framing = http1.Framing{Length: -1}
		x.refuse(&refusal{bad.Status, "gateway.bad_request", bad.What, true})
		return
	}
	path := x.head.Target
	if after, ok := bytes.CutPrefix(path, []byte("http://")); ok { // a proxy's form
		slash := bytes.IndexByte(after, '/')
		if slash < 0 {
			slash = len(after)
		}
		path = after[slash:]
	}
	path, _, _ = bytes.Cut(path, []byte("?"))
	get := string(x.head.Method) == http.MethodGet || string(x.head.Method) == http.MethodHead
	switch rest, isModel := bytes.CutPrefix(path, []byte("/v2/models/")); {
	case isModel:
		x.model(rest, get)
	case string(path) == "/v2" && get:
		x.say(oip.ServerMetadata{Name: "inner-ladder", Version: "2", Extensions: []string{}}, nil)
	case string(path) == "/v2/health/live" && get:
		x.say(map[string]bool{"live": true}, nil)
	case string(path) == "/v2/health/ready" && get:
		x.say(map[string]bool{"ready": true}, nil)
	default:
		x.noSuchPath(http.StatusNotFound)
	}
}

func (x *exchange) noSuchPath(status int) {
	path := strconv.QuoteToASCII(string(x.head.Target[:min(len(x.head.Target), 200)]))
	x.refuse(&refusal{status, "gateway.no_such_path", fmt.Sprintf("%s %s is no path of the Open Inference Protocol; "+
		"call POST /v2/models/ENDPOINT/infer", x.head.Method, path[1:len(path)-1]), false})
}

// model answers what is asked of an endpoint: NAME[/versions/VERSION][/ready or /infer].
func (x *exchange) model(path []byte, get bool) {
	name, rest := segment(path)
	var version []byte
	if after, ok := bytes.CutPrefix(rest, []byte("versions/")); ok {
		version, rest = segment(after)
	}
	infer := string(rest) == "infer"
	x.question = !infer && get
	if infer {
		x.trace = x.g.config.Traces.Begin(x.head.Get(http1.Traceparent))
		if x.g.config.Traces.Wants(&x.trace) {
			defer x.traced(x.now)
		}
	}
	switch {
	case len(name) == 0 || (len(rest) > 0 && !infer && string(rest) != "ready"):
		x.noSuchPath(http.StatusNotFound)
		return
	case infer != (string(x.head.Method) == http.MethodPost) || (!infer && !get):
		x.noSuchPath(http.StatusMethodNotAllowed)
		return
	}
	if r := x.find(name, version); r != nil {
		x.refuse(r)
		return
	}
	switch {
	case infer:
		x.infer()
	case len(rest) > 0:
		x.ready()
	default:
		x.metadata()
	}
}

// segment cuts the first segment off a path and decodes it; it is empty when it cannot be.
func segment(path []byte) (first, rest []byte) {
	first, rest, _ = bytes.Cut(path, []byte("/"))
	if bytes.IndexByte(first, '%') >= 0 {
		plain, err := url.PathUnescape(string(first))
		if err != nil {
			return nil, rest
		}
		first = []byte(plain)
	}
	return first, rest
}

// find finds the endpoint of the request and, when the path names a version, its lane.
func (x *exchange) find(name, version []byte) *refusal {
	e := x.g.find(name)
	if e == nil {
		return &refusal{
			http.StatusNotFound,
			"endpoint.unknown",
			"there is no endpoint " + strconv.QuoteToASCII(string(name)),
			false,
		}
	}
	x.endpoint = e
	if e.keyed && !x.isCaller(e) {
		return &refusal{
			http.StatusUnauthorized,
			"endpoint.key",
			e.name + " answers only callers that have a key; send it as " + KeyHeader,
			true,
		}
	}
	if len(e.lanes) == 0 {
		return &refusal{
			http.StatusServiceUnavailable,
			"endpoint.no_split",
			e.name + " has no split yet, so nothing answers for it; make one with: innerladder split " + e.name +
				" MODEL@NUMBER=100",
			false,
		}
	}
	if e.elsewhere {
		return &refusal{
			http.StatusMisdirectedRequest,
			"endpoint.elsewhere",
			e.name + " is answered for elsewhere: " + strings.Join(e.versions(), ", ") +
				" runs where this gateway does not reach; call it there",
			false,
		}
	}
	if len(version) > 0 {
		if x.planned = e.lane(string(version)); x.planned == nil {
			return &refusal{
				http.StatusNotFound, "endpoint.no_such_lane",
				fmt.Sprintf("%s is no version of the split in force, %s; these are: %s",
					strconv.QuoteToASCII(string(version)), e.describe(), strings.Join(e.versions(), ", ")), false,
			}
		}
		x.pinned = true
	}
	return nil
}

// isCaller reports whether the key of the request is one that an endpoint knows, and takes note of whose it is.
func (x *exchange) isCaller(e *endpoint) (known bool) {
	x.callerName, known = e.callers[sha256.Sum256(x.key())]
	return known
}

// key reads the key that a caller sent.
func (x *exchange) key() []byte {
	if key := x.head.Get(http1.LadderKey); len(key) > 0 {
		return key
	}
	key, _ := bytes.CutPrefix(x.head.Get(http1.Authorization), []byte("Bearer "))
	return key
}

// ready says whether anybody can answer for the endpoint.
func (x *exchange) ready() {
	var a *upstream.Address
	if x.pinned {
		a = upstream.Choose(x.planned.addresses, nil)
	} else {
		_, a = x.endpoint.instead(nil)
	}
	if a == nil {
		x.refuse(x.nobody())
		return
	}
	x.say(map[string]any{"name": x.endpoint.name, "ready": true}, nil)
}

// nobody says that no lane can answer.
func (x *exchange) nobody() *refusal {
	e := x.endpoint
	return &refusal{
		http.StatusServiceUnavailable, "endpoint.no_healthy_lane",
		"no model server of " + e.describe() + " is healthy (" + strings.Join(
			e.versions(),
			", ",
		) + "); see: innerladder endpoint show " + e.name, false,
	}
}

// infer is the way of a request. What can be refused from the head alone has been.
func (x *exchange) infer() {
	// A rule may look into the body, which is read first then; else a lane is known before, and named in refusals.
	if !x.endpoint.targets.Bodies {
		x.toLane()
	}
	if r := x.readBody(); r != nil {
		x.refuse(r)
		return
	}
	if x.endpoint.targets.Bodies {
		x.toLane()
	}
	if r := x.misfit(); r != nil {
		x.refuse(r)
		return
	}
	x.look(x.wire)
	x.start = x.now
	x.deadline = x.start.Add(x.g.config.Timeout)
	x.willObserve = true
	failure := x.attempt()
	switch {
	case failure == nil: // it is answered and observed
	case x.callersFault != nil:
		x.refuse(x.callersFault)
		x.observe(sketch.CallerError, nil)
	default:
		class := failure.Class
		if class == sketch.Unavailable { // for the caller it is a failure all the same
			class = sketch.NotReached
		}
		x.refuse(x.explain(failure))
		x.observe(class, nil)
	}
}

// misfit says why a request does not keep the contract, where that is asked. Bodies that are streamed or binary are not
// looked at: the model server sees them first.
func (x *exchange) misfit() *refusal {
	takes := x.endpoint.takes
	if takes == nil || x.streamed || len(x.head.Get(http1.InferenceHeaderContentLength)) > 0 {
		return nil
	}
	why := ""
	tensors, err := oip.AnyTensors(x.body, "inputs")
	if err != nil {
		why = err.Error()
	} else {
		sent := make([]signature.Sent, len(tensors))
		for i, t := range tensors {
			sent[i] = signature.Sent{
				Tensor: signature.Tensor{Name: t.Name, Datatype: t.Datatype, Shape: t.Shape}, Values: t.Data,
			}
		}
		why = takes.Misfit(sent)
	}
	if why == "" {
		return nil
	}
	return &refusal{
		http.StatusBadRequest, "endpoint.contract",
		"the request does not keep the contract of " + x.endpoint.name + ": " + why + "; see it with GET " +
			string(oip.ModelPath(x.endpoint.name)), false,
	}
}

// toLane chooses the lane of the request and gives it the id that says so.
func (x *exchange) toLane() {
	if x.planned == nil {
		var who string
		x.planned, who, x.told = x.endpoint.assign(x)
		if x.drawn = who == "" && !x.told; who != "" {
			x.who = xxhash.Sum64String(who) | 1
		}
	}
	x.lane = x.planned
	x.name(x.now)
}

// name gives the request the id that says who answers.
func (x *exchange) name(now time.Time) {
	origin := traffic.Origin{
		Endpoint: x.endpoint.id, Split: x.endpoint.split, Lane: x.lane.position, Apart: x.pinned || x.told,
	}
	if origin.Lane >= traffic.NoLane {
		origin.Lane = traffic.Unwritten
	}
	x.nameAs(now, origin)
}

func (x *exchange) nameAs(now time.Time, origin traffic.Origin) {
	x.uuid = x.g.config.IDs.Make(now, origin, x.g.count.Add(1))
	text, _ := x.uuid.MarshalText() // never fails
	copy(x.id[:], text)
}

// observe records how the request ended at the lane that dealt with it; answer is the
// body, nil when there is none to look at.
func (x *exchange) observe(class sketch.Class, answer []byte) {
	rec := x.lane.recorder
	if x.pinned || x.told {
		rec = x.lane.pinned
	}
	x.now = time.Now()
	total := x.now.Sub(x.start)
	rec.Observe(x.shard, recorder.Observation{
		Class: class, Total: total, Backend: min(x.backend, total),
		Drawn: x.drawn && x.lane == x.planned, Fallback: x.lane != x.planned, Caller: x.who, Known: x.known(),
		Name: x.calledBy(), Count: x.copied == nil,
	})
	x.keepRequest(class, total, answer)
	if class != sketch.Answered {
		return
	}
	if x.streamed || answer == nil {
		rec.Skip()
	} else if rec.Wants(len(x.body) + len(answer)) {
		rec.Offer(x.body, answer)
	}
}

// known stands for who the caller is, by the name that keeps their version or by their key, 0 where they do not
// say. Of copies nobody gets an answer.
func (x *exchange) known() uint64 {
	switch {
	case x.who != 0 || x.copied != nil:
		return x.who
	case x.callerName != "":
		return xxhash.Sum64String(x.callerName) | 1
	}
	return 0
}

// longestName is how much is looked at of a name that a caller gives.
const longestName = 80

// calledBy is the name by which a caller is counted: that of their key, or else the one that they give.
func (x *exchange) calledBy() string {
	if x.callerName != "" {
		return x.callerName
	}
	given := x.head.Get(http1.LadderCaller)
	return string(given[:min(len(given), longestName)])
}

// failed records at a lane that it has failed a request that another lane, or another
// address of it, deals with now.
func (x *exchange) failed(l *lane, f *upstream.Failure) {
	rec := l.recorder
	if x.pinned || x.told {
		rec = l.pinned
	}
	rec.Observe(x.shard, recorder.Observation{
		Class: f.Class, Drawn: x.drawn && l == x.planned, Lost: x.drawn && l == x.planned, Caller: x.who,
	})
}

// explain says why a model server did not answer, without what only we may know.
func (x *exchange) explain(f *upstream.Failure) *refusal {
	version := x.lane.version
	if x.nobodyLeft {
		return x.nobody()
	}
	switch f.Class {
	case sketch.Unavailable:
		return x.nobody()
	case sketch.TimedOut:
		return &refusal{
			http.StatusGatewayTimeout,
			"model_server.too_slow",
			fmt.Sprintf("%s did not answer within %s", version, x.g.config.Timeout),
			false,
		}
	case sketch.Malformed:
		return &refusal{http.StatusBadGateway, "model_server.malformed", version + " " + f.What, false}
	case sketch.Abandoned:
		return &refusal{499, "gateway.caller_left", "the caller left", true}
	}
	if f.Safe && !f.Refused {
		return &refusal{http.StatusServiceUnavailable, "model_server.unreachable", version + " " + f.What, false}
	}
	return &refusal{http.StatusBadGateway, "model_server.failed", version + " " + f.What, false}
}
