package api_test

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"innerladder/internal/api"
	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/incident"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/people"
	"innerladder/internal/core/schedule"
	"innerladder/internal/core/watch"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// hidden stands in everything that is written down in the project zebra, and in no name:
// whoever may not see the project must never read it.
const hidden = "quagga"

// route is one operation of the document.
type route struct {
	method, path, id, permission string
	// statuses are those that the document names.
	statuses []string
}

func routes(t *testing.T) []route {
	t.Helper()
	doc, err := api.Document()
	must(t, err)
	var parsed struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
			Permission  string `json:"x-permission"`
			Responses   map[string]any
		}
	}
	must(t, json.Unmarshal(doc, &parsed))
	var out []route
	for _, p := range slices.Sorted(maps.Keys(parsed.Paths)) {
		for _, m := range slices.Sorted(maps.Keys(parsed.Paths[p])) {
			o := parsed.Paths[p][m]
			out = append(out, route{
				strings.ToUpper(m), p, o.OperationID, o.Permission,
				slices.Sorted(maps.Keys(o.Responses)),
			})
		}
	}
	return out
}

// zebra fills a project that only its owner and odd may see, and returns what its things
// are called by the parameter of the paths that name them.
func (r *rig) zebra() map[string]string {
	r.t.Helper()
	ctx := r.t.Context()
	_, err := r.runa.AddProject(ctx, "zebra", hidden)
	must(r.t, err)
	m := r.modelServer(0)
	r.stable()
	data, err := r.runa.AddDataSet(ctx,
		wire.NewDataSet{
			Name: "zebra-data", Project: "zebra", Address: "https://" + hidden + ".example",
			Description: hidden,
		})
	must(r.t, err)
	run, err := r.runa.StartRun(ctx,
		wire.NewRun{
			Model: "heat-demand", Project: "zebra", Title: hidden,
			Data: []lineage.DataUse{{Data: data.Ref, Role: lineage.TrainedOn}},
		})
	must(r.t, err)
	r.registerStripes(run.Ref)
	r.approve("heat-demand@1")
	_, err = r.runa.Promote(ctx, "heat-demand@2", "proven", hidden)
	must(r.t, err)
	_, err = r.runa.Place(ctx, "heat-demand@1", "plant-north", []string{m.URL}, "")
	must(r.t, err)
	_, err = r.runa.AddEndpoint(ctx,
		wire.NewEndpoint{
			Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north",
			Description: hidden,
		})
	must(r.t, err)
	_, err = r.runa.SetCustomSignal(ctx, "demand-hourly", "dispatch_cost", wire.EditCustom{
		Better: "lower", Unit: hidden, About: hidden,
	})
	must(r.t, err)
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], hidden, -1)
	must(r.t, err)
	r.stripedRollout()
	r.stripesAreScored()
	_, asked := r.asked("demand-hourly", `{"inputs":[{"name":"`+hidden+
		`","datatype":"FP64","shape":[1],"data":[1]}]}`)
	_, err = r.runa.AddCaller(ctx, "demand-hourly", "zebra-app")
	must(r.t, err)
	_, err = r.runa.Comment(ctx, 0, "heat-demand@1", hidden)
	must(r.t, err)
	evidence, err := r.runa.AttachEvidence(ctx, "heat-demand@1", "document", "", r.file(hidden+".md", hidden))
	must(r.t, err)
	hook, err := r.runa.AddWebhook(ctx, wire.NewWebhook{Project: "zebra", Address: m.URL + "/" + hidden})
	must(r.t, err)
	r.stripesAlert()
	odd := client.New(r.server, r.person("odd", access.Membership{Project: "zebra", Role: access.Owner}))
	token, err := odd.MakeToken(ctx, wire.NewToken{Title: hidden})
	must(r.t, err)
	_, err = odd.AddPerson(ctx, wire.NewPerson{
		Name: "zebra-robot", Robot: true,
		Memberships: []access.Membership{{Project: "zebra", Role: "author"}},
	})
	must(r.t, err)
	search, err := odd.SaveSearch(ctx, hidden, map[string]string{"text": hidden}, false)
	must(r.t, err)
	status, _, up := r.call("POST", "/api/v1/uploads?name="+hidden, "", "Upload-Complete", "?0")
	var upload struct{ ID string }
	if must(r.t, json.Unmarshal(up, &upload)); status != 201 {
		r.t.Fatalf("beginning an upload: %d %s", status, up)
	}
	return map[string]string{
		"model": "heat-demand", "ref": "heat-demand@1", "other": "heat-demand@2",
		"endpoint": "demand-hourly", "request": asked, "promotion": "P-2", "alert": "A-1", "run": run.Ref,
		"data": data.Ref, "artifact": "model.bin", "attachment": "notes.md", "label": "beta0", "upload": upload.ID,
		"environment": "plant-north", "header": "Authorization", "caller": "zebra-app",
		"person": "zebra-robot", "evidence": evidence.ID, "project": "zebra", "role": "reader",
		"webhook": fmt.Sprint(hook.ID), "delivery": fmt.Sprint(r.delivered(hook.ID)),
		"rollout": "R-1", "plan": "stripes", "incident": "I-1", "name": "python", "replica": "1",
		"watch": "error_rate", "subject": "all", "signal": "dispatch_cost", "number": "1", "job": "J-1",
		"schedule": "nightly", "agent": "91b1b05d-e64e-4443-834f-3d753028cf1d",
		"search": fmt.Sprint(search.ID), "token": fmt.Sprint(token.ID),
	}
}

