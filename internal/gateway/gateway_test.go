package gateway

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/recorder"

	"gonum.org/v1/gonum/stat/distuv"
)

// model is a small model server; answer decides what it says.
var testIDs = func() *traffic.RequestIDs {
	ids, err := traffic.NewRequestIDs(make([]byte, 16))
	if err != nil {
		panic(err)
	}
	return ids
}()

func model(t *testing.T, answer http.HandlerFunc) string {
	t.Helper()
	srv := httptest.NewServer(answer)
	t.Cleanup(srv.Close)
	return srv.URL
}

func says(version string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"model_name":"x","model_version":"x","id":%q,"outputs":[{"name":"v","shape":[1],"datatype":"BYTES","data":[%q]}]}`, r.Header.Get("traceparent"), version)
	}
}

type rig struct {
	t       *testing.T
	g       *Gateway
	rec     *recorder.Recorder
	url     string
	refused atomic.Int64
}

// newRig is a gateway that waits as long as no machine needs: what is not about deadlines must not meet one.
func newRig(t *testing.T) *rig {
	t.Helper()
	return newRigWith(t, Config{Timeout: 30 * time.Second, Connections: 64})
}

// newHastyRig is a gateway that gives model servers a second.
func newHastyRig(t *testing.T) *rig {
	t.Helper()
	return newRigWith(t, Config{Timeout: time.Second, Connections: 64})
}

func newRigWith(t *testing.T, c Config) *rig {
	t.Helper()
	return newRigFor(t, c, nil)
}

// newRigFor is a rig for callers of another patience than usual.
func newRigFor(t *testing.T, c Config, p *patience) *rig {
	t.Helper()
	r := &rig{t: t, rec: recorder.New(slog.New(slog.DiscardHandler), 100)}
	c.IDs, c.Unreachable = testIDs, func(string) { r.refused.Add(1) }
	r.g = New(c, r.rec, slog.New(slog.DiscardHandler))
	if p != nil {
		r.g.patience = *p
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	r.url = "http://" + l.Addr().String()
	go func() { _ = r.g.Serve(l) }()
	t.Cleanup(func() {
		http.DefaultClient.CloseIdleConnections()
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := r.g.Stop(ctx); err != nil {
			t.Error(err)
		}
		if s := r.g.Status(); s.Bodies != 0 || s.Panics != 0 {
			t.Errorf("at the end: %+v", s)
		}
	})
	return r
}

// counts are those of the lanes since the rig was made, by version and lane. They are
// waited for: an answer is there a moment before it is counted.
func (r *rig) counts(requests uint64) map[string]sketch.Counts {
	r.t.Helper()
	out := map[string]sketch.Counts{}
	for end := time.Now().Add(5 * time.Second); ; {
		r.rec.Tick(time.Now())
		all, _ := r.rec.Totals()
		seen := uint64(0)
		for k, t := range all {
			out[k.Lane+" "+k.Version] = t.Counts
			seen += t.Counts.Requests
		}
		if seen >= requests || time.Now().After(end) {
			if seen != requests {
				r.t.Errorf("%d requests were counted, want %d: %+v", seen, requests, out)
			}
			return out
		}
	}
}

func laneTo(kind traffic.LaneKind, number, share int, addresses ...string) traffic.RouteLane {
	l := traffic.RouteLane{
		Lane:  traffic.Lane{Kind: kind, Version: fmt.Sprintf("heat-demand@%d", number), Share: share},
		Model: "heat-demand",
	}
	for _, a := range addresses {
		l.Addresses = append(l.Addresses, traffic.RouteAddress{URL: a, Healthy: true})
	}
	return l
}

func (r *rig) route(lanes ...traffic.RouteLane) {
	r.t.Helper()
	if err := r.g.Route(traffic.Route{
		Endpoint: "demand-hourly", Split: 4, Since: time.Now(),
		Lanes: lanes,
	}); err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) call(method, path string, header ...string) (int, http.Header, string) {
	r.t.Helper()
	req, err := http.NewRequest(method, r.url+path,
		strings.NewReader(`{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]}]}`))
	if err != nil {
		r.t.Fatal(err)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		r.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		r.t.Fatal(err)
	}
	return res.StatusCode, res.Header, string(b)
}

const infer = "/v2/models/demand-hourly/infer"

func TestEveryAnswerNamesItsVersion(t *testing.T) {
	r := newRig(t)
	r.route(laneTo(traffic.Main, 1, 8000, model(t, says("heat-demand@1"))),
		laneTo(traffic.Trial, 2, 2000, model(t, says("heat-demand@2"))))
	const n = 2000
	trial := 0.0
	for range n {
		status, header, body := r.call("POST", infer)
		var a struct {
			Model   string `json:"model_name"`
			Version string `json:"model_version"`
			Outputs []struct{ Data []string }
		}
		if err := json.Unmarshal([]byte(body), &a); err != nil || status != 200 {
			t.Fatalf("%d %s", status, body)
		}
		if v := a.Outputs[0].Data[0]; header.Get(VersionHeader) != v || a.Version != v || a.Model != "demand-hourly" ||
			len(header.Get(RequestHeader)) != 36 {
			t.Fatalf("%s answered, header %q, body %s", v, header, body)
		}
		if a.Version == "heat-demand@2" {
			trial++
		}
	}
	e := n * 0.2
	if p := 1 - (distuv.ChiSquared{K: 1}).CDF((trial-e)*(trial-e)/e/0.8); p < 1e-6 {
		t.Errorf("%v of %d requests on a lane of 20 %%", trial, n)
	}
	counts := r.counts(n)
	if got := counts["main heat-demand@1"].Drawn + counts["trial heat-demand@2"].Drawn; got != n {
		t.Errorf("%d requests were recorded as drawn, want %d", got, n)
	}
}

func TestCallersStayOnTheirLane(t *testing.T) {
	r := newRig(t)
	r.route(laneTo(traffic.Main, 1, 5000, model(t, says("a"))), laneTo(traffic.Trial, 2, 5000, model(t, says("b"))))
	seen := map[string]bool{}
	for i := range 30 {
		caller := fmt.Sprintf("substation-%d", i)
		_, first, _ := r.call("POST", infer, CallerHeader, caller)
		for range 3 {
			if _, again, _ := r.call("POST", infer, CallerHeader,
				caller); again.Get(VersionHeader) != first.Get(VersionHeader) {
				t.Fatalf("%s moved", caller)
			}
		}
		seen[first.Get(VersionHeader)] = true
	}
	if len(seen) != 2 {
		t.Errorf("30 callers all went to %v", seen)
	}
}

// Callers are counted who say who they are, by name or by key, however often they call.
func TestCallersAreCounted(t *testing.T) {
	r := newRig(t)
	var callers []traffic.Caller
	for _, name := range []string{"planning-tool", "beta-app"} {
		digest := sha256.Sum256([]byte(keyStart + name))
		callers = append(callers, traffic.Caller{Name: name, Digest: digest[:]})
	}
	if err := r.g.Route(traffic.Route{
		Endpoint: "demand-hourly", Split: 4, Since: time.Now(), Keyed: true, Callers: callers,
		Lanes: []traffic.RouteLane{laneTo(traffic.Main, 1, 10000, model(t, says("one")))},
	}); err != nil {
		t.Fatal(err)
	}
	for i := range 12 {
		header := []string{KeyHeader, keyStart + callers[i%2].Name}
		if i >= 6 {
			header = append(header, "Inner-Ladder-Caller", fmt.Sprint("desk-", i%3))
		}
		if status, _, _ := r.call("POST", infer, header...); status != 200 {
			t.Fatal(status)
		}
	}
	r.counts(12)
	all, _ := r.rec.Totals()
	main := all[recorder.Total{Endpoint: "demand-hourly", Lane: "main", Version: "heat-demand@1"}]
	if n := main.Callers.Count(); n != 5 {
		t.Errorf("%d callers, want two by key and three by name", n)
	}
}

func TestWhatIsPassedOn(t *testing.T) {
	var got http.Header
	r := newRig(t)
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, func(w http.ResponseWriter, q *http.Request) {
		got = q.Header.Clone()
		w.Header().Set("X-Model-Build", "7")
		w.Header().Set("Connection", "close")
		w.WriteHeader(422)
		_, _ = w.Write([]byte(`{"error":"wind_ms is missing"}`))
	})))
	trace := "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"
	status, header, body := r.call("POST", infer, "Traceparent", trace, "Accept-Encoding", "gzip", "X-Mine", "1")
	if status != 422 || body != `{"error":"wind_ms is missing"}` || header.Get("X-Model-Build") != "7" ||
		header.Get(VersionHeader) != "heat-demand@1" {
		t.Errorf("%d %q %s", status, header, body)
	}
	if got.Get("Traceparent") != trace || got.Get("X-Mine") != "1" || got.Get("Accept-Encoding") != "" ||
		got.Get(RequestHeader) != header.Get(RequestHeader) {
		t.Errorf("the model server got %v", got)
	}
	if c := r.counts(1)["main heat-demand@1"]; c.CallerErrors != 1 || c.Failed() != 0 {
		t.Errorf("a caller's error was recorded as %+v", c)
	}
}

func TestRefusedConnectionsGoElsewhere(t *testing.T) {
	const nobodyThere = "http://127.0.0.1:1"
	r := newRig(t)
	good := model(t, says("heat-demand@1"))
	r.route(laneTo(traffic.Main, 1, 0, good), laneTo(traffic.Trial, 2, traffic.Whole, nobodyThere))
	for range 20 {
		if status, header, body := r.call("POST", infer); status != 200 ||
			header.Get(VersionHeader) != "heat-demand@1" {
			t.Fatalf("%d by %s: %s", status, header.Get(VersionHeader), body)
		}
	}
	if r.refused.Load() != 1 {
		t.Errorf("a dead address was tried %d times, want once", r.refused.Load())
	}
	// The first request found out, and counts on the lane that failed it; the others were
	// not sent there.
	counts := r.counts(21)
	if c := counts["main heat-demand@1"]; c.Fallback != 20 || c.Failed() != 0 || c.Drawn != 0 {
		t.Errorf("main: %+v", c)
	}
	if c := counts["trial heat-demand@2"]; c.NotReached != 1 || c.Unavailable != 19 || c.Drawn != 20 {
		t.Errorf("trial: %+v", c)
	}
	r.route(laneTo(traffic.Main, 1, traffic.Whole, nobodyThere, good))
	for range 20 {
		if status, _, body := r.call("POST", infer); status != 200 {
			t.Fatalf("one of two addresses is up: %d %s", status, body)
		}
	}
	r.g.MarkUp(nobodyThere, "heat-demand")
	before := r.refused.Load()
	for range 50 {
		r.call("POST", infer)
	}
	if r.refused.Load() == before {
		t.Error("an address that was marked up was not tried again")
	}
}

// One server may hold two models, of which one is ready.
func TestTwoModelsAtOneServer(t *testing.T) {
	r := newRig(t)
	both := model(t, func(w http.ResponseWriter, q *http.Request) {
		fmt.Fprintf(w, `{"model_name":%q,"outputs":[]}`, strings.Split(q.URL.Path, "/")[3])
	})
	one, two := laneTo(traffic.Main, 1, 5000, both), laneTo(traffic.Trial, 2, 5000, both)
	one.Model, two.Model = "first", "second"
	two.Addresses[0].Healthy = false
	r.route(one, two)
	for range 20 {
		if status, header, body := r.call("POST", infer); status != 200 ||
			header.Get(VersionHeader) != "heat-demand@1" {
			t.Fatalf("%d by %s: %s", status, header.Get(VersionHeader), body)
		}
	}
	r.g.MarkUp(both, "second")
	if status, header, _ := r.call("POST", "/v2/models/demand-hourly/versions/2/infer"); status != 200 ||
		header.Get(VersionHeader) != "heat-demand@2" {
		t.Errorf("the second model is up again: %d", status)
	}
}

func TestWhenNobodyCanAnswer(t *testing.T) {
	r := newHastyRig(t)
	slow := make(chan struct{})
	defer close(slow)
	cases := []struct {
		name, path string
		lanes      []traffic.RouteLane
		status     int
		code       string
	}{
		{"no such endpoint", "/v2/models/demand-daily/infer", nil, 404, "endpoint.unknown"},
		{"no split yet", infer, nil, 503, "endpoint.no_split"},
		{
			"nobody there", infer,
			[]traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, "http://127.0.0.1:1")},
			503,
			"endpoint.no_healthy_lane",
		},
		{"too slow", infer, []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole,
			model(t, func(_ http.ResponseWriter, q *http.Request) {
				select {
				case <-slow:
				case <-q.Context().Done():
				}
			}))}, 504, "model_server.too_slow"},
		{"breaks off", infer, []traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole,
			model(t, func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Length", "100")
				_, _ = w.Write([]byte("{"))
			}))}, 502, "model_server.malformed"},
		{
			"a version that is not in the split", "/v2/models/demand-hourly/versions/9/infer",
			[]traffic.RouteLane{laneTo(traffic.Main, 1, traffic.Whole, model(t, says("x")))},
			404,
			"endpoint.no_such_lane",
		},
		{"no path of the protocol", "/predict", nil, 404, "gateway.no_such_path"},
	}
	for _, c := range cases {
		r.route(c.lanes...)
		status, _, body := r.call("POST", c.path)
		var e struct{ Error, Code string }
		if err := json.Unmarshal([]byte(body), &e); err != nil || status != c.status || e.Code != c.code ||
			e.Error == "" {
			t.Errorf("%s: %d %s", c.name, status, body)
		}
	}
}

func TestPinnedVersionsAreKeptApart(t *testing.T) {
	r := newRig(t)
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, says("heat-demand@1"))),
		laneTo(traffic.Trial, 2, 0, model(t, says("heat-demand@2"))))
	for _, path := range []string{
		"/v2/models/demand-hourly/versions/2/infer",
		"/v2/models/demand-hourly/versions/heat-demand@2/infer",
	} {
		if status, header, body := r.call("POST", path); status != 200 || header.Get(VersionHeader) != "heat-demand@2" {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
	if c := r.counts(2)["pinned heat-demand@2"]; c.Requests != 2 || c.Drawn != 0 {
		t.Errorf("%+v", c)
	}
}

func TestMetadataAndReadiness(t *testing.T) {
	r := newRig(t)
	r.route(laneTo(traffic.Main, 1, traffic.Whole, model(t, func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path != "/v2/models/heat-demand" {
			t.Errorf("asked for %s", q.URL.Path)
		}
		_, _ = w.Write([]byte(`{"name":"heat-demand","platform":"p","inputs":[{"name":"x","datatype":"FP64","shape":[-1]}],"outputs":[]}`))
	})))
	status, _, body := r.call("GET", "/v2/models/demand-hourly")
	if status != 200 || !strings.Contains(body, `"name":"demand-hourly"`) ||
		!strings.Contains(body, `"heat-demand@1"`) || !strings.Contains(body, `"x"`) {
		t.Errorf("%d %s", status, body)
	}
	for path, want := range map[string]int{
		"/v2/models/demand-hourly/ready": 200, "/v2/models/none/ready": 404,
		"/v2/health/live": 200, "/v2/health/ready": 200, "/v2": 200,
	} {
		if status, _, body := r.call("GET", path); status != want {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
}
