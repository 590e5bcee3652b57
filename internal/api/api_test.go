package api_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/app/act"
	"innerladder/internal/client"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/record"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
	"innerladder/test/poll"
)

func TestRegistering(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	reg := wire.Registration{
		Model: "heat-demand", Note: "two winters", Metrics: map[string]float64{"rmse": 3.2},
		Params:  map[string]string{"depth": "6"},
		Targets: []string{"demand_mw"}, Code: &lineage.Code{Commit: "abc", Branch: "main"},
	}
	model, rows := r.file("model.bin", "weights"),
		r.file("rows.csv", "outdoor_c,mix,demand_mw\n-3.5,works,1.5\n2,harbour,1.25\n")
	v, err := r.runa.Register(ctx, reg, with(rows, model))
	must(t, err)
	if v.Ref != "heat-demand@1" || !v.Created || v.Rung != "draft" || v.CreatedBy != "runa" || v.Code.Commit != "abc" ||
		len(v.Signature.Inputs) != 2 {
		t.Errorf("%+v", v)
	}
	if m, err := r.runa.Model(ctx, "heat-demand"); err != nil || m.Task != registry.Regression || m.Versions != 1 {
		t.Errorf("%+v, %v", m, err)
	}
	reg.Note, reg.Code = "again", nil
	if again, err := r.tove.Register(ctx, reg, with(rows, model)); err != nil || again.Ref != v.Ref || again.Created ||
		again.Note != "two winters" {
		t.Errorf("the same content again: %+v, %v", again, err)
	}
	reg.Metrics = map[string]float64{"rmse": 3.1}
	if other, err := r.runa.Register(ctx, reg, with(rows, model)); err != nil || other.Ref != "heat-demand@2" {
		t.Errorf("the same bytes with another metric: %+v, %v", other, err)
	}
	status, header, body := r.call("GET", "/api/v1/versions/heat-demand@1/artifacts/model.bin", "")
	if status != 200 || string(body) != "weights" || !strings.Contains(header.Get("Etag"), v.Artifacts[0].Digest) {
		t.Errorf("%d %q %s", status, header, body)
	}
	d, err := r.runa.Diff(ctx, "heat-demand@1", "heat-demand@2")
	if err != nil || len(d.Metrics) != 1 || d.Metrics[0].Verdict != "better" ||
		d.Compatibility != signature.Compatible {
		t.Errorf("%+v, %v", d, err)
	}
}

func TestBadRegistrationsLeaveNoTrace(t *testing.T) {
	r := newRig(t)
	model, rows := r.file("model.bin", "weights"), r.file("rows.csv", "x,y\n1,2\n")
	reg := func(change func(*wire.Registration)) wire.Registration {
		x := wire.Registration{Model: "heat-demand"}
		change(&x)
		return x
	}
	cases := []struct {
		name   string
		reg    wire.Registration
		files  []string
		sample string
		code   string
	}{
		{"name", reg(func(x *wire.Registration) { x.Model = "Heat Demand" }), []string{model}, "", "name.form"},
		{"no file", reg(func(*wire.Registration) {}), nil, "", "version.no_artifact"},
		{
			"an empty file", reg(func(*wire.Registration) {}),
			[]string{r.file("weights.bin", "")},
			"",
			"artifact.empty",
		},
		{"two files of one name", reg(func(*wire.Registration) {}), []string{model, model}, "", "artifact.twice"},
		{"task", reg(func(x *wire.Registration) { x.Task = "guessing" }), []string{model}, "", "model.task"},
		{
			"target without a sample", reg(func(x *wire.Registration) { x.Targets = []string{"y"} }),
			[]string{model},
			"", "sample.missing",
		},
		{
			"target that is not there", reg(func(x *wire.Registration) { x.Targets = []string{"z"} }),
			[]string{model},
			rows, "sample.no_target",
		},
		{
			"broken sample", reg(func(*wire.Registration) {}),
			[]string{model},
			r.file("rows.csv", "x,y\n1\n"),
			"sample.unreadable",
		},
	}
	for _, c := range cases {
		_, err := r.runa.Register(t.Context(), c.reg, with(c.sample, c.files...))
		wantCode(t, c.name, err, c.code)
	}
	for _, files := range [][]string{{"/nowhere/model.json"}, {t.TempDir()}} {
		if _, err := r.runa.Register(t.Context(), reg(func(*wire.Registration) {}),
			with("", files...)); err == nil || !strings.Contains(err.Error(), "reading the artifact") {
			t.Errorf("a file that cannot be read: %v", err)
		}
	}
	if all, err := r.runa.Models(t.Context(), client.Part{}); err != nil || len(all.Items) != 0 {
		t.Errorf("models were left: %+v, %v", all, err)
	}
	// a connection that breaks in the middle of a file
	var body bytes.Buffer
	form := multipart.NewWriter(&body)
	must(t, form.WriteField("spec", `{"model":"heat-demand"}`))
	part, err := form.CreateFormFile("artifact", "model.bin")
	must(t, err)
	_, _ = io.WriteString(part, strings.Repeat("x", 1000))
	status, _, answer := r.call("POST", "/api/v1/versions", body.String(), "Content-Type", form.FormDataContentType())
	if status != 422 || !bytes.Contains(answer, []byte("nothing was kept")) {
		t.Errorf("a cut upload: %d %s", status, answer)
	}
}

