package api_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/evidence"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

// beside is a plan that copies half of the requests and ends early where too many answers differ.
const beside = `name: beside
kind: shadow
copies:
  share: 50 %
  time: 2s
  requests: 60
  tolerance: 0.01
guards:
  - signal: error_rate
    ratio: 2
    margin: 0.2
  - signal: disagreement
    margin: 0.2
beta: 0.2
patience: 1m
capacity: 0
`

// draft adds a third version that nobody has signed, placed beside the others.
func (r *rig) draft() (ref string, m *modelServer) {
	r.t.Helper()
	m = r.modelServer(0)
	ref = r.register("heat-demand", "weights of a draft", map[string]float64{"rmse": 0.4})
	_, err := r.runa.Place(r.t.Context(), ref, "plant-north", []string{m.URL}, "")
	must(r.t, err)
	return ref, m
}

// A shadow gets copies for as long as its plan says, may stand on any rung, answers nobody, and what it showed becomes
// evidence of it, which a gate can ask for.
func TestAShadow(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	ref, _ := r.draft()
	r.plan(beside)
	failed := r.calling()
	out, err := r.runa.ForeseeRollout(ctx, "demand-hourly", wire.NewRollout{To: ref, Plan: "beside"})
	if err != nil || len(out.Lacking) != 0 || len(out.Forecast.Harms) != 0 ||
		out.Forecast.Steps[0].Name != "copies of 50 %" {
		t.Errorf("%v, %+v", err, out)
	}
	_, err = r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: ref, Plan: "brisk"})
	wantCode(t, "a canary of a draft", err, "rollout.lacks")
	started, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: ref, Plan: "beside"})
	must(t, err)
	shown := r.until(started.ID, "it gets no copies", func(o wire.ShownRollout) bool {
		return o.Copies != nil && o.Copies.Requests > 10
	})
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	must(t, err)
	if shown.Phase != rollout.Copying || shown.Rollout.Copies != 5000 || shown.Share != 0 ||
		e.Split.String() != "heat-demand@1 100 %, heat-demand@3 copies of 50 %" {
		t.Errorf("%+v, %s", shown.State, e.Split.String())
	}
	for range 50 {
		if status, version := r.infer(1); status != 200 || version != "heat-demand@1" {
			t.Fatalf("%d %s", status, version)
		}
	}
	shown = r.until(started.ID, "it is not over", over)
	reports, err := r.runa.Evidence(ctx, ref)
	must(t, err)
	if shown.Phase != rollout.Finished || shown.Incident != "" || len(reports.Items) == 0 ||
		shown.Evidence != reports.Items[0].ID {
		t.Fatalf("%s\n%+v", logOf(shown), reports.Items)
	}
	x := reports.Items[0]
	if x.Kind != evidence.ShadowKind || x.Verdict != evidence.VerdictPassed || x.Shadow.Against != "heat-demand@1" ||
		x.Shadow.Requests < 60 || x.Shadow.Disagreed != 0 || x.Shadow.Rollout != started.ID ||
		x.Shadow.Outputs[0].Name != "y" || x.Shadow.Outputs[0].Numbers.Mean != 0 || x.Shadow.Slower == nil {
		t.Errorf("%+v", x)
	}
	e, err = r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Split.String() != "heat-demand@1 100 %" || failed.Load() > 0 {
		t.Errorf("%v, %s, %d failed", err, e.Split.String(), failed.Load())
	}
	back, err := r.runa.Back(ctx, "demand-hourly", 0, "we think better of it", -1)
	if err == nil {
		t.Errorf("nothing else ever answered, and it went back to %s", back.String())
	}
}

// A shadow that answers otherwise is given up: its report fails, somebody is told, and as nobody got its answers
// there is no incident, and it keeps its rung.
func TestAShadowThatDiffers(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	two.bias.Store(5)
	r.plan(beside)
	r.calling()
	started, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "beside"})
	must(t, err)
	shown := r.until(started.ID, "it is not over", over)
	if shown.Phase != rollout.Ended || !strings.Contains(logOf(shown), "otherwise than heat-demand@1") ||
		shown.Incident != "" || shown.Copies == nil || shown.Copies.Disagreed == 0 {
		t.Errorf("%s", logOf(shown))
	}
	x, err := r.runa.Report(ctx, shown.Evidence)
	if err != nil || x.Verdict != evidence.VerdictFailed {
		t.Errorf("%v, %+v", err, x)
	}
	alerts, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	if err != nil || len(alerts.Items) != 1 || alerts.Items[0].Kind != watch.GuardFired {
		t.Errorf("%v, %+v", err, alerts.Items)
	}
	v, err := r.runa.Version(ctx, "heat-demand@2")
	if err != nil || v.Rung != "live" {
		t.Errorf("%v, it stands on %s", err, v.Rung)
	}
}