// delivered is a delivery to a webhook of zebra's; there is one afterwards.
func (r *rig) delivered(hook int64) int64 {
	r.t.Helper()
	ctx := r.t.Context()
	deliveries, err := r.runa.Deliveries(ctx, hook, client.Part{})
	if err == nil && len(deliveries.Items) == 0 {
		_, err = r.runa.Comment(ctx, 0, "heat-demand@1", hidden)
		must(r.t, err)
		deliveries, err = r.runa.Deliveries(ctx, hook, client.Part{})
	}
	must(r.t, err)
	return deliveries.Items[0].ID
}

// stripedRollout adds a plan and a rollout of zebra's.
func (r *rig) stripedRollout() {
	r.t.Helper()
	ctx := r.t.Context()
	text := "name: stripes\nkind: blue_green\nabout: " + hidden + "\nbake:\n  time: 1h\n"
	_, err := r.runa.PutPlan(ctx, "zebra", text, hidden)
	must(r.t, err)
	later := time.Now().Add(time.Hour)
	_, err = r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{
		To: "heat-demand@2", Plan: "stripes", Reason: hidden, StartsAt: &later,
	})
	must(r.t, err)
	must(r.t, r.store.Write(ctx, records.Everything, func(q records.View) error {
		return q.AddIncident(ctx, &incident.Incident{
			Endpoint: "demand-hourly", Candidate: "heat-demand@2", Incumbent: "heat-demand@1", By: "runa", Why: hidden,
			Left: 1, For: 1, Begun: time.Now().Add(-time.Minute), At: time.Now().Add(-time.Minute),
		})
	}))
}

// stripesAlert adds an alert of zebra's.
func (r *rig) stripesAlert() {
	r.t.Helper()
	ctx := r.t.Context()
	must(r.t, r.store.Write(ctx, records.Everything, func(q records.View) error {
		return q.AddAlert(ctx, &watch.Alert{
			Kind: "rolled_back", Endpoint: "demand-hourly", Subject: "heat-demand@1",
			Signal: "error_rate", Sentence: hidden, RaisedAt: time.Now(),
		})
	}))
}

