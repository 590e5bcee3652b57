package oip

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

// Addresses where machines are told their credentials are not asked, whatever led there.
func TestLinkLocalAddressesAreNotAsked(t *testing.T) {
	for _, at := range []string{"http://169.254.169.254", "http://[fe80::1]:8000", "http://0.0.0.0:8000"} {
		if err := NewClient(time.Second).Ready(t.Context(), at, "m"); err == nil ||
			err.Error() != "no model server may be there" {
			t.Errorf("%s: %v", at, err)
		}
	}
}

func TestAnswersAreNamed(t *testing.T) {
	const tail = `"outputs":[]}`
	cases := []struct{ name, in, want string }{
		{
			"replaces both", `{"model_name":"m","model_version":"7",` + tail,
			`{"model_name":"demand-hourly","model_version":"heat-demand@2",` + tail,
		},
		{
			"adds both", `{"outputs":[{"data":[1.50]}]}`,
			`{"outputs":[{"data":[1.50]}],"model_name":"demand-hourly","model_version":"heat-demand@2"}`,
		},
		{
			"only at the top", `{"outputs":[{"model_version":"x"}]}`,
			`{"outputs":[{"model_version":"x"}],"model_name":"demand-hourly","model_version":"heat-demand@2"}`,
		},
		{
			"null and numbers", `{"model_version":null,"model_name":3,` + tail,
			`{"model_version":"heat-demand@2","model_name":"demand-hourly",` + tail,
		},
		{
			"a number at the end", `{"outputs":[],"model_name":-1.5e+3}`,
			`{"outputs":[],"model_name":"demand-hourly","model_version":"heat-demand@2"}`,
		},
		{
			"an object as a name", `{"model_name":{"a":["]"]} ,` + tail,
			`{"model_name":"demand-hourly" ,"outputs":[],"model_version":"heat-demand@2"}`,
		},
		{
			"a quote in a name", `{"model_name":"a\"b","model_version":"7",` + tail,
			`{"model_name":"demand-hourly","model_version":"heat-demand@2",` + tail,
		},
		{
			"an escaped key", `{"model\u005fname":"a","model_version":"7",` + tail,
			`{"model\u005fname":"demand-hourly","model_version":"heat-demand@2",` + tail,
		},
		{
			"said twice", `{"model_name":"a","model_name":"b","model_version":1,` + tail,
			`{"model_name":"demand-hourly","model_name":"demand-hourly","model_version":"heat-demand@2",` + tail,
		},
		{
			"white space", " { \"outputs\" : [ ] } \n",
			" { \"outputs\" : [ ] ,\"model_name\":\"demand-hourly\",\"model_version\":\"heat-demand@2\"} \n",
		},
		{"empty object", `{}`, ""},
		{"no outputs", `{"error":"no"}`, ""},
		{"outputs that are none", `{"outputs":{}}`, ""},
		{"NaN", `{"outputs":[{"data":[NaN]}]}`, ""},
		{"infinity", `{"outputs":[{"data":[-Infinity]}]}`, ""},
		{"a leading zero", `{"outputs":[{"data":[01]}]}`, ""},
		{"cut in a number", `{"outputs":[{"data":[1.`, ""},
		{"cut", `{`, ""},
		{"no object", `[1]`, ""},
		{"a page", `<html>`, ""},
		{"two objects", `{"outputs":[]}{}`, ""},
		{"a comma too many", `{"outputs":[1,]}`, ""},
		{"no UTF-8", "{\"outputs\":[\"\xff\"]}", ""},
		{"nothing", ``, ""},
	}
	n := NewNaming("demand-hourly", "heat-demand@2")
	for _, c := range cases {
		var a Answer
		got, err := NameAll(nil, []byte(c.in), n, &a)
		if (err == nil) != (c.want != "") || (err == nil && string(got) != c.want) {
			t.Errorf("%s: %v\n got %s\nwant %s", c.name, err, got, c.want)
		}
	}
}

