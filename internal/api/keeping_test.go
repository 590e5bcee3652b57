package api_test

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/app/secrets"
	"innerladder/internal/client"
	"innerladder/internal/core/keep"
	"innerladder/internal/core/record"
	"innerladder/internal/gateway"
	"innerladder/internal/records"
	"innerladder/internal/seal"
	"innerladder/internal/wire"
)

// guarded stands before a model server and asks for a header; it keeps what it was sent.
func (r *rig) guarded(m *modelServer, want string) (address string, sent func() http.Header) {
	u, err := url.Parse(m.URL)
	must(r.t, err)
	proxy := httputil.NewSingleHostReverseProxy(u)
	var mu sync.Mutex
	var last http.Header
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Header.Get("Authorization") != want {
			http.Error(w, `{"error":"who are you?"}`, http.StatusUnauthorized)
			return
		}
		if strings.HasSuffix(q.URL.Path, "/infer") {
			mu.Lock()
			last = q.Header.Clone()
			mu.Unlock()
		}
		proxy.ServeHTTP(w, q)
	}))
	r.t.Cleanup(srv.Close)
	return srv.URL, func() http.Header { mu.Lock(); defer mu.Unlock(); return last }
}

// headersRefused tries headers that cannot be set, and one before it is said where it may go.
func (r *rig) headersRefused() {
	t, ctx := r.t, r.t.Context()
	t.Helper()
	for name, value := range map[string]string{
		"Host": "x", "Inner-Ladder-Key": "x", "two words": "x", "": "x",
		"X-Ok": "", "X-Too": "a\nb",
	} {
		if _, err := r.runa.SetHeader(ctx, "plant-north", name, value); err == nil {
			t.Errorf("the header %q: %q was taken", name, value)
		}
	}
	_, err := r.runa.SetHeader(ctx, "plant-north", "authorization", "Basic plant-secret")
	wantCode(t, "secrets that could go anywhere", err, "environment.no_rules")
	_, err = r.runa.EditEnvironment(ctx, "plant-north", wire.EditEnvironment{Allowed: &[]string{"127.0.0.1"}})
	must(t, err)
}