// stripesAreScored adds a job and a schedule of zebra's.
func (r *rig) stripesAreScored() {
	r.t.Helper()
	ctx := r.t.Context()
	_, err := r.runa.Score(ctx, wire.NewScoring{Asked: "heat-demand@1", Name: hidden + ".csv"},
		strings.NewReader("x\n1\n"))
	must(r.t, err)
	_, err = r.runa.SetSchedule(ctx, wire.NewSchedule{
		Name: "nightly", Cron: "0 0 1 1 *", Reason: hidden,
		Score: schedule.Scored{Asked: "heat-demand@1", From: "https://" + hidden + ".example"},
	})
	must(r.t, err)
	_, err = r.runa.SetStanding(ctx, wire.NewStanding{
		Model: "heat-demand", Name: hidden + ".csv", Reason: hidden, Judging: wire.Judging{Target: "y"},
	}, strings.NewReader("x,y\n1,2\n"))
	must(r.t, err)
	_, err = r.runa.SetCases(ctx, "heat-demand", "cases: [{name: "+hidden+", within: 1s}]", hidden)
	must(r.t, err)
}

// stable adds zebra's environment.
func (r *rig) stable() {
	r.t.Helper()
	_, err := r.runa.AddEnvironment(r.t.Context(), wire.NewEnvironment{
		Name: "plant-north", Project: "zebra", Description: hidden, Allowed: []string{"127.0.0.1", hidden + ".example"},
	})
	must(r.t, err)
}

// registerStripes registers two versions out of a run of zebra's.
func (r *rig) registerStripes(run string) {
	r.t.Helper()
	files := with(r.file("rows.csv", "x,y\n1.5,2\n2.5,3\n"), r.file("model.bin", "stripes"))
	files = append(files, client.LocalFile{Part: wire.PartAttachment, Path: r.file("notes.md", hidden)},
		r.report(map[string]float64{hidden: 0.4, "rmse": 1}))
	for i := range 2 {
		files[0].Path = r.file("model.bin", fmt.Sprint("stripes ", i))
		_, err := r.runa.Register(r.t.Context(), wire.Registration{
			Model: "heat-demand", Project: "zebra", Run: run,
			Note: hidden, Description: hidden, Metrics: map[string]float64{hidden: 0.4, "rmse": 1},
			Code:    &lineage.Code{Repository: "https://" + hidden + ".example", Commit: "abcdef0123456789"},
			Targets: []string{"y"}, Labels: []string{fmt.Sprint("beta", i)},
		}, files)
		must(r.t, err)
	}
}