func TestRefsSayWhatExists(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	cases := func() []error {
		var out []error
		for _, ref := range []string{"heat-demand", "heat-demand@1", "heat-demand@live", "heat-demand@moon"} {
			_, err := r.runa.Version(ctx, ref)
			out = append(out, err)
		}
		return out
	}
	for i, code := range []string{"ref.no_version", "model.unknown", "model.unknown", "model.unknown"} {
		wantCode(t, "before anything", cases()[i], code)
	}
	r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	errs := cases()
	wantCode(t, "an empty rung", errs[2], "rung.empty")
	wantCode(t, "no rung", errs[3], "label.unknown")
	if errs[1] != nil || !strings.Contains(errs[2].Error(), "heat-demand@1 on draft") {
		t.Errorf("%v; %v", errs[1], errs[2])
	}
	r.register("heat-demand", "b", map[string]float64{"rmse": 1})
	_, err := r.runa.Version(ctx, "heat-demand@draft")
	wantCode(t, "two on one rung", err, "rung.several")
	r.approve("heat-demand@2")
	if v, err := r.runa.Version(ctx, "heat-demand@live"); err != nil || v.Ref != "heat-demand@2" {
		t.Errorf("%v, %v", v.Ref, err)
	}
}

func TestPromotions(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	low, err := r.runa.Promote(ctx, ref, "proven", "")
	if err != nil || low.State != ladder.CarriedOut {
		t.Fatalf("a gate that asks nobody: %+v, %v", low, err)
	}
	p, err := r.runa.Promote(ctx, ref, "live", "ready")
	must(t, err)
	if p.ID != "P-2" || p.State != ladder.Open {
		t.Fatalf("%+v", p)
	}
	_, err = r.runa.Promote(ctx, ref, "live", "")
	wantCode(t, "twice", err, "promotion.open_already")
	_, err = r.runa.Sign(ctx, p.ID, rule.Yes, "")
	wantCode(t, "by the one who asked", err, "sign_off.own")
	_, err = r.tove.Sign(ctx, p.ID, rule.No, "")
	wantCode(t, "a no without a reason", err, "sign_off.reason")
	_, err = r.tove.Withdraw(ctx, p.ID, "")
	wantCode(t, "withdrawn by another", err, "promotion.not_yours")
	refused, err := r.tove.Sign(ctx, p.ID, rule.No, "worse in the harbour")
	if err != nil || refused.State != ladder.Denied {
		t.Fatalf("%+v, %v", refused, err)
	}
	_, err = r.tove.Sign(ctx, p.ID, rule.Yes, "")
	wantCode(t, "a closed one", err, "promotion.closed")
	if v, _ := r.runa.Version(ctx, ref); v.Rung != "proven" {
		t.Errorf("a refused version stands on %s", v.Rung)
	}
	p, err = r.runa.Promote(ctx, ref, "live", "again")
	must(t, err)
	if w, err := r.runa.Withdraw(ctx, p.ID, "not yet"); err != nil || w.State != ladder.Withdrawn {
		t.Errorf("%+v, %v", w, err)
	}
	_, err = r.runa.Promotion(ctx, "P-99")
	wantCode(t, "no such", err, "promotion.unknown")
	// no metric: the gate on the way is not met, whatever is signed
	poor := r.register("heat-demand", "b", nil)
	p, err = r.runa.Promote(ctx, poor, "live", "")
	must(t, err)
	p, err = r.tove.Sign(ctx, p.ID, rule.Yes, "")
	if err != nil || p.State != ladder.Open || !slices.ContainsFunc(p.Findings, func(f rule.Finding) bool {
		return f.State == rule.Waiting && f.Requirement == "metric_recorded"
	}) {
		t.Errorf("without a metric: %+v, %v", p, err)
	}
}

