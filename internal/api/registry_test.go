package api_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

const card = "---\nlicence: CC-BY-4.0\n---\n# Heat demand\n\n## Intended use\nDispatch.\n"

// everything registers a version with all that can be said of one.
func (r *rig) everything(change func(*wire.Registration)) (wire.Registered, error) {
	r.t.Helper()
	rows := "outdoor_c,mix,demand_mw\n"
	for i := range 300 {
		rows += fmt.Sprintf("%g,%s,%g\n", float64(i%40)-20, []string{"works", "harbour"}[i%2], 3-float64(i%40)/20)
	}
	reg := wire.Registration{
		Model: "heat-demand", Note: "two winters", Description: "demand of a substation",
		Metrics: map[string]float64{"rmse": 0.4}, Params: map[string]string{"depth": "6"},
		Importance: map[string]float64{"outdoor_c": 0.8, "mix": 0.2}, Targets: []string{"demand_mw"},
		Units: map[string]string{"demand_mw": "MW"}, Tags: []string{"winter"},
		Properties: map[string]string{"season": "2026"}, Labels: []string{"beta"},
		Code: &lineage.Code{Repository: "https://git.tarnholm.example/heat", Commit: "0123456789abcdef"},
	}
	if change != nil {
		change(&reg)
	}
	return r.runa.Register(r.t.Context(), reg, []client.LocalFile{
		{Part: wire.PartArtifact, Path: r.file("model.json", `{"weights":[1,2]}`)},
		{Part: wire.PartArtifact, Path: r.file("helper.pkl", "\x80\x04\x8c\x02os\x8c\x06system\x93.")},
		{Part: wire.PartSample, Path: r.file("rows.csv", rows)},
		{Part: wire.PartCard, Path: r.file("card.md", card)},
		{Part: wire.PartRequirements, Path: r.file("requirements.txt", "numpy==2.1.0\n-r more.txt\n")},
		{Part: wire.PartAttachment, Path: r.file("residuals.png", "\x89PNG\r\n\x1a\n0000")},
	})
}

func TestRegisteringEverything(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	data, err := r.runa.AddDataSet(ctx,
		wire.NewDataSet{
			Name: "winters-2024", Address: "s3://heat/winters", Digest: strings.Repeat("a", 64),
			Rows: 300,
		})
	must(t, err)
	if again, err := r.tove.AddDataSet(ctx,
		wire.NewDataSet{Name: "winters-2024", Digest: strings.Repeat("A", 64)}); err != nil ||
		again.Ref != data.Ref || again.Created {
		t.Errorf("the same data set again: %+v, %v", again, err)
	}
	v, err := r.everything(func(reg *wire.Registration) {
		reg.Data = []lineage.DataUse{{Data: "winters-2024", Role: lineage.TrainedOn}}
	})
	must(t, err)
	if len(v.Artifacts) != 2 || v.Artifacts[0].Contents.Unsafe == "" || v.Artifacts[1].Contents.Format != "json" ||
		v.Card.Licence != "CC-BY-4.0" || v.Dependencies[0].Want != "==2.1.0" || len(v.Remarks) != 1 {
		t.Errorf("%+v", v)
	}
	if v.ProfileRows != 300 || v.Data[0].Data != "winters-2024#1" || v.Labels[0] != "beta" || v.Tags[0] != "winter" ||
		v.Properties["season"] != "2026" || v.Attachments[0].Media != "image/png" || v.Importance["mix"] != 0.2 {
		t.Errorf("%+v", v)
	}
	if !json.Valid(v.SampleRequest) || !bytes.Contains(v.SampleRequest, []byte(`"outdoor_c"`)) {
		t.Errorf("sample request: %s", v.SampleRequest)
	}
	again, err := r.everything(func(reg *wire.Registration) {
		reg.Data = []lineage.DataUse{{Data: "winters-2024#1", Role: lineage.TrainedOn}}
	})
	if err != nil || again.Created || again.Ref != v.Ref {
		t.Errorf("the same again: %+v, %v", again, err)
	}
	other, err := r.everything(func(reg *wire.Registration) { reg.Metrics["rmse"] = 0.3 })
	if err != nil || other.Ref != "heat-demand@2" || other.Labels[0] != "beta" {
		t.Errorf("another: %+v, %v", other, err)
	}
	if first, err := r.runa.Version(ctx, "heat-demand@1"); err != nil || len(first.Labels) != 0 {
		t.Errorf("the label did not move: %v, %v", first.Labels, err)
	}
	p, err := r.runa.Profile(ctx, "heat-demand@beta")
	if err != nil || p.Rows != 300 || p.Targets[0] != "demand_mw" || len(p.Correlations) != 1 ||
		p.Correlations[0].R > -0.99 {
		t.Errorf("%+v, %v", p.Correlations, err)
	}
	if c, err := r.runa.CompareProfiles(ctx, "heat-demand@1", "heat-demand@2"); err != nil || len(c.Columns) != 3 ||
		c.Columns[0].Movement.PSI > 0.01 {
		t.Errorf("%+v, %v", c, err)
	}
	status, header, body := r.call("GET", "/api/v1/versions/heat-demand@1/attachments/residuals.png", "")
	if status != 200 || header.Get("Content-Type") != "image/png" ||
		!strings.Contains(header.Get("Content-Security-Policy"), "sandbox") || len(body) != 12 {
		t.Errorf("%d %v", status, header)
	}
}