// Copies may be given by hand: then the endpoint says what they show, and its guards end them without a way back.
func TestCopiesByHand(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	ref, m := r.draft()
	r.calling()
	with := append(lanes(9000, 1000), traffic.Lane{Kind: traffic.Shadow, Version: ref, Share: 10000, Tolerance: 0.2})
	_, err := r.runa.Split(ctx, "demand-hourly", with, "a look", -1)
	must(t, err)
	now := r.counted(2, 50)
	if l := now.Lanes[2]; l.Kind != traffic.Shadow || l.Failed != 0 || l.Copies == nil || l.Copies.Tolerance != 0.2 {
		t.Errorf("%+v", l)
	}
	_, err = r.runa.SplitBy(ctx, "demand-hourly", with,
		[]traffic.Rule{{On: "key", Is: []string{"app"}, Version: ref}}, "callers to a shadow", -1)
	wantCode(t, "a rule to a shadow", err, "rule.version")
	for version, want := range map[string]int{ref: 404, "heat-demand@2": 200} {
		res, err := http.Post(r.gateway+"/v2/models/demand-hourly/versions/"+version+"/infer", "application/json",
			strings.NewReader(`{"inputs":[{"name":"x","datatype":"FP64","shape":[1],"data":[1]}]}`))
		must(t, err)
		_ = res.Body.Close()
		if res.StatusCode != want {
			t.Errorf("asked for %s: %d", version, res.StatusCode)
		}
	}
	m.failing.Store(true)
	await(t, "the end of the copies", func() bool {
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return len(e.Split.Lanes) == 2 && e.Split.Leaves == 0
	})
	alerts, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	if err != nil || len(alerts.Items) != 1 || !strings.Contains(alerts.Items[0].Sentence, "no more copies") {
		t.Errorf("%v, %+v", err, alerts.Items)
	}
	incidents, err := r.runa.Incidents(ctx, "demand-hourly", "", "", client.Part{})
	if err != nil || len(incidents.Items) != 0 {
		t.Errorf("%v, %+v", err, incidents.Items)
	}
}

// A twin may be warmed with copies instead of samples.
func TestATwinWarmedWithCopies(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	r.plan("name: pair\nkind: blue_green\nwarm: 25\ncopies:\n  share: 50 %\nbake:\n  time: 1s\nbeta: 0.2\n")
	r.calling()
	started, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "pair"})
	must(t, err)
	shown := r.until(started.ID, "it is not over", over)
	log := logOf(shown)
	if shown.Phase != rollout.Finished || !strings.Contains(log, "warmed with 25 copies") ||
		!strings.Contains(log, "copies.") || shown.Evidence != "" {
		t.Errorf("%s", log)
	}
	if d := shown.Decisions[2].At.Sub(shown.Decisions[1].At); d < 0 || d > 30*time.Second {
		t.Errorf("it was warm after %s", d)
	}
}

// A version that takes over and predicts otherwise is found out by what the one before answers to the same requests,
// though it fails nobody and is no slower.
func TestATwinThatPredictsOtherwise(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	two.bias.Store(5)
	r.plan("name: pair\nkind: blue_green\nwarm: 5\nbake:\n  time: 10m\n  copies:\n    share: 50 %\n" +
		"    tolerance: 0.01\nguards:\n  - signal: error_rate\n    ratio: 2\n    margin: 0.2\n" +
		"  - signal: disagreement\n    margin: 0.2\n")
	failed := r.calling()
	started, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "pair"})
	must(t, err)
	shown := r.until(started.ID, "it gets no copies", func(o wire.ShownRollout) bool {
		return o.Phase == rollout.RolledBack || o.Copies != nil && o.Copies.Requests > 0
	})
	if shown.Phase == rollout.Baking {
		if shown.Copies.Against != "heat-demand@2" || shown.Share != traffic.Whole {
			t.Errorf("%+v", shown.Copies)
		}
		now, err := r.runa.EndpointNow(ctx, "demand-hourly")
		must(t, err)
		if len(now.Lanes) == 2 && (now.Lanes[1].Version != "heat-demand@1" || now.Lanes[1].Kind != traffic.Shadow) {
			t.Errorf("%+v", now.Lanes)
		}
	}
	shown = r.until(started.ID, "it is not over", over)
	if shown.Phase != rollout.RolledBack || failed.Load() > 0 || shown.Incident == "" ||
		!strings.Contains(logOf(shown), "otherwise than heat-demand@1 answers their copies") {
		t.Errorf("%d failed\n%s", failed.Load(), logOf(shown))
	}
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Split.String() != "heat-demand@1 100 %" {
		t.Errorf("%v, %s", err, e.Split.String())
	}
}
