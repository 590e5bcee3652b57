package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"innerladder/internal/api"
	"innerladder/internal/app"
	"innerladder/internal/app/act"
	"innerladder/internal/app/secrets"
	"innerladder/internal/blob"
	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/people"
	"innerladder/internal/core/traffic"
	"innerladder/internal/fetch"
	"innerladder/internal/gateway"
	"innerladder/internal/jobs"
	"innerladder/internal/recorder"
	"innerladder/internal/records"
	"innerladder/internal/requestlog"
	"innerladder/internal/seal"
	"innerladder/internal/server"
	"innerladder/internal/signals"
	"innerladder/internal/wire"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"innerladder/test/template"
)

// rig is a whole service in this process, with two people: runa is its owner, tove
// registers, signs and operates everywhere. Every answer is held against the OpenAPI document.
type rig struct {
	// skew is added to the service's clock.
	skew       *atomic.Int64
	t          *testing.T
	dir        string
	store      *records.DB
	server     string
	gateway    string
	app        *app.App
	runa, tove *client.Client
	runaToken  string
	stopJobs   func()
	jobs       *jobs.Set
}

func newRig(t *testing.T) *rig {
	t.Helper()
	t.Parallel() // each has a service of its own, and mostly waits
	dir := t.TempDir()
	log := slog.New(slog.DiscardHandler)
	template.Copy(t, "ladder.db", filepath.Join(dir, "ladder.db"), template.Of(records.Open))
	template.Copy(t, "signals.db", filepath.Join(dir, "signals.db"), template.Of(signals.Open))
	db, err := records.Open(t.Context(), filepath.Join(dir, "ladder.db"))
	must(t, err)
	blobs, err := blob.Open(filepath.Join(dir, "blobs"))
	must(t, err)
	rec := recorder.New(log, 1000)
	keeper := signals.NewKeeper(filepath.Join(dir, "signals.db"), log, rec.Attach)
	keys, err := seal.Open(filepath.Join(dir, "key"), false)
	must(t, err)
	unlocked, err := secrets.Unlock(t.Context(), db, keys, time.Now())
	must(t, err)
	ids := unlocked.RequestIDs
	kept := requestlog.New(filepath.Join(dir, "requests"), unlocked.Columns, log)
	outside, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	inside, err := net.Listen("tcp", "127.0.0.1:0")
	must(t, err)
	address := "http://" + inside.Addr().String()
	fetcher := &fetch.Fetcher{Private: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, Folders: []string{dir}}
	gate := gateway.New(gateway.Config{
		IDs: ids, Timeout: 5 * time.Second, Connections: 64, Requests: kept,
	}, rec, log)
	skew := new(atomic.Int64)
	s := app.New(app.Config{
		Now:     func() time.Time { return time.Now().Add(time.Duration(skew.Load())) },
		Records: db, Signals: keeper, Blobs: blobs, Recorder: rec, Requests: kept, Router: gate, Log: log,
		Fetch: fetcher, Spare: time.Nanosecond, Address: address, Keys: keys, Unlocked: unlocked,
		Jobs: filepath.Join(dir, "jobs"),
	})
	a, err := api.New(s, rec, api.Config{
		Console: api.Console{Files: fstest.MapFS{}}, Hosts: []string{"Ladder.town.example", "*.models.example"},
		Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.2/31")},
	}, log)
	must(t, err)
	go func() { _ = gate.Serve(outside) }()
	go func() { _ = a.Serve(inside) }()
	working, stopWorking := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() { rec.RunReader(working) })
	all.Go(func() { kept.Run(working) })
	set := server.Jobs(s, gate, rec, kept, keeper, nil, log)
	all.Go(func() { set.Run(working) })
	r := &rig{
		t: t, skew: skew, dir: dir, store: db, server: address, gateway: "http://" + outside.Addr().String(),
		app: s, jobs: set,
	}
	r.stopJobs = func() { stopWorking(); all.Wait(); s.Observe.Settle(); s.Proof.Settle() }
	t.Cleanup(func() {
		r.stopJobs()
		_ = a.Stop(context.Background())
		_ = gate.Stop(context.Background())
		_ = db.Close()
		_ = keeper.Close()
	})
	r.runaToken = r.person("runa", access.Membership{Project: access.Everywhere, Role: access.Owner})
	r.runa = client.New(r.server, r.runaToken)
	r.tove = client.New(r.server, r.person("tove", everywhere("author", "approver", "operator")...))
	return r
}

func everywhere(roles ...string) (out []access.Membership) {
	for _, role := range roles {
		out = append(out, access.Membership{Project: access.Everywhere, Role: role})
	}
	return out
}