func TestRegistrationsThatAreRefused(t *testing.T) {
	r := newRig(t)
	set := func(f func(*wire.Registration)) func() error {
		return func() error { _, err := r.everything(f); return err }
	}
	for name, c := range map[string]struct {
		do   func() error
		code string
	}{
		"data set that is not there": {set(func(x *wire.Registration) {
			x.Data = []lineage.DataUse{{Data: "summers", Role: lineage.TrainedOn}}
		}), "data.unknown"},
		"role": {
			set(func(x *wire.Registration) { x.Data = []lineage.DataUse{{Data: "summers", Role: "liked"}} }),
			"data.role",
		},
		"parent that is not there": {set(func(x *wire.Registration) {
			x.Parents = []lineage.Parent{{Version: "base@1", Relation: "fine-tuned"}}
		}), "model.unknown"},
		"relation": {set(func(x *wire.Registration) {
			x.Parents = []lineage.Parent{{Version: "base@1", Relation: "Fine tuned"}}
		}), "name.form"},
		"run that is not there":     {set(func(x *wire.Registration) { x.Run = "run-7" }), "run.unknown"},
		"project that is not there": {set(func(x *wire.Registration) { x.Project = "moon" }), "project.unknown"},
		"owner that is not there":   {set(func(x *wire.Registration) { x.Owner = "nobody" }), "person.unknown"},
		"label that is a rung":      {set(func(x *wire.Registration) { x.Labels = []string{"live"} }), "label.rung"},
		"tag of two words":          {set(func(x *wire.Registration) { x.Tags = []string{"a b"} }), "tag.form"},
		"signature": {
			set(func(x *wire.Registration) { x.Signature = &signature.Signature{} }),
			"signature.wrong",
		},
		"signature of other columns": {set(func(x *wire.Registration) {
			x.Signature = &signature.Signature{Inputs: []signature.Column{{Name: "moon", Type: signature.Number}}}
		}), "signature.sample"},
		"upload of nobody": {set(func(x *wire.Registration) {
			x.Uploads = []wire.UploadUse{{ID: strings.Repeat("0", 32), Part: "artifact"}}
		}), "upload.unknown"},
		"address inside": {set(func(x *wire.Registration) {
			x.Sources = []wire.Source{{Address: "http://10.0.0.1/m"}}
		}), "from.private"},
		"card in two ways is one": {set(func(x *wire.Registration) { x.Card = "# other" }), ""},
	} {
		if c.code == "" {
			continue
		}
		wantCode(t, name, c.do(), c.code)
	}
	if all, err := r.runa.Models(t.Context(), client.Part{}); err != nil || len(all.Items) != 0 {
		t.Errorf("models were left: %+v, %v", all, err)
	}
	_, err := r.runa.Register(t.Context(), wire.Registration{Model: "m"},
		client.Artifacts(r.file("m.onnx", "no model")))
	wantCode(t, "a broken model file", err, "artifact.broken")
	if c, err := r.runa.Collect(t.Context(), true); err != nil || c.Files != 0 {
		t.Errorf("refused registrations left %+v, %v", c, err)
	}
}

func TestRegisteringFromAddresses(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_,
			_ = w.Write([]byte(`{"weights":[3]}`))
	}))
	defer server.Close()
	reg := wire.Registration{
		Model: "heat-demand",
		Sources: []wire.Source{
			{Address: server.URL + "/model.json"},
			{Address: server.URL + "/other.json", ReferenceOnly: true},
		},
	}
	v, err := r.runa.Register(ctx, reg, nil)
	must(t, err)
	a, b := v.Artifacts[0], v.Artifacts[1]
	if a.Name != "model.json" || !a.Stored || a.Address == "" || b.Stored || b.Size != 15 || b.Digest != a.Digest {
		t.Errorf("%+v", v.Artifacts)
	}
	var out bytes.Buffer
	must(t, r.runa.Download(ctx, v.Ref, "model.json", &out))
	if out.String() != `{"weights":[3]}` {
		t.Errorf("%q", out.String())
	}
	wantCode(t, "bytes that are not here", r.runa.Download(ctx, v.Ref, "other.json", &out), "artifact.referenced")
	if p, err := r.runa.Promote(ctx, v.Ref, "proven", ""); err != nil || p.Findings[0].State == "passed" {
		t.Errorf("a version whose bytes are elsewhere passes: %+v, %v", p.Findings, err)
	}
	reg.Sources = []wire.Source{{Address: server.URL + "/m.json", Digest: strings.Repeat("0", 64)}}
	_, err = r.runa.Register(ctx, reg, nil)
	wantCode(t, "another digest", err, "from.digest")
}