// Of two open promotions of one version the lower one comes to nothing once the higher
// one is carried out; a promotion never leads down.
func TestPromotionsNeverLeadDown(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	first := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	_, err := r.runa.Promote(ctx, first, "rehearsal", "")
	must(t, err)
	// One more input: callers of the first would break, so rehearsal stays closed; on
	// live there is nobody whose callers could.
	v, err := r.runa.Register(ctx,
		wire.Registration{Model: "heat-demand", Metrics: map[string]float64{"rmse": 1}, Targets: []string{"y"}},
		append(with(r.file("rows.csv", "x,z,y\n1,2,3\n"), r.file("model.bin", "b")),
			r.report(map[string]float64{"rmse": 1})))
	must(t, err)
	low, err := r.runa.Promote(ctx, v.Ref, "rehearsal", "")
	must(t, err)
	if low.State != ladder.Open {
		t.Fatalf("%s is %s: %+v", low.ID, low.State, low.Findings)
	}
	r.approve(v.Ref)
	// The service withdraws it by itself within a second, or when someone answers it.
	if _, err = r.tove.Sign(ctx, low.ID, rule.Yes, ""); err != nil {
		wantCode(t, "too late", err, "promotion.closed")
	}
	low, err = r.runa.Promotion(ctx, low.ID)
	must(t, err)
	if got, _ := r.runa.Version(ctx, v.Ref); low.State != ladder.Withdrawn || got.Rung != "live" {
		t.Errorf("%s is %s, the version on %s", low.ID, low.State, got.Rung)
	}
}

// A sign-off is for the pair that was looked at.
func TestASignOffGoesStaleWhenTheIncumbentChanges(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	kari := client.New(r.server, r.person("kari", everywhere("approver")...))
	slow := r.register("heat-demand", "slow", nil) // has no metric, so it stays open after a yes
	fast := r.register("heat-demand", "fast", map[string]float64{"rmse": 1})
	p, err := r.runa.Promote(ctx, slow, "live", "")
	must(t, err)
	p, err = kari.Sign(ctx, p.ID, rule.Yes, "against nobody")
	must(t, err)
	if p.SignOffs[0].Stale {
		t.Error("a fresh sign-off is stale")
	}
	r.approve(fast)
	p, err = r.runa.Promotion(ctx, p.ID)
	must(t, err)
	if !p.SignOffs[0].Stale || !slices.ContainsFunc(p.Findings,
		func(f rule.Finding) bool { return f.Requirement == "sign_offs" && f.State == rule.Waiting }) {
		t.Errorf("signed against nobody, and now there is %s: %+v", fast, p)
	}
}

func TestTwoPeopleSignAtOnce(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	p, err := r.runa.Promote(ctx, ref, "live", "")
	must(t, err)
	signers := []*client.Client{r.tove}
	for i := range 7 {
		signers = append(signers, client.New(r.server, r.person(fmt.Sprint("signer-", i), everywhere("approver")...)))
	}
	var wait sync.WaitGroup
	errs := make([]error, len(signers))
	for i, s := range signers {
		wait.Go(func() { _, errs[i] = s.Sign(ctx, p.ID, rule.Yes, "") })
	}
	wait.Wait()
	won := 0
	for _, err := range errs {
		if err == nil {
			won++
		} else {
			wantCode(t, "the others", err, "promotion.closed")
		}
	}
	if won != 1 {
		t.Errorf("%d people carried it out, want one", won)
	}
	log, err := r.runa.Audit(ctx, map[string]string{"subject": ref}, client.Part{})
	must(t, err)
	stepped := 0
	for _, e := range log.Items {
		if e.Kind == "promotion.carried_out" {
			stepped++
		}
	}
	if stepped != 1 {
		t.Errorf("it stepped up %d times", stepped)
	}
}

