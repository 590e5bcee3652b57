package api_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/test/plans"

	"innerladder/internal/client"
	"innerladder/internal/core/custom"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/request"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/gateway"
	"innerladder/internal/wire"
)

// cost is the custom signal of the tests.
func (r *rig) cost() {
	r.t.Helper()
	_, err := r.runa.SetCustomSignal(r.t.Context(), "demand-hourly", "cost", wire.EditCustom{
		Unit:   "EUR",
		Better: "lower",
	})
	must(r.t, err)
}

func (r *rig) reports(n wire.NewReports) wire.ReportsTaken {
	r.t.Helper()
	taken, err := r.runa.ReportValues(r.t.Context(), "demand-hourly", n)
	must(r.t, err)
	return taken
}

func costOf(id string, x any) custom.Report {
	return custom.Report{Line: 1, Request: id, Values: map[string]any{"cost": x}}
}

const ask = `{"inputs":[{"name":"x","datatype":"FP64","shape":[1],"data":[1]}]}`

// reported are two answers of heat-demand@1 with what they cost, 3 and 5 EUR, the second of which has another order of
// 10, and one of 2 that is of no request. It gives the id of the second.
func (r *rig) reported() (two string) {
	r.t.Helper()
	r.twoVersions()
	r.cost()
	_, one := r.asked("demand-hourly", ask)
	_, two = r.asked("demand-hourly", ask)
	taken := r.reports(wire.NewReports{Items: []custom.Report{costOf(one, 3.0), costOf(two, "5")}})
	if taken.Values != 2 || taken.Fates[outcome.Joined] != 2 || len(taken.Left) != 0 {
		r.t.Fatalf("%+v", taken)
	}
	order := costOf(two, 10.0)
	order.ID = "its second order"
	again := r.reports(wire.NewReports{Items: []custom.Report{costOf(one, 3.0), costOf(two, 50.0), order}})
	if again.Values != 1 || again.Fates[outcome.Again] != 1 || again.Fates[outcome.Other] != 1 || len(again.Left) != 1 {
		r.t.Errorf("%+v", again)
	}
	_, refused := r.asked("demand-hourly", "{")
	if refused == "" {
		r.t.Error("a request that was turned away has no id")
	}
	now, soon := time.Now(), time.Now().Add(time.Hour)
	night := func(version, id string, at time.Time) custom.Report {
		return custom.Report{Version: version, At: &at, ID: id, Values: map[string]any{"cost": 2.0}}
	}
	mixed := r.reports(wire.NewReports{Items: []custom.Report{
		night("heat-demand@1", "night 4", now), night("heat-demand@1", "night 4", now),
		night("heat-demand@live", "night 5", now), night("heat-demand@9", "night 5", now),
		night("heat-demand@1", "tomorrow", soon), night("heat-demand@1", "long ago", now.AddDate(-1, 0, 0)),
		costOf("019ac31f-0000-7000-8000-000000000000", 1.0), costOf("mine", 1.0), costOf(one, "much"), costOf(one, nil),
	}})
	if mixed.Values != 1 || mixed.Fates[outcome.Again] != 1 || mixed.Fates[outcome.Unmatched] != 4 ||
		mixed.Fates[outcome.Wrong] != 3 || mixed.Fates[outcome.Late] != 1 {
		r.t.Errorf("%+v", mixed)
	}
	// Who names a version is not drawn for it, and counts apart.
	_, pinned := r.asked("demand-hourly/versions/heat-demand@1", ask)
	if n := r.reports(wire.NewReports{Items: []custom.Report{costOf(pinned, 1000.0)}}); n.Values != 1 {
		r.t.Errorf("%+v", n)
	}
	return two
}

