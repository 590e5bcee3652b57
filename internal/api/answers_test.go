package api_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/wire"
)

// An address proves by the known answers of a version that it runs that version: when it is
// placed, and each time it comes back after it was away.
func TestAddressesProveWhatTheyRun(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	reg := wire.Registration{
		Model: "heat-demand", Metrics: map[string]float64{"rmse": 0.4}, Targets: []string{"y"}, Tolerance: 0.01,
	}
	files := with(r.file("rows.csv", "x,y\n1.5,1.5\n2.5,2.5\n"), r.file("model.bin", "one"))
	answers := client.LocalFile{Part: wire.PartAnswers, Path: r.file("answers.csv", "x,y\n3,3.004\n-2,-2\n")}
	v, err := r.runa.Register(ctx, reg, append(files, answers))
	if err != nil || v.KnownAnswers == nil || len(v.KnownAnswers.Cases) != 2 || v.KnownAnswers.By != "runa" {
		t.Fatalf("%+v, %v", v.KnownAnswers, err)
	}
	wrong := r.modelServer(0.5)
	_, err = r.runa.Place(ctx, v.Ref, "plant-north", []string{wrong.URL}, "")
	if wantCode(t, "another model", err, "placement.answers"); !strings.Contains(fmt.Sprint(err),
		"known answer 1: y must be 3.004 and is 3.5; known answer 2: y must be -2 and is -1.5") {
		t.Errorf("not side by side: %v", err)
	}
	right := r.modelServer(0)
	_, err = r.runa.Place(ctx, v.Ref, "plant-north", []string{right.URL}, "")
	must(t, err)
	// It goes, and another model comes back in its place.
	right.down.Store(true)
	r.healthIs(v.Ref, "warming up")
	right.bias.Store(7)
	right.down.Store(false)
	r.healthIs(v.Ref, "known answer 1: y must be 3.004 and is 10")
	right.bias.Store(0)
	r.healthIs(v.Ref, "")
}

// healthIs waits until the one address of a version is unhealthy for a reason, or healthy.
func (r *rig) healthIs(ref, reason string) {
	r.t.Helper()
	await(r.t, "health with the reason "+reason, func() bool {
		places, err := r.runa.Placements(r.t.Context(), ref)
		must(r.t, err)
		a := places.Items[0].Addresses[0]
		return a.Healthy == (reason == "") && strings.Contains(a.Reason, reason)
	})
}

// What a server answered to the sample at placement becomes known once somebody says that it is
// right; what is known does not change.
func TestAnswersAreConfirmed(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	ref := r.register("heat-demand", "one", map[string]float64{"rmse": 0.4})
	_, err = r.runa.ConfirmAnswers(ctx, ref, "plant-north", "looked")
	wantCode(t, "not placed", err, "placement.unknown")
	m := r.modelServer(0.25)
	p, err := r.runa.Place(ctx, ref, "plant-north", []string{m.URL}, "")
	if err != nil || p.Heard == nil || fmt.Sprint(p.Heard.Outputs) != "map[y:[1.75]]" {
		t.Fatalf("it heard %+v, %v", p.Heard, err)
	}
	_, err = r.runa.ConfirmAnswers(ctx, ref, "plant-north", "")
	wantCode(t, "without a reason", err, "reason.missing")
	v, err := r.runa.ConfirmAnswers(ctx, ref, "plant-north", "checked against the notebook")
	if err != nil || v.KnownAnswers.Origin != "confirmed" || v.KnownAnswers.By != "runa" {
		t.Fatalf("%+v, %v", v.KnownAnswers, err)
	}
	_, err = r.runa.ConfirmAnswers(ctx, ref, "plant-north", "again")
	wantCode(t, "twice", err, "answers.known")
	_, err = r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-south"})
	must(t, err)
	_, err = r.runa.Place(ctx, ref, "plant-south", []string{r.modelServer(0).URL}, "")
	wantCode(t, "another model elsewhere", err, "placement.answers")
	// The same content, registered again with answers, has its own already.
	again, err := r.runa.Register(ctx, wire.Registration{
		Model: "heat-demand", Metrics: map[string]float64{"rmse": 0.4}, Targets: []string{"y"},
	}, append(with(r.file("rows.csv", "x,y\n1.5,2\n2.5,3\n"), r.file("model.bin", "one")),
		client.LocalFile{Part: wire.PartAnswers, Path: r.file("answers.csv", "x,y\n3,9\n")}))
	if err != nil || again.Created || again.KnownAnswers.Origin != "confirmed" {
		t.Errorf("registered again: %+v, %v", again.KnownAnswers, err)
	}
}

// A trial that begins to give something else than main gives is rolled back for that, though
// there are no numbers to compare, and both guard and comparison say so first.
func TestATrialThatGivesAnotherOutput(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "first look", -1)
	must(t, err)
	two.texts.Store(true)
	await(t, "the rollback", func() bool {
		for i := range 60 {
			if status, _ := r.infer(float64(i)); status != 200 {
				t.Fatalf("it answered %d", status)
			}
		}
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return len(e.Split.Trials()) == 0
	})
	alerts, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	must(t, err)
	const want = "heat-demand@2 gives the output y of type FP64 in 0 % of its answers"
	if len(alerts.Items) != 1 || alerts.Items[0].Signal != "missing_outputs" ||
		!strings.Contains(alerts.Items[0].Sentence, want) || !strings.Contains(alerts.Items[0].Sentence, "as BYTES") {
		t.Errorf("%+v", alerts.Items)
	}
	c := r.compared(client.Over{Window: 10 * time.Minute})
	// The guard may need fewer answers than the comparison, which says nothing on so few.
	if enough := min(c.IncumbentRequests, c.CandidateRequests) >= 10; enough &&
		!strings.Contains(c.Sentence, "heat-demand@2 gives the output y as BYTES, heat-demand@1 as FP64.") {
		t.Errorf("%q", c.Sentence)
	}
}