func TestPlacing(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	ref := r.register("heat-demand", "a", nil)
	good := r.modelServer(0)
	place := func(env, at, as string) error {
		_, err := r.runa.Place(ctx, ref, env, []string{at}, as)
		return err
	}
	wantCode(t, "no environment", place("plant-north", good.URL, ""), "environment.unknown")
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	wantCode(t, "nobody there", place("plant-north", "http://127.0.0.1:1", ""), "placement.not_ready")
	wantCode(t, "no address", place("plant-north", "plant-north:9001", ""), "placement.address")
	wantCode(t, "with a password", place("plant-north", "http://a:b@127.0.0.1:1", ""), "placement.address")
	wantCode(t, "another name there", place("plant-north", good.URL, "demand"), "placement.not_ready")
	wantCode(t, "our own API is no model server", place("plant-north", r.server, ""), "placement.no_metadata")
	down := r.modelServer(0)
	down.down.Store(true)
	err = place("plant-north", down.URL, "")
	wantCode(t, "not ready", err, "placement.not_ready")
	if said := err.Error(); strings.Contains(said, "warming up") || !strings.Contains(said, "answered 503") {
		t.Errorf("who may place may not be meant to read what a server says: %v", err)
	}
	for _, at := range []string{"http://169.254.169.254", "http://[fe80::1]:80", "http://0.0.0.0:9001"} {
		wantCode(t, at, place("plant-north", at, ""), "placement.not_allowed")
	}
	other := r.modelServer(0)
	other.input = "wind_ms"
	err = place("plant-north", other.URL, "")
	wantCode(t, "another signature", err, "placement.signature")
	if !strings.Contains(err.Error(), `no input "x"`) || !strings.Contains(err.Error(), `"wind_ms"`) {
		t.Errorf("which column? %v", err)
	}
	must(t, place("plant-north", good.URL+"/", ""))
	wantCode(t, "twice", place("plant-north", good.URL, ""), "placement.exists")
	if p, err := r.runa.Unplace(ctx, ref, "plant-north"); err != nil || p.Addresses[0].URL != good.URL {
		t.Errorf("%+v, %v", p, err)
	}
	_, err = r.runa.Unplace(ctx, ref, "plant-north")
	wantCode(t, "not there any more", err, "placement.unknown")
}

func TestSplits(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	draft := r.register("heat-demand", "draft", map[string]float64{"rmse": 1})
	split := func(based int, l ...traffic.Lane) error {
		_, err := r.tove.Split(ctx, "demand-hourly", l, "", based)
		return err
	}
	main := func(ref string, share int) traffic.Lane {
		return traffic.Lane{Kind: traffic.Main, Version: ref, Share: share}
	}
	wantCode(t, "95 %", split(-1, lanes(9000, 500)...), "split.sum")
	wantCode(t, "a draft", split(-1, main(draft, 10000)), "split.rung")
	r.approve(draft)
	wantCode(t, "nowhere", split(-1, main(draft, 10000)), "split.not_placed")
	wantCode(t, "no such version", split(-1, main("heat-demand@9", 10000)), "version.unknown")
	wantCode(t, "which of three", split(-1, main("heat-demand@live", 10000)), "rung.several")
	must(t, split(1, lanes(9000, 1000)...))
	wantCode(t, "decided on an old split", split(1, lanes(5000, 5000)...), "split.changed")
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	must(t, err)
	if e.Split.Number != 2 || e.Split.Author != "tove" || len(e.Split.Trials()) != 1 || e.Back.Number != 1 {
		t.Errorf("%+v", e.Split)
	}
	if _, header, _ := r.call("GET", "/api/v1/endpoints/demand-hourly", ""); header.Get("Etag") != `"2"` {
		t.Errorf("ETag %q", header.Get("Etag"))
	}
	_, err = r.runa.Unplace(ctx, "heat-demand@2", "plant-north")
	wantCode(t, "in use", err, "placement.in_use")

	_, err = r.runa.Back(ctx, "demand-hourly", 0, " ", -1)
	wantCode(t, "why?", err, "reason.missing")
	_, err = r.runa.Back(ctx, "demand-hourly", 7, "x", -1)
	wantCode(t, "no such revision", err, "back.revision")
	b, err := r.runa.Back(ctx, "demand-hourly", 0, "complaints", 2)
	if err != nil || b.Number != 3 || b.ReturnsTo != 1 || len(b.Lanes) != 1 {
		t.Errorf("%+v, %v", b, err)
	}
	for range 20 {
		if status, version := r.infer(1); status != 200 || version != "heat-demand@1" {
			t.Fatalf("after going back %s answered %d", version, status)
		}
	}
	if e, err = r.runa.Endpoint(ctx, "demand-hourly"); err != nil || e.Back != nil {
		t.Errorf("a way back leads on to %+v, %v", e.Back, err)
	}
	_, err = r.runa.Back(ctx, "demand-hourly", 0, "once more", -1)
	wantCode(t, "said twice", err, "back.is_way_back")
	_, err = r.runa.Back(ctx, "demand-hourly", 1, "to what is in force", -1)
	wantCode(t, "nothing would change", err, "back.same")
	if b, err = r.runa.Back(ctx, "demand-hourly", 2, "it was right after all", -1); err != nil || len(b.Trials()) != 1 {
		t.Errorf("to a named revision: %+v, %v", b, err)
	}
	all, err := r.runa.Splits(ctx, "demand-hourly", client.Part{Limit: 3})
	if err != nil || len(all.Items) != 3 || all.Next == "" || all.Items[0].Number != 4 {
		t.Errorf("%+v, %v", all, err)
	}
	if left := all.Items[2].Left; left == nil || left.By != "runa" || left.Why != "complaints" || left.For != 3 ||
		all.Items[1].Leaves != 2 || all.Items[1].Left == nil || all.Items[0].Left != nil {
		t.Errorf("%+v", all.Items)
	}
	rest, err := r.runa.Splits(ctx, "demand-hourly", client.Part{Limit: 3, Cursor: all.Next})
	if err != nil || len(rest.Items) != 1 || rest.Next != "" {
		t.Errorf("%+v, %v", rest, err)
	}
}