// person adds someone and gives them a token. They come in by a provider of sign-ins,
// because a password takes a tenth of a second.
func (r *rig) person(name string, roles ...access.Membership) (token string) {
	r.t.Helper()
	ctx := r.t.Context()
	_, err := r.app.People.AddPerson(ctx, act.BySelf(),
		wire.NewPerson{Name: name, Email: name + "@tarnholm.example", Memberships: roles})
	must(r.t, err)
	session, _, err := r.app.People.SignInVouched(r.t.Context(),
		people.Vouched{Issuer: "test", Subject: name, Email: name + "@tarnholm.example", Verified: true},
		people.From{})
	must(r.t, err)
	actor, err := r.app.People.BySession(r.t.Context(), session)
	must(r.t, err)
	made, err := r.app.People.MakeToken(r.t.Context(), actor, wire.NewToken{Title: "test"})
	must(r.t, err)
	return made.Secret
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// wantCode fails unless err is the problem with a code.
func wantCode(t *testing.T, what string, err error, code string) {
	t.Helper()
	if client.Code(err) != code {
		t.Errorf("%s: got %v, want %s", what, err, code)
	}
}

// with makes the files of a registration: a sample, when it is named, and artifacts.
func with(sample string, artifacts ...string) []client.LocalFile {
	files := client.Artifacts(artifacts...)
	if sample != "" {
		files = append(files, client.LocalFile{Part: wire.PartSample, Path: sample})
	}
	return files
}

// file writes a file to register.
func (r *rig) file(name, content string) string {
	path := filepath.Join(r.t.TempDir(), name)
	must(r.t, os.WriteFile(path, []byte(content), 0o600))
	return path
}

// register registers a version whose bytes are its content, with a signature x → y, and the report
// that measured its metrics.
func (r *rig) register(model, content string, metrics map[string]float64) string {
	r.t.Helper()
	files := with(r.file("rows.csv", "x,y\n1.5,2\n2.5,3\n"), r.file("model.bin", content))
	if len(metrics) > 0 {
		files = append(files, r.report(metrics))
	}
	v, err := r.runa.Register(r.t.Context(),
		wire.Registration{Model: model, Metrics: metrics, Targets: []string{"y"}}, files)
	must(r.t, err)
	return v.Ref
}

// report writes the report of an evaluation that measured some metrics.
func (r *rig) report(metrics map[string]float64) client.LocalFile {
	r.t.Helper()
	b, err := json.Marshal(evidence.Evaluation{Rows: 100, Metrics: metrics})
	must(r.t, err)
	return client.LocalFile{Part: wire.PartReport, Path: r.file("evaluation.json", string(b))}
}

// approve brings a version to live.
func (r *rig) approve(ref string) {
	r.t.Helper()
	p, err := r.runa.Promote(r.t.Context(), ref, "live", "")
	must(r.t, err)
	p, err = r.tove.Sign(r.t.Context(), p.ID, rule.Yes, "read it")
	must(r.t, err)
	if p.State != ladder.CarriedOut {
		r.t.Fatalf("%s is %s: %+v", p.ID, p.State, p.Findings)
	}
}

// modelServer is a small model server that answers y = x + bias.
type modelServer struct {
	*httptest.Server
	down    atomic.Bool
	failing atomic.Bool
	bias    atomic.Int64 // more than from the start
	texts   atomic.Bool  // answers with texts where numbers are promised
	copies  atomic.Int64 // requests that nobody acts on
	input   string
}

func (r *rig) modelServer(bias float64) *modelServer {
	m := &modelServer{input: "x"}
	mux := http.NewServeMux()
	mux.HandleFunc("/v2/health/ready", func(w http.ResponseWriter, _ *http.Request) {
		if m.down.Load() {
			w.WriteHeader(503)
			_, _ = io.WriteString(w, `{"error":"warming up"}`)
		}
	})
	mux.HandleFunc("/v2/models/heat-demand/ready", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("/v2/models/heat-demand", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `{"name":"heat-demand","platform":"test","inputs":[{"name":%q,"datatype":"FP64","shape":[-1]}],"outputs":[{"name":"y","datatype":"FP64","shape":[-1]}]}`, m.input)
	})
	mux.HandleFunc("/v2/models/heat-demand/infer", func(w http.ResponseWriter, q *http.Request) {
		if q.Header.Get(traffic.CopyHeader) == "true" {
			m.copies.Add(1)
		}
		if m.failing.Load() {
			w.WriteHeader(500)
			_, _ = io.WriteString(w, `{"error":"told to fail"}`)
			return
		}
		if m.texts.Load() {
			_, _ = io.WriteString(w, `{"outputs":[{"name":"y","datatype":"BYTES","shape":[1],"data":["warm"]}]}`)
			return
		}
		var in struct{ Inputs []struct{ Data []float64 } }
		if json.NewDecoder(q.Body).Decode(&in) != nil || len(in.Inputs) == 0 || len(in.Inputs[0].Data) == 0 {
			w.WriteHeader(400) // whoever asked has left
			return
		}
		fmt.Fprintf(w, `{"model_name":"heat-demand","outputs":[{"name":"y","datatype":"FP64","shape":[1],"data":[%v]}]}`, in.Inputs[0].Data[0]+bias+float64(m.bias.Load()))
	})
	m.Server = httptest.NewServer(mux)
	r.t.Cleanup(m.Close)
	return m
}