func TestUploadsInPieces(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	send := func(method, path, body string, header ...string) (int, http.Header, wire.Uploading) {
		status, h, answer := r.call(method, "/api/v1"+path, body, header...)
		var up wire.Uploading
		_ = json.Unmarshal(answer, &up)
		return status, h, up
	}
	status, header, up := send("POST", "/uploads?name=model.json", `{"weig`, "Upload-Complete", "?0", "Upload-Length",
		"15", "Content-Type", "application/partial-upload")
	if status != 201 || up.Offset != 6 || up.Complete || !strings.HasSuffix(header.Get("Location"), up.ID) {
		t.Fatalf("%d %+v", status, up)
	}
	if status, _, _ := send("PATCH", "/uploads/"+up.ID, "xxx", "Upload-Offset", "3", "Upload-Complete",
		"?0"); status != 409 {
		t.Errorf("a wrong offset: %d", status)
	}
	if status, _, _ := send("PATCH", "/uploads/"+up.ID, "xxx", "Upload-Offset", "x"); status != 422 {
		t.Errorf("no offset: %d", status)
	}
	_, err := r.runa.Register(ctx,
		wire.Registration{Model: "heat-demand", Uploads: []wire.UploadUse{{ID: up.ID, Part: "artifact"}}}, nil)
	wantCode(t, "half an upload", err, "upload.not_complete")
	head, err := http.NewRequestWithContext(ctx, "HEAD", r.server+"/api/v1/uploads/"+up.ID, nil)
	must(t, err)
	head.Header.Set("Authorization", "Bearer "+r.runaToken)
	res, err := http.DefaultClient.Do(head)
	must(t, err)
	_ = res.Body.Close()
	if res.StatusCode != 200 || res.Header.Get("Upload-Offset") != "6" {
		t.Errorf("HEAD: %s %v", res.Status, res.Header)
	}
	status, _, up = send("PATCH", "/uploads/"+up.ID, `hts":[1]}`, "Upload-Offset", "6", "Upload-Complete", "?1")
	if status != 200 || !up.Complete || up.Digest == "" {
		t.Fatalf("%d %+v", status, up)
	}
	if status, _, _ := r.call("GET", "/api/v1/uploads/"+up.ID+"/look?part=artifact", ""); status != 200 {
		t.Errorf("looking: %d", status)
	}
	_, err = r.tove.Register(ctx, wire.Registration{
		Model:   "heat-demand",
		Uploads: []wire.UploadUse{{ID: up.ID, Part: "artifact"}},
	}, nil)
	wantCode(t, "the upload of another", err, "upload.unknown")
	_, err = r.runa.Register(ctx, wire.Registration{
		Model:   "Heat",
		Uploads: []wire.UploadUse{{ID: up.ID, Part: "artifact"}},
	}, nil)
	wantCode(t, "a wrong name", err, "name.form")
	status, _, answer := r.call("POST", "/api/v1/versions",
		`{"model":"heat-demand","uploads":[{"id":"`+up.ID+`","part":"artifact","name":"m.json"}]}`, "Content-Type",
		"application/json")
	if status != 201 || !bytes.Contains(answer, []byte(`"name":"m.json"`)) {
		t.Errorf("registering with it: %d %s", status, answer)
	}
	if status, _, _ := send("GET", "/uploads/"+up.ID, ""); status != 404 {
		t.Errorf("a used upload is still there: %d", status)
	}
	large, err := os.Create(filepath.Join(t.TempDir(), "large.bin"))
	must(t, err)
	must(t, large.Truncate(70<<20))
	_ = large.Close()
	if v, err := r.runa.Register(ctx, wire.Registration{Model: "large"},
		client.Artifacts(large.Name())); err != nil || v.Artifacts[0].Size != 70<<20 {
		t.Errorf("a large file: %+v, %v", v.Artifacts, err)
	}
}

