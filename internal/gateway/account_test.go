package gateway

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/traffic"
	"innerladder/internal/requestlog"
	"innerladder/test/poll"

	"github.com/google/uuid"
)

// logging is a rig that keeps requests; what was kept of an endpoint is waited for.
func logging(t *testing.T, p *patience) (r *rig, kept func(endpoint int64, n int) []request.Kept) {
	t.Helper()
	log := requestlog.New(t.TempDir(), []byte("secret"), slog.New(slog.DiscardHandler))
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan struct{})
	r = newRigFor(t, Config{Timeout: time.Second, Connections: 4, Callers: 60, Requests: log}, p)
	go func() { log.Run(ctx); close(done) }()
	t.Cleanup(func() { stop(); <-done })
	return r, func(endpoint int64, n int) (all []request.Kept) {
		t.Helper()
		poll.Within(5*time.Second, func() bool {
			found, err := log.Search(ctx, endpoint, request.Filter{}, requestlog.Part{Limit: 400})
			all = found.Items
			return err != nil || len(all) >= n
		})
		if len(all) != n {
			t.Fatalf("%d requests of endpoint %d are kept, want %d: %+v", len(all), endpoint, n, all)
		}
		return all
	}
}

const number = 21

func (r *rig) routeKept(keyed bool, lanes ...traffic.RouteLane) {
	r.t.Helper()
	digest := sha256.Sum256([]byte("ilc_desk"))
	if err := r.g.Route(traffic.Route{
		Endpoint: "demand-hourly", ID: number, Split: 4, Since: time.Now(), Lanes: lanes, Keyed: keyed,
		Repeatable: true,
		Callers:    []traffic.Caller{{Name: "desk", Digest: digest[:]}}, Requests: request.UsualKeeping(),
	}); err != nil {
		r.t.Fatal(err)
	}
}

// told is what is kept of a request, in a line.
func told(e request.Kept) string {
	return strings.TrimSpace(
		fmt.Sprintf("%s %s %s %d %s %s %s", e.Lane, e.Version, e.Outcome, e.Status, e.Reason, e.Key,
			e.Instead),
	)
}

// ending is a way in which a request ends, with what is kept of it.
type ending struct {
	lanes  []traffic.RouteLane
	header []string
	path   string
	want   string
	answer string
	note   string
}

// endings lists them by name.
func endings(t *testing.T) map[string]ending {
	dead := raw(func(net.Conn, int) bool { return false }).start(t)
	whole := func(server string) []traffic.RouteLane {
		return []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, server)}
	}
	return map[string]ending{
		"answered": {
			lanes: whole(model(t, says("x"))),
			want:  "main heat-demand@1 answered 200", answer: `"data":["x"]`,
		},
		"with a key, though none is needed": {
			lanes:  whole(model(t, says("x"))),
			header: []string{KeyHeader, "ilc_desk"},
			want:   "main heat-demand@1 answered 200  desk", answer: `"data":["x"]`,
		},
		"by name": {
			lanes: whole(model(t, says("x"))),
			path:  "/v2/models/demand-hourly/versions/1/infer",
			want:  "pinned heat-demand@1 answered 200", answer: `"data":["x"]`,
		},
		"a caller's fault": {
			lanes: whole(model(t, answers(422, `{"error":"no wind"}`))),
			want:  "main heat-demand@1 caller_error 422", answer: `{"error":"no wind"}`,
		},
		"a server's fault": {
			lanes: whole(model(t, answers(500, `{"error":"no GPU"}`))),
			want:  "main heat-demand@1 server_error 500", answer: `{"error":"no GPU"}`,
		},
		"a page": {
			lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(t, answers(500, `<h1>Oops`)))},
			want:  "main heat-demand@1 server_error 500 model_server.error",
		},
		"no answer of the protocol": {
			lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(t, answers(200, `NaN`)))},
			want:  "main heat-demand@1 malformed 502 model_server.malformed",
		},
		"too slow": {
			lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(t, func(_ http.ResponseWriter,
				q *http.Request,
			) {
				hangs(q)
			}))},
			want: "main heat-demand@1 timed_out 504 model_server.too_slow",
		},
		"another lane answers": {
			lanes: []traffic.RouteLane{
				laneTo(traffic.Main, 1, 0, model(t, says("x"))), laneTo(traffic.Trial, 2, traffic.Whole, dead),
			},
			want: "main heat-demand@1 answered 200   heat-demand@2", answer: `"data":["x"]`,
		},
		"large": {
			lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(t,
				answers(200, `{"outputs":[],"note":"`+strings.Repeat("x", 20_000)+`"}`)))},
			want: "main heat-demand@1 answered 200", note: "larger than is kept",
		},
		"so large that it passes through": {
			lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(t,
				answers(200, `{"outputs":[],"note":"`+strings.Repeat("x", 2<<20)+`"}`)))},
			want: "main heat-demand@1 answered 200", note: "streamed or binary, and not kept",
		},
	}
}