// FuzzAnswer holds the reader against encoding/json's: what is taken is JSON before and
// after, nothing is lost, and however it is cut into pieces the same comes out.
func FuzzAnswer(f *testing.F) {
	for _, seed := range []string{
		`{"model_name":"m","outputs":[]}`,
		`{"outputs":[{"data":[1,-2.5e-3,true,null,"\u00e9\\"]}]}`, `{"a":{"model_version":1},"outputs":[[]]}`,
		`{"model_version":"\"}","outputs":[{}]}`, "[", `{"x`, `{"outputs":[0,10,0.5]}`,
	} {
		f.Add([]byte(seed), uint8(3))
		f.Add([]byte(`{"model_name":"m","model_version":"1","x":`+seed+`,"outputs":[`+seed+`]}`), uint8(5))
	}
	n := NewNaming("e", "m@1")
	f.Fuzz(func(t *testing.T, body []byte, size uint8) {
		var a Answer
		out, err := NameAll(nil, body, n, &a)
		var before, after map[string]any
		valid := json.Valid(body)
		if valid {
			_ = json.Unmarshal(body, &before)
		}
		if list, ok := before["outputs"].([]any); err != nil {
			if valid && ok && list != nil && utf8.Valid(body) && !strings.Contains(err.Error(), "deeper") {
				t.Fatalf("%q was refused: %v", body, err)
			}
			return
		}
		if !valid {
			t.Fatalf("%q was taken", body)
		}
		if err := json.Unmarshal(out, &after); err != nil || after["model_version"] != "m@1" ||
			after["model_name"] != "e" {
			t.Fatalf("%q became %q: %v", body, out, err)
		}
		for k := range before {
			if _, ok := after[k]; !ok {
				t.Fatalf("%q lost %q: %q", body, k, out)
			}
		}
		var pieces []byte
		a.Reset(n)
		for piece := range slices.Chunk(body, int(size)+1) {
			if pieces, err = a.Write(pieces, piece); err != nil {
				t.Fatalf("%q in pieces of %d: %v", body, size+1, err)
			}
		}
		if err := a.End(); err != nil || string(pieces) != string(out) {
			t.Fatalf("%q in pieces of %d: %q, %v; whole: %q", body, size+1, pieces, err, out)
		}
	})
}

func BenchmarkAnswer(b *testing.B) {
	for name, body := range map[string][]byte{"small": []byte(`{"model_name":"heat-demand","model_version":"1","outputs":[{"name":"demand_mw","shape":[1],"datatype":"FP64","data":[1.0625]}]}`)} {
		b.Run(name, func(b *testing.B) {
			var a Answer
			var out []byte
			n := NewNaming("demand-hourly", "heat-demand@2")
			b.ReportAllocs()
			for b.Loop() {
				out, _ = NameAll(out[:0], body, n, &a)
			}
		})
	}
	body := []byte(`{"model_name":"heat-demand","model_version":"1","outputs":[{"name":"demand_mw","shape":[4096],"datatype":"FP64","data":[` +
		strings.Repeat("1.0625,", 4095) + `1.0625]}]}`)
	var a Answer
	var out []byte
	n := NewNaming("demand-hourly", "heat-demand@2")
	b.SetBytes(int64(len(body)))
	b.ReportAllocs()
	for b.Loop() {
		out, _ = NameAll(out[:0], body, n, &a)
	}
}

func TestParseRequest(t *testing.T) {
	r, err := ParseRequest([]byte(`{"id":"a","inputs":[{"name":"x","shape":[2,2],"datatype":"FP64","data":[[1,2],[3,null]]},{"name":"mix","shape":[2],"datatype":"BYTES","data":["works","harbour"]}]}`))
	if err != nil {
		t.Fatal(err)
	}
	if r.Inputs[0].Rows() != 2 || len(r.Inputs[0].Data) != 4 || r.Inputs[0].Data[3] != nil ||
		r.Inputs[1].Data[1] != "harbour" {
		t.Errorf("%+v", r)
	}
	for _, bad := range []string{
		``, `{}`, `{"inputs":[{"name":"x","shape":[3],"data":[1]}]}`,
		`{"inputs":[{"name":"x","shape":[-1],"data":[1]}]}`,
		`{"inputs":[{"name":"x","shape":[1],"data":5}]}`,
		`{"inputs":[{"name":"x","shape":[1],"data":[1]},{"name":"y","shape":[2],"data":[1,2]}]}`,
		`{"inputs":[{"name":"x","shape":[4294967296,4294967296],"data":[1]}]}`,
	} {
		if _, err := ParseRequest([]byte(bad)); err == nil {
			t.Errorf("%s was taken", bad)
		}
	}
}

func TestTensorsReadTheSameAsTheWholeMessage(t *testing.T) {
	for _, body := range []string{
		`{"id":"a","inputs":[{"name":"x","shape":[2,2],"datatype":"FP64","data":[[1,2],[3,null]]},{"name":"mix","shape":[2],"datatype":"BYTES","data":["works","harbour"]}]}`,
		`{"inputs":[{"name":"x","shape":[3],"data":[1]}]}`, `{"inputs":7}`, `{"inputs":[1]`, ``,
		`{"inputs":[{"name":"x","shape":[1],"data":[true]}],"outputs":[]}`,
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
	mux.HandleFunc("GET /v2/models/odd",
		func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(`<html>`)) })
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