func TestRunsAndLineage(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddDataSet(ctx, wire.NewDataSet{Name: "winters", Digest: strings.Repeat("a", 64), Rows: 10})
	must(t, err)
	base, err := r.runa.Register(ctx,
		wire.Registration{Model: "weather-base", Metrics: map[string]float64{"rmse": 1}},
		client.Artifacts(r.file("w.bin", "w")))
	must(t, err)
	run, err := r.runa.StartRun(ctx,
		wire.NewRun{
			Model: "heat-demand", Title: "wind", Machine: "bench-2", Params: map[string]string{"depth": "6"},
			Code: &lineage.Code{Commit: "feedbeef12345"},
			Data: []lineage.DataUse{{Data: "winters", Role: lineage.TrainedOn}},
		})
	must(t, err)
	for step := range 3 {
		_, err := r.runa.LogRun(ctx, run.Ref, map[string]string{"rate": "0.1"},
			[]lineage.Point{
				{Metric: "loss", Step: int64(step), Value: 1 / float64(step+1)},
				{Metric: "rmse", Step: int64(step), Value: 0.5 - float64(step)/10},
			})
		must(t, err)
	}
	_, err = r.runa.LogRun(ctx, run.Ref, nil, []lineage.Point{{Metric: "", Value: 1}})
	wantCode(t, "a point without a name", err, "run.point")
	ended, err := r.runa.EndRun(ctx, run.Ref, false, "early stop")
	if err != nil || ended.State != lineage.Finished || ended.Metrics["rmse"] != 0.3 {
		t.Errorf("%+v, %v", ended, err)
	}
	_, err = r.runa.LogRun(ctx, run.Ref, map[string]string{"late": "yes"}, nil)
	wantCode(t, "logging to a run that ended", err, "run.ended")
	v, err := r.runa.Register(ctx,
		wire.Registration{
			Model: "heat-demand", Run: run.Ref, Metrics: map[string]float64{"mae": 0.2},
			Parents: []lineage.Parent{{Version: base.Ref, Relation: "fine-tuned"}},
		},
		client.Artifacts(r.file("m.bin", "m")))
	must(t, err)
	if v.Metrics["rmse"] != 0.3 || v.Metrics["mae"] != 0.2 || v.Params["rate"] != "0.1" ||
		v.Code.Commit != "feedbeef12345" || v.Data[0].Data != "winters#1" || v.Parents[0].Version != base.Ref {
		t.Errorf("%+v", v)
	}
	_, err = r.runa.Register(ctx, wire.Registration{Model: "other", Run: run.Ref},
		client.Artifacts(r.file("o.bin", "o")))
	wantCode(t, "a run of another model", err, "run.other_model")
	if curves, err := r.runa.Curves(ctx, run.Ref); err != nil || len(curves) != 2 || len(curves[0].Points) != 3 {
		t.Errorf("%+v, %v", curves, err)
	}
	l, err := r.runa.LineUp(ctx, "heat-demand", base.Ref)
	if err != nil || len(l.Versions) != 2 || len(l.Curves) != 2 || l.Metrics[2].Best[0] != v.Ref {
		t.Errorf("%+v, %v", l, err)
	}
	r.checkTraces(v.Ref, base.Ref)
}

// checkTraces follows the lineage of a version that was made from base, by run-1.
func (r *rig) checkTraces(version, base string) {
	t, ctx := r.t, r.t.Context()
	t.Helper()
	for from, want := range map[string]string{
		version: "heat-demand@1 made-by run-1, heat-demand@1 from-code feedbeef12345, heat-demand@1 trained-on " +
			"winters#1, heat-demand@1 fine-tuned weather-base@1",
		"winters":  "heat-demand@1 trained-on winters#1, run-1 trained-on winters#1",
		"run-1":    "heat-demand@1 made-by run-1, run-1 trained-on winters#1, run-1 from-code feedbeef12345",
		"feedbeef": "run-1 from-code feedbeef12345",
		base:       "heat-demand@1 fine-tuned weather-base@1",
	} {
		tr, err := r.runa.Trace(ctx, wire.TraceFrom{From: from})
		must(t, err)
		var links []string
		for _, l := range tr.Links {
			links = append(links, l.From+" "+l.Relation+" "+l.To)
		}
		for _, w := range strings.Split(want, ", ") {
			if !strings.Contains(strings.Join(links, ", "), w) {
				t.Errorf("from %s: %v lacks %q", from, links, w)
			}
		}
	}
	if tr, err := r.runa.Trace(ctx,
		wire.TraceFrom{From: version, Depth: 1, Direction: lineage.Up, Artifacts: true}); err != nil ||
		len(tr.Nodes) != 7 || tr.Cut {
		t.Errorf("%+v, %v", tr, err)
	}
	for _, nothing := range []string{"moon@1", "summers", "run-99", "abc", "0190aaaa-0000-7000-8000-000000000000"} {
		if _, err := r.runa.Trace(ctx, wire.TraceFrom{From: nothing}); client.Code(err) == "" ||
			!strings.Contains(err.Error(), ";") {
			t.Errorf("%s: %v", nothing, err)
		}
	}
	_, err := r.runa.AddDataSet(ctx, wire.NewDataSet{Name: "winters", Digest: strings.Repeat("b", 64)})
	must(t, err)
	_, err = r.runa.EvaluatedOn(ctx, version, "winters")
	wantCode(t, "two revisions and no number", err, "data.several")
	if e, err := r.runa.EvaluatedOn(ctx, version, "winters#2"); err != nil || len(e.Data) != 2 {
		t.Errorf("%+v, %v", e.Data, err)
	}
}

