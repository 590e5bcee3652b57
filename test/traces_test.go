package test

import (
	"compress/gzip"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/wire"

	collector "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	spans "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

// collected are the spans that came to a stand-in of a collector, by name.
type collected struct {
	*httptest.Server
	mu   sync.Mutex
	all  []*spans.Span
	what string // service and media type of the last
}

func collect(t *testing.T) *collected {
	t.Helper()
	c := &collected{}
	c.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		var body io.Reader = q.Body
		if q.Header.Get("Content-Encoding") == "gzip" {
			body, _ = gzip.NewReader(q.Body)
		}
		b, err := io.ReadAll(body)
		var told collector.ExportTraceServiceRequest
		if err != nil || q.URL.Path != "/v1/traces" || proto.Unmarshal(b, &told) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, r := range told.ResourceSpans {
			c.what = q.Header.Get("Content-Type") + " " + r.Resource.String()
			for _, s := range r.ScopeSpans {
				c.all = append(c.all, s.Spans...)
			}
		}
	}))
	t.Cleanup(c.Close)
	return c
}

// of waits for a span of a name that is in a trace.
func (c *collected) of(t *testing.T, name, trace string) (found *spans.Span) {
	t.Helper()
	await(t, "the span "+name, 20*time.Second, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, s := range c.all {
			if s.Name == name && hex.EncodeToString(s.TraceId) == trace {
				found = s
			}
		}
		return found != nil
	})
	return found
}

func said(s *spans.Span, key string) string {
	for _, a := range s.Attributes {
		if a.Key == key {
			return strings.Trim(strings.SplitN(a.Value.String(), ":", 2)[1], `"`)
		}
	}
	return ""
}

// A trace goes through: from the caller, through the gateway and its try, to the model server; calls of the API and
// jobs are in it, too, and what nobody traces gets a context all the same.
func TestTracesGoThrough(t *testing.T) {
	t.Parallel()
	c := collect(t)
	h := &house{
		t: t, data: filepath.Join(t.TempDir(), "data"),
		options: []string{"-traces-to", c.URL, "-traces-share", "0.2"},
	}
	h.start()
	h.tove, h.toveFile = h.person("tove", "author", "approver", "operator")
	h.twoVersions()
	var mu sync.Mutex
	var seen []string
	places, err := h.runa.Placements(t.Context(), "heat-demand@1")
	must(t, err)
	behind, err := url.Parse(places.Items[0].Addresses[0].URL)
	must(t, err)
	pass := httputil.NewSingleHostReverseProxy(behind)
	model := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		mu.Lock()
		if strings.HasSuffix(q.URL.Path, "/infer") {
			seen = append(seen, q.Header.Values("Traceparent")...)
		}
		mu.Unlock()
		pass.ServeHTTP(w, q)
	}))
	defer model.Close()
	_, err = h.runa.ChangeAddresses(t.Context(), "heat-demand@1", "plant-north", wire.EditAddresses{
		Add: []string{model.URL}, Remove: []string{behind.String()}, Reason: "another server",
	})
	must(t, err)
	h.as(h.runaFile, "split", "demand-hourly", "heat-demand@1=100", "-why", "to be traced")
	ask := func(traceparent string) {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), "POST", h.gateway+"/v2/models/demand-hourly/infer",
			strings.NewReader(`{"inputs":[{"name":"x","datatype":"FP64","shape":[1],"data":[1]}]}`))
		must(t, err)
		if traceparent != "" {
			q.Header.Set("Traceparent", traceparent)
		}
		res, err := http.DefaultClient.Do(q)
		must(t, err)
		_ = res.Body.Close()
		if res.StatusCode != http.StatusOK {
			t.Fatalf("%d", res.StatusCode)
		}
	}
	const trace, caller = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"
	ask("00-" + trace + "-" + caller + "-01")
	infer, try := c.of(t, "infer demand-hourly", trace), c.of(t, "ask heat-demand@1", trace)
	if hex.EncodeToString(infer.ParentSpanId) != caller || hex.EncodeToString(try.ParentSpanId) !=
		hex.EncodeToString(infer.SpanId) || infer.Kind != spans.Span_SPAN_KIND_SERVER ||
		try.Kind != spans.Span_SPAN_KIND_CLIENT || infer.EndTimeUnixNano <= infer.StartTimeUnixNano {
		t.Errorf("%v\n%v", infer, try)
	}
	for key, want := range map[string]string{
		"innerladder.endpoint": "demand-hourly", "innerladder.version": "heat-demand@1", "innerladder.lane": "main",
		"http.response.status_code": "200",
	} {
		if got := said(infer, key); got != want {
			t.Errorf("%s is %q in %v", key, got, infer)
		}
	}
	if said(infer, "innerladder.split") == "" || said(infer, "innerladder.request") == "" {
		t.Errorf("%v", infer)
	}
	const untold = "00-" + trace + "-" + caller + "-00"
	ask(untold)
	ask("")
	ask("nonsense")
	mu.Lock()
	if len(seen) != 4 || seen[0] != "00-"+trace+"-"+hex.EncodeToString(try.SpanId)+"-01" || seen[1] != untold ||
		len(seen[2]) != 55 || len(seen[3]) != 55 || seen[2] == seen[3] {
		t.Errorf("the model server was told %q", seen)
	}
	mu.Unlock()
	q, err := http.NewRequestWithContext(t.Context(), "GET", h.server+"/api/v1/models/none", nil)
	must(t, err)
	q.Header.Set("Authorization", "Bearer "+h.runaToken)
	q.Header.Set("Traceparent", "00-"+trace+"-"+caller+"-01")
	res, err := http.DefaultClient.Do(q)
	must(t, err)
	_ = res.Body.Close()
	if s := c.of(t, "showModel", trace); said(s, "http.route") != "/api/v1/models/{model}" ||
		said(s, "http.response.status_code") != "404" || said(s, "error.type") != "model.unknown" {
		t.Errorf("%v", s)
	}
	await(t, "a job", 30*time.Second, func() bool {
		c.mu.Lock()
		defer c.mu.Unlock()
		for _, s := range c.all {
			if strings.HasPrefix(s.Name, "job ") {
				return true
			}
		}
		return false
	})
	if c.mu.Lock(); !strings.Contains(c.what, "application/x-protobuf") || !strings.Contains(c.what, "inner-ladder") {
		t.Error(c.what)
	}
	c.mu.Unlock()
}