func TestAFailingTrialIsRolledBack(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(8000, 2000), "a look", -1)
	must(t, err)
	two.failing.Store(true)
	deadline := time.Now().Add(20 * time.Second)
	for {
		r.infer(1)
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		if e.Split.Number == 3 {
			if e.Split.Author != act.Itself || e.Split.ReturnsTo != 1 ||
				!strings.Contains(e.Split.Reason, "worse than allowed") {
				t.Errorf("%+v", e.Split)
			}
			break
		}
		if time.Now().After(deadline) {
			n, _ := r.runa.EndpointNow(ctx, "demand-hourly")
			t.Fatalf("was not rolled back: %+v", n)
		}
	}
	// The record says so a moment before the gateway does; it has a second.
	inForce := time.Now().Add(time.Second)
	for good := 0; good < 50; good++ {
		if status, version := r.infer(1); status != 200 || version != "heat-demand@1" {
			good = 0
			if time.Now().After(inForce) {
				t.Fatalf("a second after the rollback: %d by %s", status, version)
			}
		}
	}
	alerts, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	must(t, err)
	if len(alerts.Items) != 1 || alerts.Items[0].Subject != "heat-demand@2" || alerts.Items[0].Signal != "error_rate" {
		t.Fatalf("%+v", alerts)
	}
	a := alerts.Items[0]
	_, err = r.runa.Back(ctx, "demand-hourly", 0, "once more", -1)
	wantCode(t, "back after a guard", err, "back.is_way_back")
	two2, err := r.runa.Version(ctx, "heat-demand@2")
	if b := two2.RolledBack; err != nil || b == nil || b.Alert != a.ID || b.By != act.Itself || b.Split != 2 ||
		b.Instead != "heat-demand@1" || b.Endpoint != "demand-hourly" {
		t.Errorf("the version says %+v, %v", b, err)
	}
	if one, err := r.runa.Version(ctx, "heat-demand@1"); err != nil || one.RolledBack != nil {
		t.Errorf("the incumbent says %+v, %v", one.RolledBack, err)
	}
	handled, err := r.tove.HandleAlert(ctx, a.ID, "acknowledged", "looking")
	if err != nil || handled.HandledBy != "tove" {
		t.Errorf("%+v, %v", handled, err)
	}
	_, err = r.tove.HandleAlert(ctx, a.ID, "acknowledged", "")
	wantCode(t, "twice", err, "alert.handled")
	_, err = r.tove.HandleAlert(ctx, a.ID, "resolved", "withdrawn")
	must(t, err)
	before := r.compared(client.Over{Window: time.Hour, Until: a.RaisedAt.Add(-time.Hour)})
	if before.CandidateRequests != 0 || before.To.After(a.RaisedAt) {
		t.Errorf("an hour before: %d requests until %v", before.CandidateRequests, before.To)
	}
	moment := r.compared(client.Over{Window: time.Hour, Until: a.RaisedAt})
	if moment.CandidateRequests == 0 {
		t.Errorf("the moment of the rollback: %d requests", moment.CandidateRequests)
	}
	c := r.compared(client.Over{})
	if c.Rows[0].Verdict != "worse" || c.CandidateRequests == 0 || c.Of != "the trial that began with #2" {
		t.Errorf("%+v", c.Rows[0])
	}
	s, err := r.runa.Series(ctx, "demand-hourly", 5*time.Minute)
	must(t, err)
	if len(s.Lanes) != 2 || len(s.Splits) != 3 || len(s.Alerts) != 1 || len(s.Guards) == 0 {
		t.Errorf("series: %d lanes, %d splits, %d alerts, %d readings", len(s.Lanes), len(s.Splits), len(s.Alerts),
			len(s.Guards))
	}
}

func TestAPlacementThatFallsRaisesAnAlert(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	one, _ := r.twoVersions()
	one.down.Store(true)
	await(t, "the alert", func() bool {
		a, err := r.runa.Alerts(ctx, "open", "", client.Part{})
		must(t, err)
		return len(a.Items) == 1 && a.Items[0].Kind == "placement_unhealthy" &&
			strings.Contains(a.Items[0].Sentence, "warming up")
	})
	await(t, "a clear error without a healthy lane", func() bool { status, _ := r.infer(1); return status == 503 })
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "", -1)
	wantCode(t, "a split that names it", err, "split.not_healthy")
	one.down.Store(false)
	await(t, "the recovery", func() bool {
		a, err := r.runa.Alerts(ctx, "resolved", "", client.Part{})
		must(t, err)
		status, _ := r.infer(1)
		return len(a.Items) == 1 && a.Items[0].HandledBy == act.Itself && status == 200
	})
}