func TestLabelsNotesAndVetting(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	r.register("heat-demand", "b", map[string]float64{"rmse": 2})
	l, err := r.runa.PutLabel(ctx, "heat-demand", 1, "beta", "", "first")
	if err != nil || l.Version != "heat-demand@1" {
		t.Fatalf("%+v, %v", l, err)
	}
	if _, err := r.runa.PutLabel(ctx, "heat-demand", 2, "beta", "", "better"); err != nil {
		t.Fatal(err)
	}
	if v, err := r.runa.Version(ctx, "heat-demand@beta"); err != nil || v.Number != 2 {
		t.Errorf("%+v, %v", v.Ref, err)
	}
	history, err := r.runa.Audit(ctx, map[string]string{"subject": "heat-demand@beta"}, client.Part{})
	if err != nil || len(history.Items) != 2 ||
		!strings.Contains(history.Items[0].Sentence, "no longer heat-demand@1") {
		t.Errorf("%+v, %v", history.Items, err)
	}
	_, err = r.runa.Version(ctx, "heat-demand@gamma")
	if client.Code(err) != "label.unknown" || !strings.Contains(err.Error(), "beta (@2)") {
		t.Errorf("%v", err)
	}
	_, err = r.runa.PutLabel(ctx, "heat-demand", 1, "live", "", "")
	wantCode(t, "a rung's name", err, "label.rung")
	_, err = r.runa.PutLabel(ctx, "heat-demand", 1, "held", "plant-north", "")
	wantCode(t, "a label that needs a place", err, "label.not_placed")
	if _, err := r.runa.RemoveLabel(ctx, "heat-demand", "beta", "over"); err != nil {
		t.Error(err)
	}
	_, err = r.runa.RemoveLabel(ctx, "heat-demand", "beta", "")
	wantCode(t, "a label that is gone", err, "label.unknown")

	note := "fitted again"
	v, err := r.tove.EditVersion(ctx, "heat-demand@1",
		registry.Edit{
			Note: &note, AddTags: []string{"winter"}, SetProperties: map[string]string{"season": "2026"},
			Reason: "tidying",
		})
	if err != nil || v.Note != note || v.Tags[0] != "winter" || v.Properties["season"] != "2026" {
		t.Errorf("%+v, %v", v, err)
	}
	v, err = r.tove.EditVersion(ctx, "heat-demand@1",
		registry.Edit{RemoveTags: []string{"winter"}, RemoveProperties: []string{"season"}})
	if err != nil || len(v.Tags)+len(v.Properties) != 0 || v.Note != note {
		t.Errorf("%+v, %v", v, err)
	}
	history, err = r.runa.Audit(ctx, map[string]string{"subject": "heat-demand@1"}, client.Part{})
	if err != nil || history.Items[1].Actor != "tove" ||
		!bytes.Contains(history.Items[1].After, []byte("fitted again")) || history.Items[1].Reason != "tidying" {
		t.Errorf("%+v, %v", history.Items, err)
	}
	_, err = r.runa.EditVersion(ctx, "heat-demand@1", registry.Edit{})
	wantCode(t, "nothing to change", err, "edit.nothing")
	_, err = r.runa.Vet(ctx, "heat-demand", " ", true)
	wantCode(t, "no reason", err, "reason.missing")
	if m, err := r.runa.Vet(ctx, "heat-demand", "checked", true); err != nil || m.Vetted.By != "runa" {
		t.Errorf("%+v, %v", m, err)
	}
	owner := "tove"
	if m, err := r.runa.EditModel(ctx, "heat-demand",
		registry.Edit{Owner: &owner, AddTags: []string{"core"}}); err != nil || m.Owner != "tove" {
		t.Errorf("%+v, %v", m, err)
	}
	found, err := r.runa.Find(ctx,
		url.Values{"vetted": {"true"}, "owner": {"tove"}, "tag": {"core"}, "metric": {"rmse>1.5"}}, client.Part{})
	if err != nil || len(found.Items) != 1 || found.Items[0].Ref != "heat-demand@2" {
		t.Errorf("%+v, %v", found, err)
	}
	for query, code := range map[string]string{
		"metric=rmse": "metric.bound", "metric=rmse<x": "metric.bound",
		"metric=rsme<1": "metric.unknown", "sort=rsme": "metric.unknown", "task=guess": "model.task",
		"rung=moon": "rung.unknown", "max_age=3weeks": "age.form", "data=A": "name.form", "cursor=x": "list.cursor",
	} {
		q, _ := url.ParseQuery(query)
		_, err := r.runa.Find(ctx, q, client.Part{})
		wantCode(t, query, err, code)
	}
}