// asks are requests about things of zebra that are well formed, by operation: its query,
// then its body.
var asks = map[string][2]string{
	"handleAlert": {"", `{"state":"resolved","note":"x"}`}, "saveSearch": {"", `{"name":"mine","query":{}}`},
	"comment":     {"", `{"subject":"heat-demand@1","text":"x"}`},
	"addDataSet":  {"", `{"name":"zebra-data","address":"https://x.example"}`},
	"addEndpoint": {"", `{"name":"other","model":"heat-demand","environment":"plant-north"}`},
	"back":        {"", `{"reason":"x"}`}, "addCaller": {"", `{"name":"x"}`},
	"compareVersions": {"?incumbent=heat-demand@1&candidate=heat-demand@2", ""},
	"setKeyed":        {"", `{"keyed":false,"reason":"x"}`},
	"split":           {"", `{"lanes":[{"kind":"main","version":"heat-demand@1","share":10000}],"reason":"x"}`},
	"confirmAnswers":  {"", `{"environment":"plant-north","reason":"x"}`},
	"makeContract":    {"", `{"version":"heat-demand@1","reason":"x"}`},
	"addEnvironment":  {"", `{"name":"x","project":"zebra"}`}, "editEnvironment": {"", `{"description":"x"}`},
	"useProject": {"", `{"project":"zebra"}`}, "foresee": {"", `{"model":"heat-demand"}`},
	"startRollout": {"", `{"to":"heat-demand@2"}`}, "previewRollout": {"", `{"to":"heat-demand@2"}`},
	"explainRoute":  {"", `{"key":"x"}`},
	"changeRollout": {"", `{"do":"hold","reason":"x"}`}, "handleIncident": {"", `{"note":"x"}`},
	"putPlan":      {"", `{"project":"zebra","text":"name: a\nkind: blue_green\nbake: {time: 1h}"}`},
	"editEndpoint": {"", `{"description":"x"}`},
	"removeModel":  {"?reason=x", ""}, "editProject": {"", `{"description":"x"}`},
	"changeAddresses": {"", `{"add":["http://127.0.0.1:1"]}`}, "setHeader": {"", `{"value":"x"}`},
	"lineUp":   {"?versions=heat-demand", ""},
	"markRead": {"", `{"notice":1}`},
	"changePassword": {
		"",
		`{"old":"x","password":"four words of nonsense"}`,
	}, "setPreferences": {"", `{"choices":{}}`},
	"editModel": {"", `{"description":"x"}`},
	"putLabel":  {"", `{"number":1}`}, "vetModel": {"", `{"vetted":true,"reason":"x"}`},
	"addPerson":  {"", `{"name":"x","robot":true,"memberships":[{"project":"zebra","role":"reader"}]}`},
	"editPerson": {"", `{"email":""}`},
	"place":      {"", `{"version":"heat-demand@2","environment":"plant-north","addresses":["http://127.0.0.1:1"]}`},
	"addProject": {"", `{"name":"x"}`},
	"promote":    {"", `{"version":"heat-demand@2","to":"live"}`}, "sign": {"", `{"answer":"yes"}`},
	"withdraw": {"", `{"reason":"x"}`}, "putRole": {"", `{"permissions":["read"]}`},
	"startRun": {"", `{"model":"heat-demand"}`}, "endRun": {"", `{}`}, "logRun": {"", `{"params":{"a":"b"}}`},
	"rotateKey": {"", `{}`}, "setMail": {"", `{"host":""}`}, "setRetention": {"", `{"minutes":"100h"}`},
	"makeToken": {"", `{"title":"x","robot":"zebra-robot"}`}, "trace": {"?from=heat-demand@1", ""},
	"beginUpload": {"?name=x", ""}, "lookAtUpload": {"?part=artifact", ""},
	"register":      {"", `{"model":"heat-demand","sources":[{"address":"file://FOLDER/key"}]}`},
	"deleteVersion": {"?reason=x", ""}, "editVersion": {"", `{"note":"x"}`},
	"evaluatedOn": {"", `{"data":"zebra-data#1"}`},
	"reinstate":   {"", `{"reason":"x"}`}, "retire": {"", `{"reason":"x"}`},
	"addWebhook": {"", `{"project":"zebra","address":"https://x.example"}`}, "verifyAudit": {"", `{}`},
	"collect":    {"", `{}`},
	"listTokens": {"?robot=zebra-robot", ""}, "previewLadder": {"", `{}`},
	"setLadder":     {"", `{"rungs":[{"name":"draft"},{"name":"live"}],"reason":"x"}`},
	"showStatement": {"", `{"answer":"yes"}`}, "tick": {"", `{"item":"x","note":"x"}`},
	"putWatches": {"", `{"text":"watches: []"}`}, "setWatch": {"", `{"signal":"error_rate","limit":"2 %"}`},
	"mute":            {"", `{"subject":"all","for":"1h","reason":"x"}`},
	"tellOutcomes":    {"", `{"items":[{"request":"x","values":{"y":1}}]}`},
	"setCustomSignal": {"", `{"better":"lower"}`},
	"report":          {"", `{"items":[{"request":"x","values":{"dispatch_cost":1}}]}`},
	"explainVersions": {"", `{"versions":["heat-demand@1"],"environment":"plant-north"}`},
	"tryVersions":     {"", `{"versions":["heat-demand@1"],"environment":"plant-north"}`},
	"agentMet":        {"", `{"versions":["1"]}`}, "agentBatch": {"", `{"number":1,"name":"a","windows":[]}`},
	"tryAgain": {"", `{}`}, "listRequests": {"?endpoint=demand-hourly", ""},
	"listRefusals":  {"?endpoint=demand-hourly", ""},
	"addSigningKey": {"", `{"public":"KEY"}`}, "endSigningKey": {"?key=SHA256:x", ""},
	"attachEvidence": {"?kind=document", ""},
	"score":          {"?asked=heat-demand@1&name=rows.csv", "x\n1\n"},
	"evaluate":       {"?asked=heat-demand@1&name=rows.csv&target=y", "x,y\n1,2\n"},
	"importance":     {"?asked=heat-demand@1&name=rows.csv&target=y", "x,y\n1,2\n"},
	"robustness":     {"", `{"asked":"heat-demand@1","answering":true}`},
	"replay":         {"", `{"endpoint":"demand-hourly","to":"heat-demand@2"}`},
	"check":          {"?asked=heat-demand@1", "cases: [{name: a, within: 1s}]"},
	"setCases":       {"", `{"text":"cases: [{name: a, within: 1s}]"}`},
	"setStanding":    {"?target=y&name=rows.csv", "x,y\n1,2\n"},
	"stopJob":        {"", `{"reason":"x"}`}, "resumeJob": {"", `{"reason":"x"}`},
	"setSchedule":   {"", `{"cron":"0 0 * * *","score":{"asked":"heat-demand@1","from":"https://x.example/rows"}}`},
	"pauseSchedule": {"", `{"paused":true}`}, "turnNow": {"", `{}`},
	"putTemplate": {"", `{"command":["/opt/serve","{port}"],"reason":"x"}`},
}