// Before values can be reported it is said what they are; a unit stays what it is.
func TestACustomSignalIsDeclared(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	_, err := r.runa.ReportValues(ctx, "demand-hourly", wire.NewReports{Items: []custom.Report{costOf("x", 1.0)}})
	wantCode(t, "before it is said what it is", err, "custom.unknown")
	_, err = r.runa.SetCustomSignal(ctx, "demand-hourly", "cost", wire.EditCustom{Better: "cheaper"})
	wantCode(t, "a way that is none", err, "custom.better")
	r.cost()
	_, err = r.runa.SetCustomSignal(ctx, "demand-hourly", "cost", wire.EditCustom{Unit: "EUR", Better: "lower"})
	wantCode(t, "what it is already", err, "custom.same")
	_, err = r.runa.SetCustomSignal(ctx, "demand-hourly", "cost", wire.EditCustom{Unit: "ct", Better: "lower"})
	wantCode(t, "another unit", err, "custom.unit")
	_, err = r.runa.SetCustomSignal(ctx, "demand-hourly", "cost", wire.EditCustom{
		Unit: "EUR", Better: "lower", About: "gas",
	})
	must(t, err)
	entries, err := r.runa.Activity(ctx, "", "demand-hourly", client.Part{})
	if err != nil || !strings.Contains(fmt.Sprint(entries.Items), "has a signal cost of its own") {
		t.Errorf("%+v, %v", entries, err)
	}
}

// A value of a custom signal is of the version that its request's id names, needs no log, and counts once; what is of
// nothing here is told and changes nothing.
func TestCustomSignals(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	two := r.reported()
	all, err := r.runa.CustomSignals(ctx, "demand-hourly", time.Hour)
	if err != nil || len(all.Items) != 1 || len(all.Items[0].Versions) != 1 {
		t.Fatalf("%+v, %v", all, err)
	}
	if v := all.Items[0].Versions[0]; v.Version != "heat-demand@1" || v.N != 4 || v.Sum != 20 || v.Mean != 5 ||
		v.Least != 2 || v.Most != 10 || v.Low != nil || len(v.Points) == 0 {
		t.Errorf("%+v", v)
	}
	long, err := r.runa.CustomSignals(ctx, "demand-hourly", 48*time.Hour)
	if err != nil || long.Items[0].Versions[0].Sum != 20 {
		t.Errorf("by hours: %+v, %v", long, err)
	}
	if n := r.reports(wire.NewReports{Replace: true, Items: []custom.Report{costOf(two, 7.0)}}); n.Values != 1 ||
		n.Fates[outcome.Replaced] != 1 {
		t.Errorf("%+v", n)
	}
}

// What comes later is looked at until a moment, too; a signal that is taken away leaves nothing to another of its name.
func TestCustomSignalsUntilAMomentAndAnew(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.reported()
	for _, what := range []string{"custom-signals", "accuracy"} {
		path := "/api/v1/endpoints/demand-hourly/" + what + "?window=1h&until="
		status, _, body := r.call("GET", path+"2026-01-01T00:00:00Z", "")
		if status != 200 || strings.Contains(string(body), "heat-demand@1") ||
			!strings.Contains(string(body), `"to":"2026-01-01T00:00:00Z"`) {
			t.Errorf("%s until the new year: %d %s", what, status, body)
		}
		if status, _, body := r.call("GET", path+"yesterday", ""); status != 422 {
			t.Errorf("%s until no time: %d %s", what, status, body)
		}
	}
	_, err := r.runa.RemoveCustomSignal(ctx, "demand-hourly", "cost", "it was in cents")
	must(t, err)
	r.cost()
	anew, err := r.runa.CustomSignals(ctx, "demand-hourly", 48*time.Hour)
	if err != nil || len(anew.Items) != 1 || len(anew.Items[0].Versions) != 0 {
		t.Errorf("another of that name begins with what was: %+v, %v", anew, err)
	}
}

// askedOf asks once, and gives the request's id and the version that answered.
func (r *rig) askedOf() (id, version string) {
	r.t.Helper()
	req, err := http.NewRequestWithContext(r.t.Context(), "POST", r.gateway+"/v2/models/demand-hourly/infer",
		strings.NewReader(ask))
	must(r.t, err)
	res, err := http.DefaultClient.Do(req)
	must(r.t, err)
	must(r.t, res.Body.Close())
	return res.Header.Get("Inner-Ladder-Request"), res.Header.Get(gateway.VersionHeader)
}

