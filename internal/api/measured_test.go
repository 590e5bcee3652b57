package api_test

import (
	"net/url"
	"slices"
	"strings"
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/wire"
)

// A claim holds until a report measured it; then what was measured counts for gates, tables and
// searches, whatever was claimed.
func TestWhatWasMeasuredCounts(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	boast, err := r.runa.Register(ctx,
		wire.Registration{Model: "heat-demand", Metrics: map[string]float64{"rmse": 0.1, "r2": 0.9}},
		client.Artifacts(r.file("a.bin", "a")))
	must(t, err)
	honest := r.register("heat-demand", "b", map[string]float64{"rmse": 0.3})
	g, err := r.runa.Gate(ctx, boast.Ref, "live")
	must(t, err)
	if i := slices.IndexFunc(g.Findings, func(f rule.Finding) bool {
		return f.Rung == "live" && f.Requirement == "metric_recorded"
	}); g.Findings[i].State != rule.Waiting || !strings.Contains(g.Findings[i].Sentence, "attach heat-demand@1") {
		t.Errorf("only claimed: %+v", g.Findings[i])
	}
	best := func() string {
		found, err := r.runa.Find(ctx, url.Values{"sort": {"rmse"}}, client.Part{})
		must(t, err)
		return found.Items[0].Ref
	}
	if best() != boast.Ref {
		t.Error("a claim counts while nothing measured it")
	}
	evaluation := r.file("evaluation.json", `{"rows":100,"data":"winter","metrics":{"rmse":0.41,"mae":0.2}}`)
	_, err = r.tove.AttachEvidence(ctx, boast.Ref, evidence.EvaluationKind, "", evaluation)
	must(t, err)
	v, err := r.runa.Version(ctx, boast.Ref)
	must(t, err)
	m := v.Measured["rmse"]
	if v.Metrics["rmse"] != 0.41 || m.Value != 0.41 || *m.Claimed != 0.1 || !m.Differs || m.Data != "winter" ||
		v.Metrics["mae"] != 0.2 || v.Measured["mae"].Claimed != nil || v.Metrics["r2"] != 0.9 || len(v.Measured) != 2 {
		t.Errorf("%v, %+v", v.Metrics, v.Measured)
	}
	if best() != honest {
		t.Error("the claim still wins the search")
	}
	l, err := r.runa.LineUp(ctx, boast.Ref, honest)
	must(t, err)
	for _, row := range l.Metrics {
		if row.Name == "rmse" && (!slices.Equal(row.Best, []string{honest}) || !row.Measured[boast.Ref].Differs) {
			t.Errorf("%+v", row)
		}
	}
	// The newest report counts, and one without the metric takes nothing away.
	for _, report := range []string{`{"metrics":{"rmse":0.35}}`, `{"metrics":{"bias":0.1}}`} {
		_, err = r.tove.AttachEvidence(ctx, boast.Ref, evidence.EvaluationKind, "", r.file("evaluation.json", report))
		must(t, err)
	}
	if v, err = r.runa.Version(ctx, boast.Ref); err != nil || v.Metrics["rmse"] != 0.35 || v.Metrics["bias"] != 0.1 {
		t.Errorf("%v, %v", v.Metrics, err)
	}
	// The same content registered again is the same version, whatever was measured since.
	again, err := r.runa.Register(ctx,
		wire.Registration{Model: "heat-demand", Metrics: map[string]float64{"rmse": 0.1, "r2": 0.9}},
		append(client.Artifacts(r.file("a.bin", "a")), r.report(map[string]float64{"rmse": 0.37})))
	if err != nil || again.Created || again.Ref != boast.Ref || again.Metrics["rmse"] != 0.37 {
		t.Errorf("%+v, %v", again.Metrics, err)
	}
	reports, err := r.runa.Evidence(ctx, boast.Ref)
	if err != nil || len(reports.Items) != 4 {
		t.Errorf("%d reports, %v", len(reports.Items), err)
	}
	if _, err = r.runa.Delete(ctx, boast.Ref, "a boast"); err != nil {
		t.Error(err)
	}
}

// A file that comes as a report says what it is; what is none is refused, and nothing is kept.
func TestReportsComeWithARegistration(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	files := append(client.Artifacts(r.file("a.bin", "a")),
		client.LocalFile{Part: wire.PartReport, Path: r.file("checks.xml",
			`<testsuite name="heat"><testcase name="cold"/></testsuite>`)},
		client.LocalFile{Part: wire.PartReport, Path: r.file("load.json",
			`{"requests":100,"errors":0,"seconds":10,"latency_ms":{"p99":12}}`)},
		r.report(map[string]float64{"rmse": 0.4}))
	v, err := r.runa.Register(ctx, wire.Registration{Model: "heat-demand"}, files)
	must(t, err)
	reports, err := r.runa.Evidence(ctx, v.Ref)
	must(t, err)
	var kinds []string
	for _, e := range reports.Items {
		kinds = append(kinds, e.Kind)
	}
	if slices.Sort(kinds); !slices.Equal(kinds, []string{"evaluation", "load", "tests"}) ||
		v.Metrics["rmse"] != 0.4 || len(v.Metrics) != 1 {
		t.Errorf("%v, %v", kinds, v.Metrics)
	}
	for name, content := range map[string]string{
		"notes.json":      `{"model":"x"}`,
		"evaluation.json": `{"metrics":{}}`,
		"page.xml":        `<svg/>`,
	} {
		_, err := r.runa.Register(ctx, wire.Registration{Model: "other"},
			append(client.Artifacts(r.file("b.bin", "b")), client.LocalFile{
				Part: wire.PartReport, Path: r.file(name, content),
			}))
		if code := client.Code(err); code != "evidence.kind" && code != "evidence.evaluation" {
			t.Errorf("%s: %v", name, err)
		}
	}
	if models, err := r.runa.Models(ctx, client.Part{}); err != nil || len(models.Items) != 1 {
		t.Errorf("%d models, %v", len(models.Items), err)
	}
}