// general are the operations that are about nothing of zebra: they may succeed, and must
// show nothing of it.
var general = []string{
	"activity", "listAlerts", "searchAudit", "exportAudit", "listSearches", "saveSearch", "find",
	"vocabulary", "listDataSets", "listEndpoints", "listEnvironments", "events",
	"listRequirementKinds", "listSigningKeys", "addSigningKey", "inbox", "markRead", "showPreferences",
	"setPreferences", "listSessions", "listModels", "now", "listPeople", "listPermissions", "listPlacements",
	"listProjects", "listPromotions", "gatewayAddress", "listRunning", "listTemplates", "listJobs",
	"listSchedules",
	"glossary",
	"listIncidents", "listPlans", "listRollouts", "listRoles", "listRuns", "whoAmI", "beginUpload", "listWebhooks",
}

// newKey is a public key that nobody has made known yet.
func newKey() string {
	public, _, _ := ed25519.GenerateKey(rand.Reader)
	return base64.StdEncoding.EncodeToString(public)
}

// ask makes a call as someone, about things of zebra.
func (r *rig) ask(o route, token string, things map[string]string) (int, string) {
	r.t.Helper()
	return r.askFor(o, token, things, asks[o.id])
}

// askFor is the same with another query and body.
func (r *rig) askFor(o route, token string, things map[string]string, q [2]string) (int, string) {
	r.t.Helper()
	path := regexp.MustCompile(`\{(\w+)\}`).
		ReplaceAllStringFunc(o.path, func(p string) string {
			return strings.ReplaceAll(things[p[1:len(p)-1]], "#",
				"%23")
		})
	req, err := http.NewRequestWithContext(r.t.Context(), o.method, r.server+path+q[0],
		strings.NewReader(strings.NewReplacer("FOLDER", r.dir, "KEY", newKey()).Replace(q[1])))
	must(r.t, err)
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Content-Type", "application/json")
	if o.id == "appendUpload" {
		req.Header.Set("Upload-Offset", "0")
	}
	if part := map[string]string{"attach": "attachment", "attachEvidence": "file"}[o.id]; part != "" {
		req.Header.Set("Content-Type", "multipart/form-data; boundary=b")
		req.Body = io.NopCloser(strings.NewReader("--b\r\nContent-Disposition: form-data; name=\"" + part +
			"\"; filename=\"x.txt\"\r\n\r\nx\r\n--b--\r\n"))
	}
	res, err := http.DefaultClient.Do(req)
	must(r.t, err)
	defer res.Body.Close()
	if !slices.Contains(o.statuses, fmt.Sprint(res.StatusCode)) {
		r.t.Errorf("%s answered %d, which its document does not name: %v", o.id, res.StatusCode, o.statuses)
	}
	if o.id == "events" { // a stream: what comes within a moment
		b := make([]byte, 4096)
		n, _ := res.Body.Read(b)
		return res.StatusCode, string(b[:n])
	}
	b, err := io.ReadAll(res.Body)
	must(r.t, err)
	return res.StatusCode, string(b)
}

