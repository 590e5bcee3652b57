package api_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"innerladder/internal/api"
	"innerladder/internal/core/registry"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
)

// plainly makes a call that the document need not know.
func (r *rig) plainly(method, path, body string, header ...string) (int, http.Header, []byte) {
	r.t.Helper()
	res, b := r.bare(method, path, body, header...)
	return res.StatusCode, res.Header, b
}

// Every path answers to OPTIONS, names what it is called by when it is called by something else, and can be asked for
// its headers alone where it can be got.
func TestMethodsOfEveryPath(t *testing.T) {
	r := newRig(t)
	call := r.plainly
	text, err := api.Document()
	must(t, err)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		} `json:"paths"`
	}
	must(t, json.Unmarshal(text, &doc))
	all := map[string]string{"get": "GET", "post": "POST", "put": "PUT", "patch": "PATCH", "delete": "DELETE"}
	if len(doc.Paths) < 100 {
		t.Fatalf("%d paths", len(doc.Paths))
	}
	for path, operations := range doc.Paths {
		at := strings.NewReplacer("{", "", "}", "").Replace(path)
		status, header, _ := call("OPTIONS", at, "")
		allow := header.Get("Allow")
		if status != 204 || !strings.Contains(allow, "OPTIONS") {
			t.Errorf("OPTIONS %s: %d, Allow: %s", path, status, allow)
		}
		for lower, method := range all {
			_, there := operations[lower]
			if there != strings.Contains(allow, method) {
				t.Errorf("%s: Allow is %s", path, allow)
			}
			if there {
				continue
			}
			status, header, body := call(method, at, "")
			// A longer path may be called by a name that a shorter one has a place for.
			if status != 405 && status != 404 && status != 422 || status == 405 && header.Get("Allow") == "" ||
				status == 405 && !strings.Contains(string(body), `"code":"request.method"`) {
				t.Errorf("%s %s: %d %s", method, path, status, body)
			}
		}
		if got, there := operations["get"]; there && got.OperationID != "events" {
			head, _, body := call("HEAD", at, "")
			get, _, _ := call("GET", at, "")
			if head != get || len(body) > 0 {
				t.Errorf("HEAD %s: %d with %d bytes, and GET %d", path, head, len(body), get)
			}
		}
	}
}

// What callers send and take is said by HTTP's own means.
func TestWhatIsSentAndTaken(t *testing.T) {
	r := newRig(t)
	call := r.plainly
	ref := r.register("heat-demand", "a", nil)
	r.register("valve-fault", "b", nil)
	for name, c := range map[string]struct {
		method, path, body string
		header             []string
		status             int
		code               string
	}{
		"a form": {
			"POST", "/api/v1/environments", "name=x",
			[]string{"Content-Type", "application/x-www-form-urlencoded"},
			415, "request.media_type",
		},
		"JSON by another name": {
			"POST", "/api/v1/environments", `{"name":"x"}`,
			[]string{"Content-Type", "application/merge-patch+json"},
			201, "",
		},
		"no name for it": {"POST", "/api/v1/environments", `{"name":"y"}`, []string{"Content-Type", ""}, 201, ""},
		"pictures alone": {"GET", "/api/v1/models", "", []string{"Accept", "image/png"}, 406, "request.accept"},
		"a browser": {
			"GET", "/api/v1/models", "", []string{"Accept", "text/html,application/xml;q=0.9,*/*;q=0.8"}, 200, "",
		},
		"no items":       {"GET", "/api/v1/models?limit=0", "", nil, 422, "list.limit"},
		"a member twice": {"POST", "/api/v1/environments", `{"name":"z","name":"z"}`, nil, 422, "request.twice"},
		"twice, deep down": {
			"POST", "/api/v1/endpoints", `{"name":"z","terms":[{"a":1},{"a":1,"b":[],"a":2}]}`, nil, 422,
			"request.twice",
		},
		"the same name side by side": {
			"POST", "/api/v1/environments",
			`{"name":"zz","tags":{"a":"1"},"headers":[{"name":"a"},{"name":"b"}]}`, nil, 0, "",
		},
	} {
		status, _, body := call(c.method, c.path, c.body, c.header...)
		if c.status != 0 && status != c.status || !strings.Contains(string(body), c.code) ||
			c.status == 0 && strings.Contains(string(body), "request.twice") {
			t.Errorf("%s: %d %s", name, status, body)
		}
	}
	_, header, first := call("GET", "/api/v1/models?limit=1", "")
	next := header.Get("Link")
	if !strings.HasPrefix(next, "</api/v1/models?cursor=") || !strings.HasSuffix(next, `limit=1>; rel="next"`) {
		t.Fatalf("Link: %s", next)
	}
	_, header, second := call("GET", strings.Trim(strings.Split(next, ";")[0], "<>"), "")
	if header.Get("Link") != "" || string(first) == string(second) || !strings.Contains(string(second), "valve-fault") {
		t.Errorf("%s, %s", header.Get("Link"), second)
	}
	_, header, _ = call("GET", "/api/v1/versions/"+ref, "")
	tag := header.Get("ETag")
	for given, want := range map[string]int{tag: 304, `"x", ` + tag: 304, "*": 304, `W/"x"`: 200, "": 200} {
		status, header, body := call("GET", "/api/v1/versions/"+ref, "", "If-None-Match", given)
		if status != want || (status == 304) != (len(body) == 0) || header.Get("ETag") != tag {
			t.Errorf("If-None-Match %s: %d, %d bytes, ETag %s", given, status, len(body), header.Get("ETag"))
		}
	}
	_, err := r.runa.EditVersion(t.Context(), ref, registry.Edit{Note: new("looked at")})
	must(t, err)
	if status, _, _ := call("GET", "/api/v1/versions/"+ref, "", "If-None-Match", tag); status != 200 {
		t.Errorf("what has changed: %d", status)
	}
}