// infer calls the endpoint once, with some headers, and returns status and version.
func (r *rig) infer(x float64, header ...string) (int, string) {
	r.t.Helper()
	req, err := http.NewRequest("POST", r.gateway+"/v2/models/demand-hourly/infer",
		strings.NewReader(fmt.Sprintf(`{"inputs":[{"name":"x","datatype":"FP64","shape":[1],"data":[%v]}]}`, x)))
	must(r.t, err)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	must(r.t, err)
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	return res.StatusCode, res.Header.Get(gateway.VersionHeader)
}

// twoVersions sets up an endpoint with two live, placed versions, all traffic to the
// first.
func (r *rig) twoVersions() (one, two *modelServer) {
	r.t.Helper()
	ctx := r.t.Context()
	one, two = r.modelServer(0), r.modelServer(0)
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(r.t, err)
	for i, m := range []*modelServer{one, two} {
		ref := r.register("heat-demand", fmt.Sprint("weights ", i), map[string]float64{"rmse": 0.4})
		r.approve(ref)
		_, err = r.runa.Place(ctx, ref, "plant-north", []string{m.URL}, "")
		must(r.t, err)
	}
	_, err = r.runa.AddEndpoint(ctx,
		wire.NewEndpoint{Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north"})
	must(r.t, err)
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "start", -1)
	must(r.t, err)
	return one, two
}

func lanes(main, trial int) []traffic.Lane {
	return []traffic.Lane{
		{Kind: traffic.Main, Version: "heat-demand@1", Share: main},
		{Kind: traffic.Trial, Version: "heat-demand@2", Share: trial},
	}
}

// call makes a raw call and holds the answer against the document.
func (r *rig) call(method, path, body string, header ...string) (int, http.Header, []byte) {
	r.t.Helper()
	res, b := r.bare(method, path, body, header...)
	if strings.HasPrefix(path, "/api/v1/") {
		checkAnswer(r.t, method, path, res, b)
	}
	return res.StatusCode, res.Header, b
}

// bare makes a raw call.
func (r *rig) bare(method, path, body string, header ...string) (*http.Response, []byte) {
	r.t.Helper()
	req, err := http.NewRequestWithContext(r.t.Context(), method, r.server+path, strings.NewReader(body))
	must(r.t, err)
	req.Header.Set("Authorization", "Bearer "+r.runaToken)
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	must(r.t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	must(r.t, err)
	return res, b
}

var compiler = func() *jsonschema.Compiler {
	doc, err := api.Document()
	if err != nil {
		panic(err)
	}
	parsed, err := jsonschema.UnmarshalJSON(bytes.NewReader(doc))
	if err != nil {
		panic(err)
	}
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	if err := c.AddResource("openapi.json", parsed); err != nil {
		panic(err)
	}
	return c
}()

// described lists the paths of the document as patterns.
var described = func() map[string]*regexp.Regexp {
	doc, err := api.Document()
	if err != nil {
		panic(err)
	}
	var parsed struct{ Paths map[string]any }
	if err := json.Unmarshal(doc, &parsed); err != nil {
		panic(err)
	}
	out := map[string]*regexp.Regexp{}
	for p := range parsed.Paths {
		out[p] = regexp.MustCompile("^" + regexp.MustCompile(`\{[a-z]+\}`).ReplaceAllString(p, "[^/]+") + "$")
	}
	return out
}()

// schemaAt is a part of the document as a schema. The compiler takes one at a time, and tests run beside each other.
func schemaAt(pointer string) (*jsonschema.Schema, error) {
	compiling.Lock()
	defer compiling.Unlock()
	return compiler.Compile(pointer)
}

var compiling sync.Mutex

// checkAnswer holds a JSON answer against what the document says of it.
func checkAnswer(t *testing.T, method, path string, res *http.Response, body []byte) {
	t.Helper()
	kind := res.Header.Get("Content-Type")
	if !strings.Contains(kind, "json") {
		return
	}
	plain, _, _ := strings.Cut(path, "?")
	status, media := fmt.Sprint(res.StatusCode), "application~1json"
	if res.StatusCode >= 400 {
		status, media = "default", "application~1problem+json"
		if kind != wire.ProblemType {
			t.Errorf("%s %s: a problem came as %s", method, path, kind)
		}
	}
	for p, pattern := range described {
		if !pattern.MatchString(plain) {
			continue
		}
		pointer := fmt.Sprintf("openapi.json#/paths/%s/%s/responses/%s/content/%s/schema",
			strings.NewReplacer("~", "~0", "/", "~1").Replace(p), strings.ToLower(method), status, media)
		schema, err := schemaAt(pointer)
		if err != nil {
			continue // another path of the same form has this method
		}
		value, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
		must(t, err)
		if err := schema.Validate(value); err != nil {
			t.Errorf("%s %s answered what the document does not say: %v\n%s", method, path, err, body)
		}
		return
	}
	if res.StatusCode < 400 {
		t.Errorf("%s %s answered %d, which the document does not describe", method, path, res.StatusCode)
	}
}