// await polls until something holds.
func await(t *testing.T, what string, holds func() bool) {
	t.Helper()
	if !poll.Within(time.Minute, holds) { // a machine may be busy
		t.Fatalf("%s did not come", what)
	}
}

func TestRepeatedCallsChangeNothing(t *testing.T) {
	r := newRig(t)
	ref := r.register("heat-demand", "a", map[string]float64{"rmse": 1})
	body := fmt.Sprintf(`{"version":%q,"to":"live"}`, ref)
	first, _, one := r.call("POST", "/api/v1/promotions", body, "Idempotency-Key", "k1")
	second, _, two := r.call("POST", "/api/v1/promotions", body, "Idempotency-Key", "k1")
	if first != 201 || second != 201 || !bytes.Equal(one, two) {
		t.Errorf("%d %s\n%d %s", first, one, second, two)
	}
	status, _, b := r.call("POST", "/api/v1/promotions", strings.Replace(body, "live", "proven", 1), "Idempotency-Key",
		"k1")
	if status != 409 || !bytes.Contains(b, []byte("idempotency.other_request")) {
		t.Errorf("another request with the same key: %d %s", status, b)
	}
	if all, _ := r.runa.Promotions(t.Context(), client.PromotionSearch{}, client.Part{}); len(all.Items) != 1 {
		t.Errorf("%d promotions", len(all.Items))
	}
}

func TestWhoMayCall(t *testing.T) {
	r := newRig(t)
	_, err := client.New(r.server, "il_wrong").Models(t.Context(), client.Part{})
	wantCode(t, "a wrong token", err, "token.wrong")
	_, err = client.New(r.server, "").Models(t.Context(), client.Part{})
	wantCode(t, "no token", err, "sign_in.needed")
	_, err = r.tove.AddPerson(t.Context(), wire.NewPerson{Name: "odd"})
	wantCode(t, "a member adds people", err, "permission.missing")
	_, err = r.runa.AddPerson(t.Context(), wire.NewPerson{Name: "tove"})
	wantCode(t, "twice", err, "person.exists")
	_, err = r.runa.AddPerson(t.Context(), wire.NewPerson{Name: act.Itself})
	wantCode(t, "the service itself", err, "person.reserved")

	made, err := r.runa.AddPerson(t.Context(), wire.NewPerson{Name: "sif", Memberships: everywhere("owner")})
	must(t, err)
	status, header, _ := r.call("POST", "/api/v1/welcome",
		fmt.Sprintf(`{"secret":%q,"password":"four words of nonsense"}`, made.Link[strings.Index(made.Link, "#")+1:]),
		"Origin", r.server)
	cookie := header.Get("Set-Cookie")
	if status != 200 || !strings.Contains(cookie, "HttpOnly") || !strings.Contains(cookie, "SameSite=Strict") {
		t.Fatalf("%d, cookie %q", status, cookie)
	}
	with := func(method, path string, header ...string) int {
		req, err := http.NewRequest(method, r.server+path, strings.NewReader(`{"name":"x"}`))
		must(t, err)
		req.Header.Set("Cookie", strings.SplitN(cookie, ";", 2)[0])
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := http.DefaultClient.Do(req)
		must(t, err)
		_ = res.Body.Close()
		return res.StatusCode
	}
	if got := with("GET", "/api/v1/session"); got != 200 {
		t.Errorf("with the cookie: %d", got)
	}
	if got := with("POST", "/api/v1/environments", "Origin", "http://elsewhere.example"); got != 403 {
		t.Errorf("from another site: %d", got)
	}
	if got := with("POST", "/api/v1/environments", "Sec-Fetch-Site", "cross-site"); got != 403 {
		t.Errorf("from another site: %d", got)
	}
	if got := with("POST", "/api/v1/environments", "Origin", r.server); got != 201 {
		t.Errorf("from the console: %d", got)
	}
	if got := with("DELETE", "/api/v1/session", "Origin", r.server); got != 204 {
		t.Errorf("signing out: %d", got)
	}
	if got := with("GET", "/api/v1/session"); got != 401 {
		t.Errorf("after signing out: %d", got)
	}
}