// What a registration would make is said before it is made: the signature beside the incumbent's, what
// the reports measured, and what the gates would say. Nothing is written for it.
func TestARegistrationIsForeseen(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.approve(r.register("heat-demand", "a", map[string]float64{"rmse": 0.3}))
	use := func(name, content string, part wire.Part) wire.UploadUse {
		up, err := r.runa.Upload(ctx, r.file(name, content), name)
		must(t, err)
		return wire.UploadUse{ID: up.ID, Part: part}
	}
	reg := wire.Registration{
		Model: "heat-demand", Metrics: map[string]float64{"rmse": 0.1}, Targets: []string{"y"},
		Meanings: metric.Meanings{"rmse": {Unit: "MW"}},
		Uploads: []wire.UploadUse{
			use("model.bin", "b", wire.PartArtifact), use("rows.csv", "x,wind,y\n1.5,3,2\n2.5,4,3\n", wire.PartSample),
			use("evaluation.json", `{"metrics":{"rmse":0.2}}`, wire.PartReport),
		},
	}
	f, err := r.runa.Foresee(ctx, reg)
	must(t, err)
	waiting := map[string]string{}
	for _, finding := range f.Gate.Findings {
		if finding.State != rule.Passed {
			waiting[finding.Requirement] = finding.Sentence
		}
	}
	if f.Version.Ref != "heat-demand@2" || f.Version.Metrics["rmse"] != 0.2 || !f.Version.Measured["rmse"].Differs ||
		f.Compatibility != signature.Breaking || len(f.Changes) != 1 || f.Signature == nil || f.Known != "" ||
		len(waiting) != 2 || !strings.Contains(waiting["signature_not_broken"], "wind") {
		t.Errorf("%+v, %v, %v", f.Version.Metrics, f.Changes, waiting)
	}
	if models, err := r.runa.Versions(ctx, "heat-demand", client.Part{}); err != nil || len(models.Items) != 1 {
		t.Errorf("%d versions, %v", len(models.Items), err)
	}
	// The same uploads make the version afterwards; then its content is known.
	v, err := r.runa.Register(ctx, reg, nil)
	if err != nil || v.Ref != f.Version.Ref || v.Digest != f.Version.Digest || v.Meanings["rmse"].Unit != "MW" {
		t.Fatalf("%+v, %v", v, err)
	}
	if f, err = r.runa.Foresee(ctx, wire.Registration{Model: "new", Project: "nowhere"}); client.Code(err) !=
		"project.unknown" {
		t.Errorf("%+v, %v", f, err)
	}
	if f, err = r.runa.Foresee(ctx, wire.Registration{Model: "new"}); err != nil || f.Gate.Met ||
		f.Version.Number != 1 {
		t.Errorf("%+v, %v", f.Gate, err)
	}
	_, err = r.runa.Register(ctx, wire.Registration{
		Model: "heat-demand", Meanings: metric.Meanings{"rmse": {Unit: "kW"}},
	}, with("", r.file("c.bin", "c")))
	wantCode(t, "another unit", err, "metric.means")
}

// Of several reports that come with a version the last counts, against what was claimed: foreseen as
// it is registered. A file for a part that there is not is refused, not left out.
func TestTheLastReportCountsForeseenAndRegistered(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	reg := wire.Registration{Model: "heat-demand", Metrics: map[string]float64{"rmse": 0.1}}
	for _, u := range []struct{ name, content, part string }{
		{"model.bin", "a", "artifact"},
		{"first.json", `{"metrics":{"rmse":0.2},"data":"winter"}`, "report"},
		{"last.json", `{"metrics":{"rmse":0.3}}`, "report"},
	} {
		up, err := r.runa.Upload(ctx, r.file(u.name, u.content), u.name)
		must(t, err)
		reg.Uploads = append(reg.Uploads, wire.UploadUse{ID: up.ID, Part: wire.Part(u.part)})
	}
	odd := reg
	odd.Uploads = append(slices.Clone(reg.Uploads[:2]), wire.UploadUse{ID: reg.Uploads[2].ID, Part: "proof"})
	_, err := r.runa.Register(ctx, odd, nil)
	wantCode(t, "no such part", err, "register.part")
	f, err := r.runa.Foresee(ctx, reg)
	must(t, err)
	v, err := r.runa.Register(ctx, reg, nil)
	must(t, err)
	for what, v := range map[string]registry.Version{"foreseen": f.Version, "registered": v.Version} {
		if m := v.Measured["rmse"]; v.Metrics["rmse"] != 0.3 || m.Value != 0.3 || m.Claimed == nil ||
			*m.Claimed != 0.1 || m.Data != "" {
			t.Errorf("%s: %v, %+v", what, v.Metrics, m)
		}
	}
}