// Text is packed as the caller can take it; what a caller gets without saying so is plain.
func TestTextIsPacked(t *testing.T) {
	r := newRig(t)
	for i := range 30 {
		r.register("heat-demand", strings.Repeat("a", i+1), nil)
	}
	ask := func(encoding string) (*http.Response, []byte) {
		t.Helper()
		req, err := http.NewRequest("GET", r.server+"/api/v1/models/heat-demand/versions", nil)
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+r.runaToken)
		req.Header.Set("Accept-Encoding", encoding)
		res, err := http.DefaultTransport.RoundTrip(req)
		must(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		must(t, err)
		return res, body
	}
	_, plain := ask("identity")
	for encoding, unpack := range map[string]func(io.Reader) (io.Reader, error){
		"gzip": func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) },
		"br":   func(r io.Reader) (io.Reader, error) { return brotli.NewReader(r), nil },
		"zstd": func(r io.Reader) (io.Reader, error) { return zstd.NewReader(r) },
	} {
		res, body := ask(encoding)
		if res.Header.Get("Content-Encoding") != encoding || len(body) > len(plain)/3 {
			t.Errorf("%s: %d of %d bytes as %q", encoding, len(body), len(plain), res.Header.Get("Content-Encoding"))
		}
		opened, err := unpack(bytes.NewReader(body))
		must(t, err)
		if whole, err := io.ReadAll(opened); err != nil || !bytes.Equal(whole, plain) {
			t.Errorf("%s: %v, %d of %d bytes", encoding, err, len(whole), len(plain))
		}
	}
}

// Parts of a file can be had, as a download that broke off goes on.
func TestPartsOfFiles(t *testing.T) {
	r := newRig(t)
	ref := r.register("heat-demand", "0123456789", nil)
	v, err := r.runa.Version(t.Context(), ref)
	must(t, err)
	path := "/api/v1/versions/" + ref + "/artifacts/" + v.Artifacts[0].Name
	res, whole := r.bare("GET", path, "")
	tag := res.Header.Get("ETag")
	if string(whole) != "0123456789" || tag == "" || res.Header.Get("Accept-Ranges") != "bytes" {
		t.Fatalf("%q %v", whole, res.Header)
	}
	many := "bytes=0-0" + strings.Repeat(",2-2", 30)
	for name, c := range map[string]struct {
		header []string
		status int
		body   string
		part   string
	}{
		"a part":           {[]string{"Range", "bytes=2-4"}, 206, "234", "bytes 2-4/10"},
		"the rest":         {[]string{"Range", "bytes=7-"}, 206, "789", "bytes 7-9/10"},
		"the end":          {[]string{"Range", "bytes=-2"}, 206, "89", "bytes 8-9/10"},
		"beyond":           {[]string{"Range", "bytes=5-99"}, 206, "56789", "bytes 5-9/10"},
		"nothing":          {[]string{"Range", "bytes=10-"}, 416, "", "bytes */10"},
		"odd":              {[]string{"Range", "bytes=x"}, 200, "0123456789", ""},
		"another unit":     {[]string{"Range", "rows=1-2"}, 200, "0123456789", ""},
		"several":          {[]string{"Range", "bytes=0-1,3-4"}, 200, "0123456789", ""},
		"too many":         {[]string{"Range", many}, 200, "0123456789", ""},
		"of the same":      {[]string{"Range", "bytes=2-4", "If-Range", tag}, 206, "234", "bytes 2-4/10"},
		"of another":       {[]string{"Range", "bytes=2-4", "If-Range", `"x"`}, 200, "0123456789", ""},
		"it is there":      {[]string{"If-None-Match", tag}, 304, "", ""},
		"another is there": {[]string{"If-None-Match", `"x"`}, 200, "0123456789", ""},
	} {
		res, body := r.bare("GET", path, "", c.header...)
		if res.StatusCode != c.status || c.body != "" && string(body) != c.body ||
			res.Header.Get("Content-Range") != c.part || c.status == 304 && len(body) > 0 {
			t.Errorf("%s: %d %q, %s", name, res.StatusCode, body, res.Header.Get("Content-Range"))
		}
	}
	if res, body := r.bare("HEAD", path, "", "Range", "bytes=2-4"); res.StatusCode != 200 || len(body) > 0 ||
		res.ContentLength != 10 {
		t.Errorf("HEAD: %d, %d", res.StatusCode, res.ContentLength)
	}
}