func TestBadRequestsNameTheField(t *testing.T) {
	r := newRig(t)
	cases := []struct {
		name, method, path, body string
		status                   int
		field                    string
	}{
		{"no JSON", "POST", "/api/v1/environments", `{`, 422, "body"},
		{"empty", "POST", "/api/v1/environments", ``, 422, "body"},
		{"unknown member", "POST", "/api/v1/environments", `{"name":"a","colour":"red"}`, 422, "colour"},
		{"wrong type", "POST", "/api/v1/environments", `{"name":7}`, 422, "name"},
		{"two objects", "POST", "/api/v1/environments", `{"name":"a"}{"name":"b"}`, 422, "body"},
		{"bad name", "POST", "/api/v1/environments", `{"name":"Plant North"}`, 422, "name"},
		{"limit", "GET", "/api/v1/models?limit=1000", "", 422, "limit"},
		{"limit is text", "GET", "/api/v1/models?limit=ten", "", 422, "limit"},
		{"cursor", "GET", "/api/v1/audit?cursor=!!", "", 422, "cursor"},
		{"cursor of another list", "GET", "/api/v1/audit?cursor=aGVhdA", "", 422, "cursor"},
		{"window", "GET", "/api/v1/endpoints/x/series?window=soon", "", 422, "window"},
		{"no such endpoint", "GET", "/api/v1/endpoints/x", "", 404, "endpoint"},
		{"no such path", "GET", "/api/v1/nothing", "", 404, ""},
		{
			"larger than anything", "POST", "/api/v1/environments", `{"name":"` + strings.Repeat("a", 5<<20) + `"}`,
			413,
			"body",
		},
		{"If-Match", "POST", "/api/v1/endpoints/x/splits", `{"lanes":[]}`, 422, "lanes"},
	}
	for _, c := range cases {
		status, header, body := r.call(c.method, c.path, c.body)
		var p struct{ Field, Code, Detail, Request_ID string }
		must(t, json.Unmarshal(body, &p))
		if status != c.status || p.Field != c.field || p.Code == "" || p.Detail == "" ||
			p.Request_ID != header.Get("Inner-Ladder-Request") {
			t.Errorf("%s: %d %s", c.name, status, body)
		}
	}
}

