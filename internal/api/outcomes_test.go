package api_test

import (
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/outcome"
	"innerladder/internal/core/request"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

// answeredWith asks with some rows and gives the request's id, when it is in the log.
func (r *rig) answeredWith(rows string, n int) string {
	r.t.Helper()
	_, id := r.asked("demand-hourly",
		fmt.Sprintf(`{"inputs":[{"name":"x","datatype":"FP64","shape":[%d],"data":[%s]}]}`, n, rows))
	r.inLog(id)
	return id
}

func (r *rig) tells(n wire.NewOutcomes) wire.OutcomesTaken {
	r.t.Helper()
	taken, err := r.runa.TellOutcomes(r.t.Context(), "demand-hourly", n)
	must(r.t, err)
	return taken
}

func truthOf(id string, y any) outcome.Truth {
	return outcome.Truth{Line: 1, Request: id, Values: map[string]any{"y": y}}
}

// The truth of a prediction is joined by its id, once; what cannot be joined is told and changes nothing.
func TestTheTruthComesLater(t *testing.T) {
	r := newRig(t)
	r.twoVersions()
	var ids []string
	for x := range 5 {
		ids = append(ids, r.answeredWith(fmt.Sprint(x), 1)) // the stand-in answers y = x
	}
	var items []outcome.Truth
	for x, id := range ids {
		items = append(items, truthOf(id, float64(x)+0.5)) // half too low each
	}
	taken := r.tells(wire.NewOutcomes{Items: items})
	if taken.Pairs != 5 || taken.Fates[outcome.Joined] != 5 || len(taken.Left) != 0 {
		t.Fatalf("%+v", taken)
	}
	again := r.tells(wire.NewOutcomes{Items: []outcome.Truth{items[0], truthOf(ids[1], 9.0)}})
	if again.Pairs != 0 || again.Fates[outcome.Again] != 1 || again.Fates[outcome.Other] != 1 || len(again.Left) != 1 {
		t.Errorf("%+v", again)
	}
	bad := r.tells(wire.NewOutcomes{Items: []outcome.Truth{
		truthOf("no id", 1.0), truthOf("019ac31f-0000-7000-8000-000000000000", 1.0), truthOf(ids[2], "much"),
	}})
	if bad.Pairs != 0 || bad.Fates[outcome.Unmatched] != 2 || bad.Fates[outcome.Wrong] != 1 || len(bad.Left) != 3 {
		t.Errorf("%+v", bad)
	}
	a := r.accuracy()
	if v := a.Items[0]; v.Version != "heat-demand@1" || v.Rows != 5 || v.Requests != 5 || v.Answered != 5 ||
		v.Coverage != 1 || v.Measures[0].Name != "mae" || v.Measures[0].Value != 0.5 || v.Measures[2].Value != -0.5 {
		t.Fatalf("%+v", a)
	}
	// It was 0.4 at registration; five rows are too few to say that it is worse.
	if m := a.Items[0].Measures[1]; m.Name != "rmse" || *m.Registered != 0.4 || m.Verdict != "" {
		t.Errorf("%+v", m)
	}
	replaced := r.tells(wire.NewOutcomes{Items: []outcome.Truth{truthOf(ids[1], 11.0)}, Replace: true})
	if replaced.Fates[outcome.Replaced] != 1 {
		t.Errorf("%+v", replaced)
	}
	if m := r.accuracy().Items[0]; m.Rows != 5 || math.Abs(m.Measures[0].Value-12.0/5) > 1e-9 {
		t.Errorf("%+v", m)
	}
	shown, err := r.runa.Outcomes(t.Context(), "demand-hourly", "", "", time.Hour, true, 2)
	if err != nil || len(shown.Items) != 2 || shown.Items[0].Error != -10 || shown.Items[0].Inputs["x"] != 1.0 ||
		shown.Items[0].Request != ids[1] {
		t.Errorf("%+v, %v", shown, err)
	}
}

func (r *rig) accuracy() wire.Accuracy {
	r.t.Helper()
	var a wire.Accuracy
	await(r.t, "the accuracy", func() bool {
		var err error
		a, err = r.runa.Accuracy(r.t.Context(), "demand-hourly", time.Hour)
		must(r.t, err)
		return len(a.Items) > 0 && a.Items[0].Answered >= uint64(a.Items[0].Requests)
	})
	return a
}

// Without ids, truths find the requests with their keys around their time; each row of a request is by itself.
func TestTruthsFoundByKeys(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	r.answeredWith("3", 1)
	r.answeredWith("3", 1)
	several := r.answeredWith("7,8", 2) // of which this stand-in answers one row
	now, then := time.Now(), time.Now().Add(-2*time.Hour)
	keys := func(x string, y float64, at *time.Time) outcome.Truth {
		return outcome.Truth{Keys: map[string]string{"x": x}, At: at, Values: map[string]any{"y": y}}
	}
	taken := r.tells(wire.NewOutcomes{
		Within: "10m",
		Items:  []outcome.Truth{keys("3.0", 4, &now), keys("5", 1, &now), keys("3", 1, &then)},
	})
	if taken.Pairs != 2 || taken.Fates[outcome.Joined] != 1 ||
		taken.Fates[outcome.Unmatched]+taken.Fates[outcome.Late] != 2 {
		t.Errorf("%+v", taken)
	}
	row := 1
	of := truthOf(several, 8.0)
	of.Row = &row
	if taken := r.tells(wire.NewOutcomes{Items: []outcome.Truth{truthOf(several, 7.0), of}}); taken.Pairs != 0 ||
		taken.Fates[outcome.Unclear] != 1 || taken.Fates[outcome.Wrong] != 1 {
		t.Errorf("%+v", taken)
	}

	refuses := func(what, code string, n wire.NewOutcomes) {
		t.Helper()
		_, err := r.runa.TellOutcomes(ctx, "demand-hourly", n)
		wantCode(t, what, err, code)
	}
	refuses("nothing", "outcomes.form", wire.NewOutcomes{Items: []outcome.Truth{}})
	refuses("without a time around", "outcomes.form", wire.NewOutcomes{Items: []outcome.Truth{keys("3", 1, &now)}})
	refuses("without a time", "outcomes.form",
		wire.NewOutcomes{Within: "1h", Items: []outcome.Truth{keys("3", 1, nil)}})
	refuses("id and keys", "outcomes.form", wire.NewOutcomes{Items: []outcome.Truth{
		{Request: "x", Keys: map[string]string{"x": "1"}, Values: map[string]any{"y": 1.0}},
	}})
	kept := request.UsualKeeping()
	kept.Columns = []request.ColumnRule{{Pattern: "x", How: request.Hash}}
	_, err := r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Requests: &kept, Reason: "private"})
	must(t, err)
	refuses("a key that is hashed", "outcomes.form",
		wire.NewOutcomes{Within: "1h", Items: []outcome.Truth{keys("3", 1, &now)}})
}