// All routes by all roles: who may not gets "not found" or "forbidden", and nothing more.
func TestNobodySeesOrDoesWhatTheyMayNot(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "heat", "")
	must(t, err)
	things := r.zebra()
	log, err := r.runa.Audit(ctx, nil, client.Part{Limit: 200})
	must(t, err)
	for _, e := range log.Items {
		class, _, _ := strings.Cut(e.Kind, ".")
		if ofService := slices.Contains([]string{
			"person", "project", "environment", "role", "member", "token",
			"search", "service",
		}, class); !ofService && e.Project != "zebra" {
			t.Errorf("line %d, %s, is in the project %q", e.Seq, e.Kind, e.Project)
		}
	}
	roles := append(access.BuiltIn(),
		access.Role{Name: "auditor", Permissions: []access.Permission{access.Read, access.Audit}},
		access.Role{Name: "nobody"})
	_, err = r.runa.PutRole(ctx, "auditor", []string{"audit"}, "")
	must(t, err)
	for _, role := range roles {
		var m []access.Membership
		if role.Name != "nobody" {
			m = []access.Membership{{Project: "heat", Role: role.Name}}
		}
		token := r.person("a-"+role.Name, m...)
		may := role.Set()
		for _, o := range routes(t) {
			if o.permission == "" || o.id == "signOut" || o.id == "endOtherSessions" {
				continue
			}
			status, body := r.ask(o, token, things)
			p := access.Permission(o.permission)
			what := fmt.Sprintf("%s: %s %s (%s needs %s): %d %.300s", role.Name, o.method, o.path, o.id, p, status,
				body)
			switch {
			case strings.Contains(body, hidden):
				t.Errorf("shows what is hidden: %s", what)
			case p != access.Own && p != access.SignedIn && (!may[p] || p == access.Administer):
				if status != 403 {
					t.Errorf("should be forbidden: %s", what)
				}
			case slices.Contains(general, o.id):
				if status >= 400 {
					t.Errorf("should do: %s", what)
				}
			// Names are unique in the whole service, so a name that is taken elsewhere is refused
			// without saying by what; a password is changed in the console only; the record's
			// chain runs through all projects.
			case status != 403 && status != 404 && !(status == 409 && strings.Contains(body, "name.taken")):
				t.Errorf("should not be found: %s", what)
			}
		}
	}
	// What all of this tried has changed nothing.
	if v, err := r.runa.Version(ctx, "heat-demand@1"); err != nil || v.Rung != "live" || v.Note != hidden {
		t.Errorf("afterwards: %+v %v", v, err)
	}
	if all, err := r.runa.Promotions(ctx, client.PromotionSearch{}, client.Part{}); err != nil || len(all.Items) != 2 {
		t.Errorf("afterwards there are %d promotions, %v", len(all.Items), err)
	}
	// And the project's own owner sees it.
	for _, o := range routes(t) {
		if o.id == "showVersion" || o.id == "activity" {
			if status, body := r.ask(o, r.person("sees-"+strings.ToLower(o.id),
				access.Membership{Project: "zebra", Role: "reader"}), things); status != 200 ||
				!strings.Contains(body, hidden) {
				t.Errorf("a reader of zebra: %s: %d", o.id, status)
			}
		}
	}
}

// Every route that is not open to all states what it needs, and the open ones are few.
func TestRoutesSayWhatTheyNeed(t *testing.T) {
	var open []string
	for _, o := range routes(t) {
		if o.permission == "" {
			open = append(open, o.id)
		}
	}
	slices.Sort(open)
	if want := []string{
		"backFromProvider", "comeIn", "lookAtLink", "signIn", "signInByProvider",
		"waysIn",
	}; !slices.Equal(open, want) {
		t.Errorf("open to all: %v", open)
	}
}