func TestWhatIsInUseStays(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	const live = "heat-demand@2" // placed, but in no split
	_, err := r.runa.Retire(ctx, "heat-demand@1", "old")
	if client.Code(err) != "version.in_use" || !strings.Contains(err.Error(), "in the split of demand-hourly") {
		t.Errorf("retiring what answers: %v", err)
	}
	_, err = r.runa.PutLabel(ctx, "heat-demand", 2, "held", "plant-north", "")
	must(t, err)
	for what, do := range map[string]func() error{
		"retire": func() error { _, err := r.runa.Retire(ctx, live, "old"); return err },
		"delete": func() error { _, err := r.runa.Delete(ctx, live, "old"); return err },
	} {
		err := do()
		if client.Code(err) != "version.in_use" || !strings.Contains(err.Error(), "placed in plant-north") ||
			!strings.Contains(err.Error(), "held") {
			t.Errorf("%s: %v", what, err)
		}
	}
	_, err = r.runa.Unplace(ctx, live, "plant-north")
	wantCode(t, "unplacing what a label holds", err, "placement.labelled")
	child, err := r.runa.Register(ctx,
		wire.Registration{
			Model: "child", Metrics: map[string]float64{"rmse": 1},
			Parents: []lineage.Parent{{Version: live, Relation: "distilled"}},
		}, append(client.Artifacts(r.file("c.bin", "c")), r.report(map[string]float64{"rmse": 1})))
	must(t, err)
	r.approve(child.Ref)
	_, err = r.runa.RemoveLabel(ctx, "heat-demand", "held", "")
	must(t, err)
	_, err = r.runa.Unplace(ctx, live, "plant-north")
	must(t, err)
	_, err = r.runa.Retire(ctx, live, "old")
	if client.Code(err) != "version.in_use" || !strings.Contains(err.Error(), "parent of live child@1") {
		t.Errorf("%v", err)
	}

	other := r.register("heat-demand", "b", map[string]float64{"rmse": 2})
	if v, err := r.runa.Retire(ctx, other, "replaced"); err != nil || v.Rung != "retired" {
		t.Errorf("%+v, %v", v, err)
	}
	_, err = r.runa.Promote(ctx, other, "live", "")
	wantCode(t, "promoting what is retired", err, "promotion.retired")
	if v, err := r.runa.Reinstate(ctx, other, "needed"); err != nil || v.Rung != "draft" {
		t.Errorf("%+v, %v", v, err)
	}
	_, err = r.runa.Delete(ctx, other, "")
	wantCode(t, "no reason", err, "reason.missing")
	_, err = r.runa.Delete(ctx, other, "holds personal data")
	must(t, err)
	_, err = r.runa.Version(ctx, other)
	if client.Code(err) != "version.deleted" || !strings.Contains(err.Error(), "holds personal data") {
		t.Errorf("%v", err)
	}
	c, err := r.runa.Collect(ctx, true)
	if err != nil || c.Files != 2 { // the model and the report that measured it
		t.Errorf("%+v, %v", c, err)
	}
	c, err = r.runa.Collect(ctx, false)
	if err != nil || c.Files != 2 {
		t.Errorf("%+v, %v", c, err)
	}
	var out bytes.Buffer
	must(t, r.runa.Download(ctx, live, "model.bin", &out))
	if again := r.register("heat-demand", "b", map[string]float64{"rmse": 2}); again != "heat-demand@4" {
		t.Errorf("the same content again is %s", again)
	}
}

// A request's id tells months later what answered it, without a log of requests.
func TestARequestIsTracedToWhatAnsweredIt(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	const live = "heat-demand@1"
	req, err := http.NewRequestWithContext(ctx, "POST", r.gateway+"/v2/models/demand-hourly/infer",
		strings.NewReader(`{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]}]}`))
	must(t, err)
	res, err := http.DefaultClient.Do(req)
	must(t, err)
	_ = res.Body.Close()
	id := res.Header.Get("Inner-Ladder-Request")
	if res.StatusCode != 200 || id == "" {
		t.Fatalf("%s", res.Status)
	}
	// Callers may name a lane by a label of its version.
	_, err = r.runa.PutLabel(ctx, "heat-demand", 1, "steady", "", "")
	must(t, err)
	pinned, err := http.Post(r.gateway+"/v2/models/demand-hourly/versions/steady/infer", "application/json",
		strings.NewReader(`{"inputs":[{"name":"x","shape":[1],"datatype":"FP64","data":[1]}]}`))
	must(t, err)
	_ = pinned.Body.Close()
	if pinned.StatusCode != 200 || pinned.Header.Get("Inner-Ladder-Version") != live {
		t.Errorf("by label: %s %v", pinned.Status, pinned.Header)
	}
	// The split has long changed when someone asks.
	_, err = r.runa.Split(ctx, "demand-hourly",
		[]traffic.Lane{{Kind: traffic.Main, Version: live, Share: traffic.Whole}}, "again", -1)
	must(t, err)
	tr, err := r.tove.Trace(ctx, wire.TraceFrom{From: id})
	must(t, err)
	a := tr.Answer
	if a == nil || a.Version != live || a.Endpoint != "demand-hourly" || a.Split != 1 || a.Lane != "main" ||
		a.Approval != "P-1" || len(a.SignedBy) != 1 || time.Since(a.At) > time.Minute || tr.Roots[0] != live {
		t.Errorf("%+v", a)
	}
	_, err = r.tove.Trace(ctx, wire.TraceFrom{From: id[:len(id)-1] + "0"})
	if other := id[:len(id)-1] + "0"; other != id {
		wantCode(t, "a mistyped id", err, "request.unknown")
	}
}