// Every way in which a request can end is kept as it was, with the id that its caller got.
func TestWhatIsKeptOfRequests(t *testing.T) {
	t.Parallel()
	for name, c := range endings(t) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r, kept := logging(t, nil)
			r.routeKept(false, c.lanes...)
			path := c.path
			if path == "" {
				path = infer
			}
			_, header, _ := r.call("POST", path, c.header...)
			e := kept(number, 1)[0]
			if told(e) != c.want || !strings.Contains(string(e.Answer), c.answer) || e.AnswerNote != c.note {
				t.Errorf("%q, want %q; answer %.100s, %q", told(e), c.want, e.Answer, e.AnswerNote)
			}
			if e.ID != header.Get(RequestHeader) || e.Split != 4 || e.Chance != 1 || e.Total < e.Backend ||
				e.Total == 0 ||
				!bytes.HasPrefix(e.Request, []byte(`{"inputs"`)) ||
				e.RequestBytes != int64(len(e.Request)) {
				t.Errorf("%+v; its caller got %v", e, header)
			}
		})
	}
}

func answers(status int, body string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}
}

// Whatever is turned away is counted by its reason, once, and kept with the id that its caller got.
func TestWhatIsTurnedAwayIsTraffic(t *testing.T) {
	t.Parallel()
	r, kept := logging(t, &patience{head: time.Second, block: time.Second, idle: time.Minute})
	r.routeKept(true, laneTo(traffic.Main, 1, traffic.Whole, model(t, says("x"))))
	if err := r.g.Route(traffic.Route{Endpoint: "new", ID: 22, Requests: request.UsualKeeping()}); err != nil {
		t.Fatal(err)
	}
	const withKey = KeyHeader + ": ilc_desk\r\n"
	body := fmt.Sprintf("Content-Length: %d\r\n\r\n", largestBody+1)
	for _, c := range []struct {
		send     string
		endpoint int64
		name     string
		why      request.Reason
		want     string
		asked    string
	}{
		{
			post + "Content-Length: 0\r\n\r\n", number, "demand-hourly", request.NoKey,
			"refused  refused 401 endpoint.key", "",
		},
		{
			"POST /v2/models/demand-hourly/versions/9/infer HTTP/1.1\r\nHost: a\r\n" + withKey +
				"Content-Length: 0\r\n\r\n",
			number, "demand-hourly", request.NoSuchLane, "refused  refused 404 endpoint.no_such_lane desk", "",
		},
		{
			post + withKey + body, number, "demand-hourly", request.TooLarge,
			"refused heat-demand@1 refused 413 gateway.too_large desk", "",
		},
		{
			post + withKey + "Content-Length: 9\r\n\r\n{", number, "demand-hourly", request.SlowBody,
			"refused heat-demand@1 refused 408 gateway.slow_body desk", "",
		},
		{
			"POST /v2/models/new/infer HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n", 22, "new", request.NoSplit,
			"refused  refused 503 endpoint.no_split", "",
		},
		{
			"POST /v2/models/demand-houly/infer HTTP/1.1\r\nHost: a\r\nContent-Length: 0\r\n\r\n", 0, "",
			request.UnknownEndpoint, "refused  refused 404 endpoint.unknown", "POST /v2/models/demand-houly/infer",
		},
		{
			"DELETE /\x1b[31m HTTP/1.1\r\nHost: a\r\n\r\n", 0, "", request.BadRequest,
			"refused  refused 400 gateway.bad_request", "",
		},
		{
			"GET /v1/predict?q=\"x HTTP/1.1\r\nHost: a\r\n\r\n", 0, "", request.NoSuchPath,
			"refused  refused 404 gateway.no_such_path", `GET /v1/predict?q=\"x`,
		},
		{"POST / HTTP/1.1\r\nHost", 0, "", request.SlowHead, "refused  refused 408 gateway.slow_head", ""},
	} {
		before := r.turned(c.name)
		had := len(kept(c.endpoint, int(before.Total())))
		res := r.talk(c.send, 1)[0]
		e := kept(c.endpoint, had+1)[0]
		if told(e) != c.want || e.Asked != c.asked {
			t.Errorf("%.60q: %q %q, want %q %q", c.send, told(e), e.Asked, c.want, c.asked)
		}
		if id := res.Header.Get(RequestHeader); id != e.ID || id == "" {
			t.Errorf("%.60q: the caller got the id %q, and %q is kept", c.send, id, e.ID)
		}
		_, origin, ok := testIDs.Read([16]byte(uuid.MustParse(e.ID)))
		if !ok || origin.Lane != traffic.NoLane && !strings.Contains(c.want, "heat-demand") ||
			origin.Endpoint != c.endpoint {
			t.Errorf("%.60q: the id says %+v", c.send, origin)
		}
		after := r.turned(c.name)
		if after.Total() != before.Total()+1 || after[c.why] != before[c.why]+1 {
			t.Errorf("%.60q: counted %v before and %v after", c.send, before, after)
		}
	}
}