func TestTokensMayNoMoreThanTheirOwners(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "heat", "")
	must(t, err)
	_, err = r.runa.AddProject(ctx, "valves", "")
	must(t, err)
	narrow, err := r.tove.MakeToken(ctx,
		wire.NewToken{
			Title: "pipeline",
			Scope: access.Scope{Permissions: []access.Permission{access.Register}, Projects: []string{"heat"}},
			Lasts: "1h",
		})
	must(t, err)
	c := client.New(r.server, narrow.Secret)
	_, err = c.AddDataSet(ctx, wire.NewDataSet{Name: "winters", Project: "heat", Address: "https://x.example"})
	must(t, err)
	_, err = c.AddDataSet(ctx, wire.NewDataSet{Name: "valves", Project: "valves", Address: "https://x.example"})
	wantCode(t, "another project", err, "project.unknown")
	_, err = c.AddEndpoint(ctx, wire.NewEndpoint{Name: "x", Model: "m", Environment: "e"})
	wantCode(t, "another permission", err, "permission.missing")
	_, err = c.MakeToken(ctx, wire.NewToken{Title: "a wider one"})
	wantCode(t, "a narrowed token makes another", err, "token.narrowed")
	_, err = r.tove.MakeToken(ctx, wire.NewToken{Title: "for ever", Lasts: "99999h"})
	wantCode(t, "too long", err, "token.lasts")

	all, err := r.tove.Tokens(ctx, "")
	must(t, err)
	if len(all.Items) != 2 || all.Items[0].Hint != narrow.Secret[len(narrow.Secret)-4:] || all.Items[0].UsedAt == nil {
		t.Errorf("tokens: %+v", all.Items)
	}
	_, err = r.tove.EndToken(ctx, narrow.ID)
	must(t, err)
	_, err = c.WhoAmI(ctx)
	wantCode(t, "taken away", err, "token.wrong")
	kari := client.New(r.server, r.person("kari", access.Membership{Project: "heat", Role: "author"}))
	_, err = kari.EndToken(ctx, all.Items[1].ID)
	wantCode(t, "someone else's", err, "token.unknown")

	// who loses a role, loses it in all tokens at once; who is shut out is out
	_, err = r.runa.TakeRole(ctx, "kari", access.Membership{Project: "heat", Role: "author"}, "")
	must(t, err)
	_, err = kari.AddDataSet(ctx, wire.NewDataSet{Name: "x", Address: "https://x.example"})
	wantCode(t, "without the role", err, "permission.missing")
	out := true
	_, err = r.runa.EditPerson(ctx, "kari", wire.PersonEdit{Disabled: &out})
	must(t, err)
	_, err = kari.WhoAmI(ctx)
	wantCode(t, "shut out", err, "token.wrong")
}