func TestAttachmentsComeAndGo(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	v, err := r.runa.Attach(ctx, "heat-demand@1", r.file("notes.md", "# Notes\n<script>alert(1)</script>"))
	if err != nil || len(v.Attachments) != 1 || !strings.HasPrefix(v.Attachments[0].Media, "text/markdown") {
		t.Fatalf("%+v, %v", v.Attachments, err)
	}
	if v, err = r.tove.Attach(ctx, "heat-demand@1", r.file("notes.md", "# Better notes")); err != nil ||
		len(v.Attachments) != 1 || v.Attachments[0].AddedBy != "tove" {
		t.Errorf("another of the same name: %+v, %v", v.Attachments, err)
	}
	// What a browser would run is never served as such.
	_, err = r.runa.Attach(ctx, "heat-demand@1", r.file("page.html", "<html><script>alert(1)</script></html>"))
	must(t, err)
	for name, want := range map[string]string{"page.html": "text/plain", "notes.md": "text/markdown"} {
		status, header, _ := r.call("GET", "/api/v1/versions/heat-demand@1/attachments/"+name, "")
		if status != 200 || !strings.HasPrefix(header.Get("Content-Type"), want) ||
			header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s: %d %v", name, status, header)
		}
	}
	if _, err := r.runa.Detach(ctx, "heat-demand@1", "page.html", "not wanted"); err != nil {
		t.Error(err)
	}
	_, err = r.runa.Detach(ctx, "heat-demand@1", "page.html", "")
	wantCode(t, "an attachment that is gone", err, "attachment.unknown")
	// The replaced and the detached file are needed by nobody.
	if c, err := r.runa.Collect(ctx, false); err != nil || c.Files != 2 {
		t.Errorf("%+v, %v", c, err)
	}
	history, err := r.runa.Audit(ctx, map[string]string{"subject": "heat-demand@1"}, client.Part{})
	if err != nil || len(history.Items) != 6 || history.Items[0].Reason != "not wanted" {
		t.Errorf("%d entries, %v", len(history.Items), err)
	}
	var body bytes.Buffer
	body.WriteString("no form")
	if status, _, _ := r.call("POST", "/api/v1/versions/heat-demand@1/attachments", body.String(), "Content-Type",
		"text/plain"); status != 422 {
		t.Errorf("no form: %d", status)
	}
}

func TestModelsAreListedByWhatTheyAre(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddProject(ctx, "maintenance", "valves and pumps")
	must(t, err)
	_, err = r.runa.AddProject(ctx, "maintenance", "")
	wantCode(t, "a project twice", err, "project.exists")
	for name, project := range map[string]string{"heat-demand": "default", "valve-fault": "maintenance"} {
		_, err := r.tove.Register(ctx,
			wire.Registration{Model: name, Project: project, Description: "about " + name},
			with("", r.file("m.bin", name)))
		must(t, err)
	}
	_, err = r.runa.Register(ctx, wire.Registration{Model: "valve-fault", Project: "default"},
		with("", r.file("m.bin", "x")))
	wantCode(t, "another project than before", err, "model.project_differs")
	_, err = r.runa.EditModel(ctx, "valve-fault", registry.Edit{AddTags: []string{"edge"}})
	must(t, err)
	_, err = r.runa.Vet(ctx, "valve-fault", "checked", true)
	must(t, err)
	for filter, want := range map[string]string{
		"project=maintenance": "valve-fault",
		"owner=tove":          "heat-demand valve-fault", "tag=edge": "valve-fault",
		"text=ABOUT":  "heat-demand valve-fault",
		"text=valve":  "valve-fault",
		"vetted=true": "valve-fault", "task=regression": "",
	} {
		name, value, _ := strings.Cut(filter, "=")
		all, err := r.runa.Models(ctx, client.Part{}, name, value)
		must(t, err)
		var names []string
		for _, m := range all.Items {
			names = append(names, m.Name)
		}
		if strings.Join(names, " ") != want {
			t.Errorf("%s: %v, want %q", filter, names, want)
		}
	}
	if p, err := r.runa.Projects(ctx); err != nil || len(p.Items) != 2 || p.Items[1].Models != 1 {
		t.Errorf("%+v, %v", p, err)
	}
	_, err = r.runa.Vet(ctx, "heat-demand", "why not", false)
	wantCode(t, "unvetting what is not vetted", err, "vet.not")
}

