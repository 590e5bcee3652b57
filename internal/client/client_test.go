package client

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"innerladder/internal/wire"
)

// flaky takes an upload in pieces and breaks off after a number of bytes, again and
// again.
type flaky struct {
	content bytes.Buffer
	breaks  []int64
	asked   int
	gone    bool
}

func (f *flaky) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	up := wire.Uploading{ID: "one", Name: "m", Offset: int64(f.content.Len())}
	if f.gone {
		w.WriteHeader(404)
		_, _ = io.WriteString(w, `{"code":"upload.unknown","detail":"it is gone"}`)
		return
	}
	switch r.Method {
	case "GET":
		f.asked++
	case "PATCH":
		if offset, _ := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64); offset != up.Offset {
			w.WriteHeader(409)
			_, _ = io.WriteString(w, `{"code":"upload.offset","detail":"wrong place"}`)
			return
		}
		if len(f.breaks) > 0 {
			_, _ = io.CopyN(&f.content, r.Body, f.breaks[0])
			f.breaks = f.breaks[1:]
			panic(http.ErrAbortHandler) // the connection breaks
		}
		_, _ = io.Copy(&f.content, r.Body)
		up.Offset, up.Complete, up.Digest = int64(f.content.Len()), true, "d"
	}
	_ = json.NewEncoder(w).Encode(up)
}

func TestAnUploadGoesOnAfterItsConnectionBroke(t *testing.T) {
	content := bytes.Repeat([]byte("0123456789"), 300_000)
	path := filepath.Join(t.TempDir(), "m")
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
	f := &flaky{breaks: []int64{1_000_000, 0, 1_500_000}}
	server := httptest.NewServer(f)
	defer server.Close()
	up, err := New(server.URL, "t").Upload(t.Context(), path, "m")
	if err != nil || !up.Complete || !bytes.Equal(f.content.Bytes(), content) || f.asked != 3 {
		t.Errorf("%+v, %v; %d bytes, asked %d times", up, err, f.content.Len(), f.asked)
	}
	f = &flaky{breaks: []int64{10}}
	server.Config.Handler = f
	if _, err := New(server.URL, "t").Upload(t.Context(), filepath.Join(t.TempDir(), "none"), "m"); err == nil {
		t.Error("a file that is not there was uploaded")
	}
	f.gone = true
	if _, err := New(server.URL, "t").Upload(t.Context(), path, "m"); Code(err) != "upload.unknown" {
		t.Errorf("an upload that is gone: %v", err)
	}
}