func TestNobodyGivesMoreThanTheyHave(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "heat", "")
	must(t, err)
	_, err = r.runa.PutRole(ctx, "host", []string{"manage"}, "gives roles")
	must(t, err)
	host := client.New(r.server, r.person("kari", access.Membership{Project: "heat", Role: "host"}))
	r.person("odd")
	for role, code := range map[string]string{
		"reader": "", "approver": "member.more_than_own",
		"owner": "member.more_than_own", "dreamer": "role.unknown",
	} {
		_, err := host.GiveRole(ctx, "odd", access.Membership{Project: "heat", Role: role})
		wantCode(t, role, err, code)
	}
	_, err = host.GiveRole(ctx, "odd", access.Membership{Project: access.Everywhere, Role: "reader"})
	wantCode(t, "everywhere", err, "permission.missing")
	_, err = host.AddPerson(ctx, wire.NewPerson{
		Name: "bot", Robot: true,
		Memberships: []access.Membership{{Project: "heat", Role: "owner"}},
	})
	wantCode(t, "a robot that may more", err, "member.more_than_own")
	if all, err := r.runa.People(ctx); err != nil ||
		slices.ContainsFunc(all.Items, func(p people.Person) bool { return p.Name == "bot" }) {
		t.Errorf("half of a robot is there: %v", err)
	}
	_, err = r.runa.GiveRole(ctx, "odd", access.Membership{Project: "heat", Role: "owner"})
	must(t, err)
	_, err = host.TakeRole(ctx, "odd", access.Membership{Project: "heat", Role: "owner"}, "")
	wantCode(t, "taking away more than they have", err, "member.more_than_own")
	_, err = r.runa.TakeRole(ctx, "runa", access.Membership{Project: access.Everywhere, Role: access.Owner}, "")
	wantCode(t, "the last owner", err, "person.last_owner")
	out := true
	_, err = r.runa.EditPerson(ctx, "runa", wire.PersonEdit{Disabled: &out})
	wantCode(t, "the last owner out", err, "person.last_owner")
	_, err = r.runa.RemoveRole(ctx, "host")
	wantCode(t, "a role in use", err, "role.in_use")
	_, err = r.runa.PutRole(ctx, "reader", []string{"sign"}, "")
	wantCode(t, "a built-in role", err, "role.built_in")
}

// Guessing at passwords and links is slowed down, and tells nothing.
func TestSigningInIsLimited(t *testing.T) {
	r := newRig(t)
	try := func(name, password string) (int, []byte) {
		status, _, b := r.call("POST", "/api/v1/session", fmt.Sprintf(`{"name":%q,"password":%q}`, name, password),
			"Origin", r.server)
		return status, b
	}
	_, known := try("tove", "wrong")
	_, unknown := try("nobody-at-all", "wrong")
	same := func(b []byte) string { // but for the id of the call
		return regexp.MustCompile(`"instance":"[^"]*"|"request_id":"[^"]*"`).ReplaceAllString(string(b), "")
	}
	if same(known) != same(unknown) {
		t.Errorf("whether there is somebody can be told:\n%s\n%s", known, unknown)
	}
	for i := range 30 {
		status, b := try("tove", fmt.Sprint("wrong ", i))
		if status == 429 {
			if i > 5 || !bytes.Contains(b, []byte("sign_in.too_often")) {
				t.Errorf("after %d: %s", i, b)
			}
			return
		}
	}
	t.Error("30 wrong passwords, and no end")
}

// Where a call comes from is what the connection says, or what a proxy of ours says.
func TestAddressesBehindProxies(t *testing.T) {
	r := newRig(t)
	for _, c := range []struct{ from, forwarded, want string }{
		{"127.0.0.1", "", "127.0.0.1"},
		{"127.0.0.1", "10.9.9.9", "127.0.0.1"}, // no proxy of ours
		{"127.0.0.2", "", "127.0.0.2"},
		{"127.0.0.2", "10.9.9.9", "10.9.9.9"},
		{"127.0.0.2", "1.1.1.1, 10.9.9.9", "10.9.9.9"}, // what the caller says of itself does not count
		{"127.0.0.2", "10.9.9.9, 127.0.0.3", "10.9.9.9"},
		{"127.0.0.2", "nonsense", "127.0.0.2"},
	} {
		from := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(c.from)}}
		via := &http.Client{Transport: &http.Transport{DialContext: from.DialContext, DisableKeepAlives: true}}
		req, err := http.NewRequestWithContext(t.Context(), "POST", r.server+"/api/v1/comments",
			strings.NewReader(`{"on":1,"text":"`+c.want+`"}`))
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+r.runaToken)
		req.Header.Set("X-Forwarded-For", c.forwarded)
		res, err := via.Do(req)
		must(t, err)
		_ = res.Body.Close()
		found, err := r.runa.Audit(t.Context(), map[string]string{"kind": "comment"}, client.Part{Limit: 1})
		must(t, err)
		if res.StatusCode != 201 || found.Items[0].Address != c.want {
			t.Errorf("%+v: %d, %s", c, res.StatusCode, found.Items[0].Address)
		}
	}
}