// Questions are no requests, whatever the answer.
func TestQuestionsAreNotTurnedAway(t *testing.T) {
	t.Parallel()
	r, _ := logging(t, nil)
	r.routeKept(true, laneTo(traffic.Main, 1, traffic.Whole, model(t, says("x"))))
	all := r.turned("").Total() + r.turned("demand-hourly").Total()
	for _, path := range []string{"/v2", "/v2/health/ready", "/v2/models/nobody/ready", "/v2/models/demand-hourly"} {
		r.call("GET", path)
	}
	if now := r.turned("").Total() + r.turned("demand-hourly").Total(); now != all {
		t.Errorf("questions were counted: %d after %d", now, all)
	}
}

// turned is what was turned away since the rig was made.
func (r *rig) turned(endpoint string) request.Refusals {
	r.rec.Tick(time.Now())
	return r.rec.RefusedTotals()[endpoint]
}

// When no model server is there, the lane counts a failure and the endpoint a refusal: an endpoint that turns every
// caller away must not look healthy.
func TestNobodyIsThere(t *testing.T) {
	t.Parallel()
	r, kept := logging(t, nil)
	lane := laneTo(traffic.Main, 1, traffic.Whole, "http://127.0.0.1:1")
	lane.Addresses[0].Healthy = false
	r.routeKept(false, lane)
	r.call("POST", infer)
	if e := kept(number, 1)[0]; told(e) != "main heat-demand@1 not_reached 503 endpoint.no_healthy_lane" {
		t.Errorf("%q", told(e))
	}
	if n := r.turned("demand-hourly"); n.Total() != 1 || n[request.NoHealthyLane] != 1 {
		t.Errorf("%v", n)
	}
	if c := r.counts(1)["main heat-demand@1"]; c.NotReached != 1 {
		t.Errorf("%+v", c)
	}
}

// A crowd of strangers fills neither the log nor the memory: they are counted, and some are kept.
func TestACrowdWithoutKeys(t *testing.T) {
	t.Parallel()
	r, _ := logging(t, nil)
	r.routeKept(true, laneTo(traffic.Main, 1, traffic.Whole, model(t, says("x"))))
	for range 300 {
		r.talk(post+"Content-Length: 0\r\n\r\n", 1)
	}
	if n := r.turned("demand-hourly"); n[request.NoKey] != 300 {
		t.Errorf("%v", n)
	}
	if s := r.g.config.Requests.Status(); s.Unwritten == 0 {
		t.Errorf("all were kept: %+v", s)
	}
}

// More callers than there is room for are counted too, though nothing of them is read.
func TestTooManyCallersAreCounted(t *testing.T) {
	t.Parallel()
	r := newRigWith(t, Config{Timeout: time.Second, Connections: 4, Callers: 1})
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, says("x"))))
	c, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if !poll.Within(5*time.Second, func() bool { return r.g.Status().Callers == 1 }) {
		t.Fatal("the first caller did not come")
	}
	r.talk(post+"Content-Length: 0\r\n\r\n", 1)
	if n := r.turned(""); n[request.Full] != 1 {
		t.Errorf("%v", n)
	}
}