// Model servers that ask for a header get it, and never what callers sent to us.
func TestHeadersOfAnEnvironmentAndKeysOfCallers(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	address, sent := r.guarded(r.modelServer(0), "Basic plant-secret")
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	r.approve(ref)
	_, err = r.runa.Place(ctx, ref, "plant-north", []string{address}, "")
	wantCode(t, "without the header", err, "placement.not_ready")
	r.headersRefused()
	_, err = r.runa.SetHeader(ctx, "plant-north", "authorization", "Basic plant-secret")
	must(t, err)
	_, err = r.runa.Place(ctx, ref, "plant-north", []string{address}, "")
	must(t, err)
	_, err = r.runa.AddEndpoint(ctx,
		wire.NewEndpoint{Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north"})
	must(t, err)
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "start", -1)
	must(t, err)

	if got := r.callGateway(); got != 200 {
		t.Fatalf("open to all: %d", got)
	}
	k, err := r.runa.AddCaller(ctx, "demand-hourly", "dispatch-tool")
	must(t, err)
	other, err := r.runa.AddCaller(ctx, "demand-hourly", "boiler-room")
	must(t, err)
	_, err = r.runa.AddCaller(ctx, "demand-hourly", "boiler-room")
	wantCode(t, "twice", err, "caller.exists")
	for name, c := range map[string]struct {
		header []string
		want   int
	}{
		"no key": {nil, 401}, "a wrong one": {[]string{gateway.KeyHeader, "ilc_wrong"}, 401},
		"the right one":    {[]string{gateway.KeyHeader, k.Key}, 200},
		"as a bearer":      {[]string{"Authorization", "Bearer " + k.Key}, 200},
		"a person's token": {[]string{"Authorization", "Bearer " + r.runaToken}, 401},
		"the other's":      {[]string{gateway.KeyHeader, other.Key}, 200},
		"empty":            {[]string{gateway.KeyHeader, ""}, 401},
	} {
		if got := r.callGateway(c.header...); got != c.want {
			t.Errorf("%s: %d, want %d", name, got, c.want)
		}
	}
	if res, err := http.Get(r.gateway + "/v2/models/demand-hourly"); err != nil || res.StatusCode != 401 {
		t.Errorf("metadata without a key: %v %v", res.StatusCode, err)
	}
	for name, values := range sent() {
		if strings.Contains(strings.Join(values, ""), "ilc_") {
			t.Errorf("the model server was sent a caller's key as %s", name)
		}
	}
	must(t, r.runa.RemoveCaller(ctx, "demand-hourly", "dispatch-tool", "replaced"))
	if got := r.callGateway(gateway.KeyHeader, k.Key); got != 401 {
		t.Errorf("a key that was taken away: %d", got)
	}
	must(t, r.runa.RemoveCaller(ctx, "demand-hourly", "boiler-room", ""))
	if got := r.callGateway(); got != 401 {
		t.Errorf("without any keys it must not be open again: %d", got)
	}
	_, err = r.runa.SetKeyed(ctx, "demand-hourly", false, "")
	wantCode(t, "no reason", err, "reason.missing")
	_, err = r.runa.SetKeyed(ctx, "demand-hourly", false, "behind a proxy now")
	must(t, err)
	if got := r.callGateway(); got != 200 {
		t.Errorf("open again: %d", got)
	}

	r.rotateWhileInUse(sent)
}

// callGateway calls demand-hourly with some headers.
func (r *rig) callGateway(header ...string) int {
	r.t.Helper()
	status, _ := r.answered(header...)
	return status
}

// answered calls demand-hourly, and says with which id it was answered.
func (r *rig) answered(header ...string) (status int, id string) {
	r.t.Helper()
	return r.asked("demand-hourly", `{"inputs":[{"name":"x","datatype":"FP64","shape":[1],"data":[1]}]}`, header...)
}

// asked calls an endpoint with a body, and says with which id it was answered.
func (r *rig) asked(endpoint, body string, header ...string) (status int, id string) {
	t, ctx := r.t, r.t.Context()
	t.Helper()
	req, err := http.NewRequestWithContext(ctx, "POST", r.gateway+"/v2/models/"+endpoint+"/infer",
		strings.NewReader(body))
	must(t, err)
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	must(t, err)
	_, _ = io.Copy(io.Discard, res.Body)
	_ = res.Body.Close()
	return res.StatusCode, res.Header.Get("Inner-Ladder-Request")
}

// rotateWhileInUse changes the sealing key while headers are sent to model servers.
func (r *rig) rotateWhileInUse(sent func() http.Header) {
	t, ctx := r.t, r.t.Context()
	t.Helper()
	before, err := os.ReadFile(filepath.Join(r.dir, "key"))
	must(t, err)
	rotated, err := r.runa.RotateKey(ctx, "an administrator has left")
	must(t, err)
	after, err := os.ReadFile(filepath.Join(r.dir, "key"))
	must(t, err)
	if rotated.Secrets < 3 || bytes.Equal(before, after) || bytes.Contains(after, bytes.TrimSpace(before)) {
		t.Errorf("%+v; the old key is still in the file: %v", rotated, bytes.Contains(after, bytes.TrimSpace(before)))
	}
	ring, err := seal.Open(filepath.Join(r.dir, "key"), true)
	must(t, err)
	all, err := r.store.Read(records.Everything).Secrets(ctx, "")
	must(t, err)
	for _, s := range all {
		if _, err := ring.Open(s.Name, s.Sealed); err != nil {
			t.Error(err)
		}
	}
	_, err = r.runa.SetHeader(ctx, "plant-north", "X-Plant", "north")
	must(t, err)
	if got := r.callGateway(); got != 200 || sent().Get("X-Plant") != "north" {
		t.Errorf("after the rotation: %d, %v", got, sent())
	}
	if _, err := secrets.Unlock(ctx, r.store, ring, time.Now()); err != nil {
		t.Errorf("starting again with the new key: %v", err)
	}
	old, err := seal.ParseRing(string(before))
	must(t, err)
	if _, err := secrets.Unlock(ctx, r.store, old, time.Now()); err == nil ||
		!strings.Contains(err.Error(), "-key-file") {
		t.Errorf("starting again with the old key: %v", err)
	}
}

func TestRetention(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	for _, bad := range []keep.Retention{{Minutes: "1h"}, {Notices: "soon"}, {Repeats: "-5h"}} {
		if _, err := r.runa.SetRetention(ctx, bad, ""); client.Code(err) != "retention.age" {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	kept, err := r.runa.SetRetention(ctx, keep.Retention{Repeats: "2h"}, "less to keep")
	must(t, err)
	if kept.Repeats != "2h" || kept.Minutes != "72h" || kept.Days != "9600h" {
		t.Errorf("%+v", kept)
	}
	must(t, r.store.Write(ctx, records.Everything, func(w records.View) error {
		return w.AddRepeat(ctx, "runa", "old", records.Repeat{RequestDigest: []byte("x"), Answer: []byte(`{}`)},
			time.Now().Add(-3*time.Hour))
	}))
	must(t, r.store.Write(ctx, records.Everything, func(w records.View) error {
		return w.AddRepeat(ctx, "runa", "new", records.Repeat{RequestDigest: []byte("x"), Answer: []byte(`{}`)},
			time.Now())
	}))
	must(t, r.app.Keep.Forget(ctx))
	_, old := r.store.Read(records.Everything).Repeated(ctx, "runa", "old")
	_, fresh := r.store.Read(records.Everything).Repeated(ctx, "runa", "new")
	if old == nil || fresh != nil {
		t.Errorf("old: %v, new: %v", old, fresh)
	}
	if v, err := r.runa.VerifyAudit(ctx, nil); err != nil || !v.Intact() {
		t.Errorf("the record: %+v %v", v, err)
	}
}

func TestTheRecordOverTheAPI(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "heat", "for the record")
	must(t, err)
	p, err := r.runa.Checkpoint(ctx)
	must(t, err)
	_, err = r.tove.AddDataSet(ctx,
		wire.NewDataSet{Name: "winters", Project: "heat", Address: "https://x.example", Description: "two winters"})
	must(t, err)
	v, err := r.runa.VerifyAudit(ctx, []record.Checkpoint{p})
	must(t, err)
	if !v.Intact() || v.Lines <= p.Seq {
		t.Errorf("%+v", v)
	}
	p.Hash = strings.Repeat("0", 64)
	_, err = r.runa.VerifyAudit(ctx, []record.Checkpoint{p})
	wantCode(t, "a bent checkpoint", err, "checkpoint.bad")
	_, err = r.tove.VerifyAudit(ctx, nil)
	must(t, err)

	found, err := r.runa.Audit(ctx,
		map[string]string{"actor": "tove", "kind": "data", "text": "winters", "within": "1h"}, client.Part{})
	must(t, err)
	if len(found.Items) != 1 || found.Items[0].Address != "127.0.0.1" || found.Items[0].RequestID == "" ||
		found.Items[0].Reason != "two winters" || !strings.Contains(string(found.Items[0].After), "https://x.example") {
		t.Fatalf("%+v", found.Items)
	}
	for _, q := range []map[string]string{{"after": "yesterday"}, {"within": "soon"}, {"project": "nowhere"}} {
		if _, err := r.runa.Audit(ctx, q, client.Part{}); err == nil {
			t.Errorf("%v was taken", q)
		}
	}
	saved, err := r.tove.SaveSearch(ctx, "mine", map[string]string{"actor": "tove"}, true)
	must(t, err)
	_, err = r.tove.SaveSearch(ctx, "odd", map[string]string{"colour": "red"}, true)
	wantCode(t, "an unknown member", err, "search.query")
	if all, err := r.runa.Searches(ctx); err != nil || len(all.Items) != 1 || all.Items[0].Owner != "tove" {
		t.Errorf("shared: %+v %v", all, err)
	}
	if err := r.runa.RemoveSearch(ctx, saved.ID); client.Code(err) != "search.unknown" {
		t.Errorf("someone else's search: %v", err)
	}
	must(t, r.tove.RemoveSearch(ctx, saved.ID))

	var b bytes.Buffer
	must(t, r.runa.ExportAudit(ctx, map[string]string{"project": "heat"}, &b))
	lines := strings.Split(strings.TrimSpace(b.String()), "\n")
	if len(lines) != 1 || !strings.Contains(lines[0], `"specversion":"1.0"`) ||
		!strings.Contains(lines[0], `"type":"innerladder.data.added"`) {
		t.Errorf("%s", b.String())
	}
}