func TestEvents(t *testing.T) {
	r := newRig(t)
	listen := func(last string) (next func() (id, event, data string), stop func()) {
		req, err := http.NewRequest("GET", r.server+"/api/v1/events", nil)
		must(t, err)
		req.Header.Set("Authorization", "Bearer "+r.runaToken)
		if last != "" {
			req.Header.Set("Last-Event-ID", last)
		}
		res, err := http.DefaultClient.Do(req)
		must(t, err)
		in := bufio.NewScanner(res.Body)
		return func() (id, event, data string) {
			for in.Scan() {
				switch line := in.Text(); {
				case strings.HasPrefix(line, "id: "):
					id = line[4:]
				case strings.HasPrefix(line, "event: "):
					event = line[7:]
				case strings.HasPrefix(line, "data: "):
					data = line[6:]
				case line == "":
					return id, event, data
				}
			}
			return "", "closed", ""
		}, func() { _ = res.Body.Close() }
	}
	next, stop := listen("")
	if id, event, data := next(); event != "now" || data != "[]" || id == "" {
		t.Fatalf("first came %s %s after %q", event, data, id)
	}
	_, err := r.runa.AddEnvironment(t.Context(), wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	id, event, data := next()
	for event == "now" {
		id, event, data = next()
	}
	var e record.Entry
	must(t, json.Unmarshal([]byte(data), &e))
	if event != "change" || e.Kind != "environment.added" || e.Actor != "runa" || fmt.Sprint(e.Seq) != id {
		t.Errorf("%s %s %+v", id, event, e)
	}
	stop()
	_, err = r.runa.AddEnvironment(t.Context(), wire.NewEnvironment{Name: "plant-south"})
	must(t, err)
	next, stop = listen(id)
	defer stop()
	if _, event, data := next(); event != "change" || !strings.Contains(data, "plant-south") {
		t.Errorf("taking up after %s: %s %s", id, event, data)
	}
	// All that was missed is told, however many parts it is read in.
	for i := range 600 {
		_, err = r.runa.AddEnvironment(t.Context(), wire.NewEnvironment{Name: fmt.Sprintf("place-%04d", i)})
		must(t, err)
	}
	more, stopMore := listen(id)
	defer stopMore()
	last := id
	for told := -1; told < 599; { // plant-south is the first
		at, event, data := more()
		if event == "change" {
			if told++; told > 0 && !strings.Contains(data, fmt.Sprintf("place-%04d", told-1)) {
				t.Fatalf("change %d is %s", told, data)
			}
			last = at
		} else if event != "now" {
			t.Fatalf("%s came after %d changes", event, told)
		}
	}
	// Whoever saw what is not there, or was never sent, must read anew and goes on from here.
	for _, strange := range []string{"99999999", "yesterday"} {
		next, stop := listen(strange)
		at, event, data := next()
		stop()
		if event != "anew" || at < last || !strings.Contains(data, "reason") {
			t.Errorf("taking up after %s: %s %s %s", strange, at, event, data)
		}
	}
}

func TestListsComeInParts(t *testing.T) {
	r := newRig(t)
	for i := range 205 {
		_, err := r.runa.AddEnvironment(t.Context(), wire.NewEnvironment{Name: fmt.Sprintf("place-%03d", i)})
		must(t, err)
	}
	all, err := r.runa.Environments(t.Context())
	if err != nil || len(all.Items) != 205 || all.Items[204].Name != "place-204" {
		t.Errorf("%d environments, %v", len(all.Items), err)
	}
	var part struct {
		Items []traffic.Environment
		Next  string `json:"next_cursor"`
	}
	_, _, body := r.call("GET", "/api/v1/environments?limit=2", "")
	must(t, json.Unmarshal(body, &part))
	if len(part.Items) != 2 || part.Next == "" {
		t.Fatalf("%s", body)
	}
	_, _, body = r.call("GET", "/api/v1/environments?limit=2&cursor="+part.Next, "")
	must(t, json.Unmarshal(body, &part))
	if part.Items[0].Name != "place-002" {
		t.Errorf("%s", body)
	}
}

func TestEveryListIsDescribed(t *testing.T) {
	r := newRig(t)
	r.twoVersions()
	_, err := r.runa.Split(t.Context(), "demand-hourly", lanes(9000, 1000), "", -1)
	must(t, err)
	for range 20 {
		r.infer(1)
	}
	for _, path := range []string{
		"session", "people", "projects/default/ladder", "projects/default/ladder/revisions",
		"requirement-kinds", "signing-keys", "promotions/P-1/review", "versions/heat-demand@1/vouchers",
		"versions/heat-demand@1/evidence", "models", "models/heat-demand", "models/heat-demand/versions",
		"versions/heat-demand@1", "versions/heat-demand@1/diff/heat-demand@2",
		"promotions", "promotions/P-1", "environments", "placements", "placements?version=heat-demand@1", "endpoints",
		"endpoints/demand-hourly", "endpoints/demand-hourly/now",
		"endpoints/demand-hourly/series", "endpoints/demand-hourly/series?window=2h", "endpoints/demand-hourly/splits",
		"now", "alerts", "audit", "audit?subject=demand-hourly",
		"endpoints/demand-hourly/compare?incumbent=heat-demand@1&candidate=heat-demand@2",
	} {
		if status, _, body := r.call("GET", "/api/v1/"+path, ""); status != 200 {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
	var status int
	var header http.Header
	var body []byte
	await(t, "the first whole second", func() bool {
		status, header, body = r.call("GET", "/metrics", "", "Accept", "application/openmetrics-text; version=1.0.0")
		return bytes.Contains(body, []byte(`innerladder_request_duration_seconds_count{endpoint="demand-hourly"`))
	})
	if status != 200 || !strings.HasPrefix(header.Get("Content-Type"), "application/openmetrics-text") ||
		!bytes.HasSuffix(body, []byte("# EOF\n")) ||
		!bytes.Contains(body, []byte(`innerladder_requests_total{endpoint="demand-hourly"`)) {
		t.Errorf("metrics: %d %q", status, header.Get("Content-Type"))
	}
	for path, says := range map[string]string{
		"/healthz": "ok", "/readyz": "ready", "/": "make build",
		"/api/openapi.json": `"openapi": "3.1`,
	} {
		if status, header, body := r.call("GET", path, ""); status != 200 || !bytes.Contains(body, []byte(says)) ||
			header.Get("X-Frame-Options") != "DENY" || header.Get("Content-Security-Policy") == "" {
			t.Errorf("%s: %d %.80s", path, status, body)
		}
	}
}

// At one address one name is one model: a second version there would answer in the name of the
// first, or the first in its.
func TestTwoVersionsAreNotPlacedInOnePlace(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	one, _ := r.twoVersions()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-south"})
	must(t, err)
	_, err = r.runa.Place(ctx, "heat-demand@2", "plant-south", []string{one.URL + "/"}, "")
	wantCode(t, "where the other is", err, "placement.taken")
	_, err = r.runa.Place(ctx, "heat-demand@1", "plant-south", []string{one.URL}, "")
	must(t, err) // the same version in another environment is the same model
}