// reportsWhatComes asks and reports what each version's answers cost, until something is so.
func (r *rig) reportsWhatComes(costs map[string]float64, what string, until func() bool) {
	r.t.Helper()
	n := 0
	await(r.t, what, func() bool {
		var items []custom.Report
		for range 40 {
			id, version := r.askedOf()
			n++
			items = append(items, costOf(id, costs[version]+float64(n%7)/10))
		}
		r.reports(wire.NewReports{Items: items})
		return until()
	})
}

// A guard on a custom signal ends a trial that costs more, and says how much; what it watches cannot be taken away.
func TestAGuardOnACustomSignal(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	terms := guard.Terms{Alpha: 0.01, Guards: []guard.Guard{
		{Signal: guard.ErrorRate, Margin: 0.1}, {Signal: "custom.cost", Margin: 0.5},
	}}
	_, err := r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Terms: &terms})
	wantCode(t, "a guard on what there is not", err, "custom.unknown")
	r.cost()
	_, err = r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Terms: &terms})
	must(t, err)
	_, err = r.runa.RemoveCustomSignal(ctx, "demand-hourly", "cost", "no more")
	wantCode(t, "what a guard watches", err, "custom.used")
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "try it", -1)
	must(t, err)
	back := func() bool {
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return len(e.Split.Lanes) == 1
	}
	r.reportsWhatComes(map[string]float64{"heat-demand@1": 3, "heat-demand@2": 9}, "the trial goes on", back)
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Split.Main().Version != "heat-demand@1" ||
		!strings.Contains(e.Split.Reason, "has a mean cost of 9.") || !strings.Contains(e.Split.Reason, "EUR in") ||
		!strings.Contains(e.Split.Reason, "worse by 0.5") {
		t.Errorf("%+v, %v", e.Split, err)
	}
	all, err := r.runa.Compare(ctx, "demand-hourly", "", nil, client.Over{})
	must(t, err)
	found := false
	for _, row := range all.Items[0].Rows {
		if row.Signal == "custom.cost" {
			found = true
			if row.Verdict != "worse" || row.Unit != "EUR" || row.Difference < 5 || row.Difference > 7 {
				t.Errorf("%+v", row)
			}
		}
	}
	if !found || !strings.Contains(all.Items[0].Sentence, "mean of cost") {
		t.Errorf("%+v", all.Items[0])
	}
}

// A watch over a custom signal knows which side of its limit is wrong, and needs a day to know how far values spread.
func TestAWatchOverACustomSignal(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	limit := watch.Limit{Value: 4, Given: true}
	_, err := r.runa.SetWatch(ctx, "demand-hourly", watch.Rule{Signal: "custom.earned", Limit: limit}, "")
	wantCode(t, "a watch over what there is not", err, "custom.unknown")
	_, err = r.runa.SetCustomSignal(ctx, "demand-hourly", "earned", wire.EditCustom{Unit: "EUR", Better: "higher"})
	must(t, err)
	w, err := r.runa.SetWatch(ctx, "demand-hourly", watch.Rule{Signal: "custom.earned", Limit: limit}, "")
	if err != nil || w.Set.Watches[0].Beyond != watch.Below || !strings.Contains(w.Text, "beyond: below") {
		t.Fatalf("%+v, %v", w.Set, err)
	}
	_, err = r.runa.RemoveCustomSignal(ctx, "demand-hourly", "earned", "no more")
	wantCode(t, "what a watch is over", err, "custom.used")
	before := time.Now().Add(-3 * time.Hour)
	var items []custom.Report
	for i := range 100 {
		items = append(items, custom.Report{
			Version: "heat-demand@1", At: &before, ID: fmt.Sprint("order ", i),
			Values: map[string]any{"earned": 5 + float64(i%5)/10},
		})
	}
	r.reports(wire.NewReports{Items: items})
	r.lenient() // another change, so that it is looked up what is usual
	_, err = r.runa.SetWatch(ctx, "demand-hourly", watch.Rule{Signal: "custom.earned", Limit: limit, About: "ring"}, "")
	must(t, err)
	n := 0
	await(t, "no alert is raised", func() bool {
		now := time.Now()
		var items []custom.Report
		for range 50 {
			n++
			items = append(items, custom.Report{
				Version: "heat-demand@1", At: &now, ID: fmt.Sprint("late ", n), Values: map[string]any{"earned": 1.5},
			})
		}
		r.reports(wire.NewReports{Items: items})
		all, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
		must(t, err)
		return len(all.Items) > 0
	})
	a := r.alertAbout("custom.earned")
	if !strings.Contains(a.Sentence, "at least 4 is wanted") || !strings.Contains(a.Sentence, "ring.") {
		t.Errorf("%+v", a)
	}
}