// Who may not report tells nothing, and who may not inspect sees no single prediction.
func TestWhoTellsTheTruth(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	id := r.answeredWith("3", 1)
	reader := client.New(r.server, r.person("kari", everywhere("reader")...))
	_, err := reader.TellOutcomes(ctx, "demand-hourly", wire.NewOutcomes{Items: []outcome.Truth{truthOf(id, 1.0)}})
	wantCode(t, "a reader tells", err, "permission.missing")
	if _, err := reader.Accuracy(ctx, "demand-hourly", time.Hour); err != nil {
		t.Error(err)
	}
	_, err = reader.Outcomes(ctx, "demand-hourly", "", "", time.Hour, false, 5)
	wantCode(t, "a reader looks at single ones", err, "permission.missing")
	author := client.New(r.server, r.person("odd", everywhere("author")...))
	if taken, err := author.TellOutcomes(ctx, "demand-hourly",
		wire.NewOutcomes{Items: []outcome.Truth{truthOf(id, 1.0)}}); err != nil || taken.Pairs != 1 {
		t.Errorf("%+v, %v", taken, err)
	}
}

// A watch over how right predictions are fires when the truth comes that says that they are not.
func TestTheTruthIsWatched(t *testing.T) {
	r := newRig(t)
	r.twoVersions()
	_, err := r.runa.SetWatch(t.Context(), "demand-hourly",
		watch.Rule{Signal: watch.MAE, Limit: watch.Limit{Value: 0.5, Given: true}}, "")
	must(t, err)
	await(t, "the first look", func() bool {
		w, err := r.runa.Watches(t.Context(), "demand-hourly")
		must(t, err)
		return len(w.Items) > 1
	})
	var items []outcome.Truth
	for x := range 30 {
		items = append(items, truthOf(r.answeredWith(fmt.Sprint(x), 1), float64(x)+5))
	}
	r.tells(wire.NewOutcomes{Items: items})
	if a := r.alertAbout("accuracy"); !strings.Contains(a.Sentence, "30 predictions of y were off by 5 on average") {
		t.Errorf("%+v", a)
	}
	if s := r.state(); s != watch.Drifting {
		t.Errorf("it is %s", s)
	}
}