// A folder that a hostile hand packed is refused before anything is written down.
func TestHostileFilesLeaveNothing(t *testing.T) {
	r := newRig(t)
	var z bytes.Buffer
	w := zip.NewWriter(&z)
	f, err := w.Create("../../escape")
	must(t, err)
	_, _ = f.Write([]byte("x"))
	must(t, w.Close())
	for name, content := range map[string]string{
		"m.zip":         z.String(),
		"m.safetensors": "\xff\xff\xff\xff\x00\x00\x00\x00{}", "m.json": "{", "m.pmml": "<PMML>",
		"m.tar.gz": "\x1f\x8b",
	} {
		_, err := r.runa.Register(t.Context(), wire.Registration{Model: "heat-demand"},
			with("", r.file(name, content)))
		if client.Code(err) != "artifact.broken" || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if c, err := r.runa.Collect(t.Context(), true); err != nil || c.Files != 0 {
		t.Errorf("%+v, %v", c, err)
	}
	_, err = r.runa.Model(t.Context(), "heat-demand")
	wantCode(t, "the model", err, "model.unknown")
}

// Pipelines that start twice register the same content at the same moment.
func TestTheSameContentAtOnceIsOneVersion(t *testing.T) {
	r := newRig(t)
	path, rows := r.file("m.bin", "weights"), r.file("rows.csv", "x,y\n1,2\n3,4\n")
	type result struct {
		v   wire.Registered
		err error
	}
	results := make(chan result)
	for range 8 {
		go func() {
			v, err := r.runa.Register(t.Context(),
				wire.Registration{
					Model: "heat-demand", Metrics: map[string]float64{"rmse": 1},
					Targets: []string{"y"},
				}, with(rows, path))
			results <- result{v, err}
		}()
	}
	created := 0
	for range 8 {
		got := <-results
		if got.err != nil || got.v.Ref != "heat-demand@1" {
			t.Errorf("%s, %v", got.v.Ref, got.err)
		}
		if got.v.Created {
			created++
		}
	}
	if m, err := r.runa.Model(t.Context(), "heat-demand"); err != nil || m.Versions != 1 || created != 1 {
		t.Errorf("%d versions, %d created, %v", m.Versions, created, err)
	}
}

// Labels, tags and notes that several people change at once end in one of the states
// that they asked for, and the record knows the way there.
func TestManyHandsAtOnce(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	for i := range 4 {
		r.register("heat-demand", fmt.Sprint("weights ", i), map[string]float64{"rmse": float64(i)})
	}
	done := make(chan error)
	for i := range 12 {
		go func() {
			_, err := r.runa.PutLabel(ctx, "heat-demand", i%4+1, "beta", "", fmt.Sprint("turn ", i))
			if err == nil {
				_, err = r.tove.EditVersion(ctx, "heat-demand@1",
					registry.Edit{AddTags: []string{fmt.Sprint("tag-", i)}})
			}
			done <- err
		}()
	}
	for range 12 {
		must(t, <-done)
	}
	m, err := r.runa.Model(ctx, "heat-demand")
	must(t, err)
	history, err := r.runa.Audit(ctx, map[string]string{"subject": "heat-demand@beta"}, client.Part{Limit: 50})
	must(t, err)
	// Each line takes up where the one before it ended.
	var last struct{ Version string }
	for i := len(history.Items) - 1; i >= 0; i-- {
		var before, after struct{ Version string }
		if history.Items[i].Before != nil {
			must(t, json.Unmarshal(history.Items[i].Before, &before))
		}
		must(t, json.Unmarshal(history.Items[i].After, &after))
		if before != last {
			t.Errorf("line %d begins with %q, the one before ended with %q", i, before.Version, last.Version)
		}
		last = after
	}
	if last.Version != fmt.Sprintf("heat-demand@%d", m.Labels["beta"]) {
		t.Errorf("the record ends with %s, the label is at %d", last.Version, m.Labels["beta"])
	}
	if v, err := r.runa.Version(ctx, "heat-demand@1"); err != nil || len(v.Tags) != 12 {
		t.Errorf("%v, %v", v.Tags, err)
	}
	found, err := r.runa.Find(ctx, url.Values{"label": {"beta"}, "text": {"beta"}}, client.Part{})
	if err != nil || len(found.Items) != 1 || found.Items[0].Number != m.Labels["beta"] {
		t.Errorf("%+v, %v", found.Items, err)
	}
}
