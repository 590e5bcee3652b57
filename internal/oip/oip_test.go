package oip

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"
)

func TestName(t *testing.T) {
	cases := []struct{ name, in, want string }{
		{"replaces both", `{"model_name":"m","model_version":"7","outputs":[]}`, `{"model_name":"demand-hourly","model_version":"heat-demand@2","outputs":[]}`},
		{"adds both", `{"outputs":[{"data":[1.50]}]}`, `{"model_name":"demand-hourly","model_version":"heat-demand@2","outputs":[{"data":[1.50]}]}`},
		{"only at the top", `{"outputs":[{"model_version":"x"}]}`, `{"model_name":"demand-hourly","model_version":"heat-demand@2","outputs":[{"model_version":"x"}]}`},
		{"null and numbers", `{"model_version":null,"model_name":3}`, `{"model_version":"heat-demand@2","model_name":"demand-hourly"}`},
		{"a quote in a name", `{"model_name":"a\"b","model_version":"7"}`, `{"model_name":"demand-hourly","model_version":"heat-demand@2"}`},
		{"only the first half of the usual", `{"model_name":"m","id":"x"}`, `{"model_version":"heat-demand@2","model_name":"demand-hourly","id":"x"}`},
		{"other order", `{"model_version":"7","id":"1","model_name":"m"}`, `{"model_version":"heat-demand@2","id":"1","model_name":"demand-hourly"}`},
		{"only a version", `{"model_version":"7"}`, `{"model_name":"demand-hourly","model_version":"heat-demand@2"}`},
		{"only a name", `{ "model_name":"m"}`, `{"model_version":"heat-demand@2", "model_name":"demand-hourly"}`},
		{"empty object", `{ } `, `{"model_name":"demand-hourly","model_version":"heat-demand@2" } `},
		{"cut", `{`, `{`},
		{"no object", `[1]`, `[1]`},
		{"no JSON", `oops {`, `oops {`},
		{"nothing", ``, ``},
	}
	for _, c := range cases {
		if got := string(NewNaming("demand-hourly", "heat-demand@2").Name([]byte(c.in))); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
}

func FuzzName(f *testing.F) {
	for _, seed := range []string{`{"model_name":"m"}`, `{}`, `{"a":{"model_version":1}}`, `{"model_version":"\"}"`, "[", `{"x`} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		var before map[string]any
		if json.Unmarshal(body, &before) != nil {
			NewNaming("e", "m@1").Name(body) // must not panic
			return
		}
		if before == nil {
			return
		}
		var after map[string]any
		out := NewNaming("e", "m@1").Name(body)
		if err := json.Unmarshal(out, &after); err != nil {
			t.Fatalf("%q became %q: %v", body, out, err)
		}
		for k := range before {
			if _, ok := after[k]; !ok {
				t.Fatalf("%q lost %q: %q", body, k, out)
			}
		}
	})
}

func TestParseRequest(t *testing.T) {
	r, err := ParseRequest([]byte(`{"id":"a","inputs":[{"name":"x","shape":[2,2],"datatype":"FP64","data":[[1,2],[3,null]]},{"name":"mix","shape":[2],"datatype":"BYTES","data":["works","harbour"]}]}`))
	if err != nil {
		t.Fatal(err)
	}
	if r.Inputs[0].Rows() != 2 || len(r.Inputs[0].Data) != 4 || r.Inputs[0].Data[3] != nil || r.Inputs[1].Data[1] != "harbour" {
		t.Errorf("%+v", r)
	}
	for _, bad := range []string{``, `{}`, `{"inputs":[{"name":"x","shape":[3],"data":[1]}]}`, `{"inputs":[{"name":"x","shape":[-1],"data":[1]}]}`,
		`{"inputs":[{"name":"x","shape":[1],"data":5}]}`, `{"inputs":[{"name":"x","shape":[1],"data":[1]},{"name":"y","shape":[2],"data":[1,2]}]}`,
		`{"inputs":[{"name":"x","shape":[4294967296,4294967296],"data":[1]}]}`} {
		if _, err := ParseRequest([]byte(bad)); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}

func TestTensorsReadTheSameAsTheWholeMessage(t *testing.T) {
	for _, body := range []string{
		`{"id":"a","inputs":[{"name":"x","shape":[2,2],"datatype":"FP64","data":[[1,2],[3,null]]},{"name":"mix","shape":[2],"datatype":"BYTES","data":["works","harbour"]}]}`,
		`{"inputs":[{"name":"x","shape":[3],"data":[1]}]}`, `{"inputs":7}`, `{"inputs":[1]`, ``, `{"inputs":[{"name":"x","shape":[1],"data":[true]}],"outputs":[]}`,
	} {
		whole, err := ParseRequest([]byte(body))
		quick, quickErr := Tensors([]byte(body), "inputs")
		if (err == nil) != (quickErr == nil) || (err == nil && !reflect.DeepEqual(whole.Inputs, quick)) {
			t.Errorf("%s: %+v, %v; %+v, %v", body, whole, err, quick, quickErr)
		}
	}
}

func TestClientSaysWhyNot(t *testing.T) {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /v2/health/ready", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("GET /v2/models/loading/ready", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(503)
		_, _ = w.Write([]byte(`{"error":"still loading"}`))
	})
	mux.HandleFunc("GET /v2/models/odd", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`<html>`)) })
	slow := make(chan struct{})
	mux.HandleFunc("GET /v2/models/slow/ready", func(http.ResponseWriter, *http.Request) { <-slow })
	srv := httptest.NewServer(mux)
	defer srv.Close()
	defer close(slow)
	c := NewClient(200 * time.Millisecond)
	check := func(what string, err error, says string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", what, err, says)
		}
	}
	check("not ready", c.Ready(t.Context(), srv.URL, "loading"), "answered 503: still loading")
	check("unknown", c.Ready(t.Context(), srv.URL, "none"), "answered 404")
	check("slow", c.Ready(t.Context(), srv.URL, "slow"), "no answer in time")
	check("nobody there", c.Ready(t.Context(), "http://127.0.0.1:1", "x"), "connection refused")
	_, err := c.Metadata(t.Context(), srv.URL, "odd")
	check("no protocol", err, "did not answer with model metadata")
}