// The truth ends a trial, too: a guard on how far predictions are off.
func TestAGuardOnAccuracy(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	terms := guard.Terms{Alpha: 0.01, Guards: []guard.Guard{
		{Signal: guard.ErrorRate, Margin: 0.1}, {Signal: "mae", Margin: 0.5, Then: guard.RollBack},
	}}
	_, err := r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{
		Terms: &terms, Requests: &request.Keeping{Share: traffic.Whole, Bytes: 4096, For: "24h"},
	})
	must(t, err)
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "try it", -1)
	must(t, err)
	n := 0
	await(t, "the trial goes on", func() bool {
		var items []outcome.Truth
		for range 20 {
			id, version := r.askedOf()
			n++
			truth := 1 + float64(n%5)/10 // the stand-in answers 1
			if version == "heat-demand@2" {
				truth += 5
			}
			items = append(items, truthOf(id, truth))
		}
		r.inLog(items[len(items)-1].Request)
		r.tells(wire.NewOutcomes{Items: items})
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return len(e.Split.Lanes) == 1
	})
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Split.Main().Kind != traffic.Main || !strings.Contains(e.Split.Reason, "predicts y off by 5.") {
		t.Errorf("%+v, %v", e.Split, err)
	}
}

// A fixed comparison is decided by what the versions earn, which is reported while it goes on.
func TestAComparisonByACustomSignal(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	r.plan(strings.ReplaceAll(plans.Which, "signal: error_rate\n  margin: 0.2", "signal: custom.cost\n  margin: 0.5"))
	want := wire.NewRollout{To: "heat-demand@2", Plan: "which"}
	_, err := r.runa.Roll(ctx, "demand-hourly", want)
	wantCode(t, "by what there is not", err, "custom.unknown")
	r.cost()
	out, err := r.runa.ForeseeRollout(ctx, "demand-hourly", want)
	if err != nil || !strings.Contains(out.Sentence, "Of custom.cost fewer than 20 values") {
		t.Errorf("%v, %s", err, out.Sentence)
	}
	started, err := r.runa.Roll(ctx, "demand-hourly", want)
	must(t, err)
	_, err = r.runa.RemoveCustomSignal(ctx, "demand-hourly", "cost", "no more")
	wantCode(t, "what is compared", err, "custom.used")
	r.reportsWhatComes(map[string]float64{"heat-demand@1": 5, "heat-demand@2": 3}, "the comparison is not decided",
		func() bool {
			shown, err := r.runa.Rollout(ctx, started.ID)
			must(t, err)
			return shown.Phase.Over()
		})
	shown, err := r.runa.Rollout(ctx, started.ID)
	must(t, err)
	if v := shown.Verdict; shown.Phase != rollout.Finished || v == nil || v.Decision != guard.Better ||
		v.Unit != "EUR" ||
		!strings.Contains(logOf(shown), "has a mean cost of 3.") {
		t.Errorf("%+v, %s", shown.Verdict, logOf(shown))
	}
	out, err = r.runa.ForeseeRollout(ctx, "demand-hourly", want)
	if err != nil || len(out.Forecast.Differences) != 4 {
		t.Errorf("%v, %+v", err, out.Forecast)
	}
}
