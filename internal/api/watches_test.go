package api_test

import (
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
)

// state is how demand-hourly is, in a word.
func (r *rig) state() watch.EndpointState {
	r.t.Helper()
	now, err := r.runa.EndpointNow(r.t.Context(), "demand-hourly")
	must(r.t, err)
	return now.State
}

// Without a trial and without a rollout, an endpoint whose version fails is seen, and so is one that turns its callers
// away: an alert says what, and the endpoint says in a word how it is.
func TestAnEndpointIsWatched(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	one, _ := r.twoVersions()
	r.calling()
	await(t, "the first look", func() bool {
		w, err := r.runa.Watches(ctx, "demand-hourly")
		must(t, err)
		return len(w.Items) > 3
	})
	if s := r.state(); s != watch.Well {
		t.Errorf("it is %s", s)
	}
	one.failing.Store(true)
	var fired []watch.Alert
	raised := func(subject string) {
		t.Helper()
		await(t, "the alert about "+subject, func() bool {
			all, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
			must(t, err)
			fired = all.Items
			return len(fired) > 0 && fired[0].Subject == subject
		})
	}
	raised(watch.ErrorRate)
	if a := fired[0]; a.Kind != watch.Fired || !strings.Contains(a.Sentence, "requests failed in") ||
		!strings.Contains(a.Sentence, "1.0 % are allowed") || len(fired) != 1 {
		t.Errorf("%+v", fired)
	}
	if s := r.state(); s != watch.Failing {
		t.Errorf("it is %s", s)
	}
	w, err := r.runa.Watches(ctx, "demand-hourly")
	if err != nil || w.Items[0].Signal != watch.ErrorRate || w.Items[0].State != watch.Firing {
		t.Errorf("%+v, %v", w.Items, err)
	}
	_, err = r.runa.Watches(ctx, "demand-houly")
	wantCode(t, "another endpoint", err, "endpoint.unknown")

	one.failing.Store(false)
	_, err = r.runa.SetKeyed(ctx, "demand-hourly", true, "only the desk")
	must(t, err)
	raised(watch.RefusalRate)
	if a := fired[0]; !strings.Contains(a.Sentence, "turned away") || !strings.Contains(a.Sentence, "had no key") {
		t.Errorf("%+v", a)
	}
}

// An endpoint that nobody calls is neither well nor wrong.
func TestAnEndpointNobodyCalls(t *testing.T) {
	r := newRig(t)
	r.twoVersions()
	if s := r.state(); s != watch.NoTraffic {
		t.Errorf("it is %s", s)
	}
	if _, err := r.runa.SetKeyed(t.Context(), "demand-hourly", true, "x"); err != nil {
		t.Fatal(err)
	}
	w, err := r.runa.Watches(t.Context(), "demand-hourly")
	if err != nil || w.Every != "5s" {
		t.Errorf("%+v, %v", w, err)
	}
}

// What people say about the watching is checked, kept as numbered revisions, and told in the record.
func TestWatchesSetByPeople(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	w, err := r.runa.PutWatches(ctx, "demand-hourly", "owner: desk\n"+
		"runbook: https://wiki.tarnholm.example/d\nwatches:\n"+
		"  - signal: error_rate\n    limit: 2 %\n    then: hold\n", "they retry", 0)
	if err != nil || w.Set.Revision != 1 || w.Set.Watches[0].Then != guard.Hold || w.Set.Owner != "desk" ||
		!strings.Contains(w.Text, "limit: 2 %") {
		t.Fatalf("%+v, %v", w, err)
	}
	_, err = r.runa.PutWatches(ctx, "demand-hourly", "watches: []\n", "as usual", 0)
	wantCode(t, "a revision that is over", err, "watches.stale")
	_, err = r.runa.PutWatches(ctx, "demand-hourly", "watches:\n  - signal: wrath\n", "", -1)
	if wantCode(t, "another signal", err, "watches.field"); !strings.Contains(err.Error(), "line 2, column 13") {
		t.Error(err)
	}
	_, err = r.runa.SetWatch(ctx, "demand-hourly", watch.Rule{Signal: "latency_p99", Limit: watch.Percent(1)}, "")
	wantCode(t, "a limit of another unit", err, "watches.limit")
	w, err = r.runa.SetWatch(ctx, "demand-hourly",
		watch.Rule{Signal: "error_rate", Versus: watch.Main, Times: 2, Then: guard.RollBack}, "the trial too")
	if err != nil || w.Set.Revision != 2 || len(w.Set.Watches) != 2 {
		t.Fatalf("%+v, %v", w, err)
	}
	_, err = r.runa.SetWatch(ctx, "demand-hourly", w.Set.Watches[1], "again")
	wantCode(t, "what is so already", err, "watches.same")
	w, err = r.runa.RemoveWatch(ctx, "demand-hourly", "error_rate versus main", "there is a guard")
	if err != nil || len(w.Set.Watches) != 1 || w.Set.Revision != 3 {
		t.Fatalf("%+v, %v", w, err)
	}
	_, err = r.runa.RemoveWatch(ctx, "demand-hourly", "latency_p50", "")
	wantCode(t, "what was not set", err, "watch.unknown")
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Watches.Runbook != "https://wiki.tarnholm.example/d" {
		t.Errorf("%+v, %v", e.Watches, err)
	}

	_, err = r.runa.Mute(ctx, "demand-hourly", "wrath", "why not", time.Hour)
	wantCode(t, "another subject", err, "mute.subject")
	_, err = r.runa.Mute(ctx, "demand-hourly", "inputs", "", time.Hour)
	wantCode(t, "without a reason", err, "reason.missing")
	_, err = r.runa.Mute(ctx, "demand-hourly", "inputs", "x", 31*24*time.Hour)
	wantCode(t, "for too long", err, "mute.for")
	_, err = r.runa.Unmute(ctx, "demand-hourly", "inputs", "")
	wantCode(t, "what is not muted", err, "mute.none")
	w, err = r.runa.Mute(ctx, "demand-hourly", "inputs", "the feed moves", time.Hour)
	if err != nil || len(w.Mutes) != 1 || w.Mutes[0].By != "runa" || w.Mutes[0].Reason != "the feed moves" {
		t.Errorf("%+v, %v", w, err)
	}
	found, err := r.runa.Audit(ctx, map[string]string{"kind": "watches", "subject": "demand-hourly"}, client.Part{})
	if err != nil || len(found.Items) != 4 || found.Items[0].Kind != "watches.muted" {
		t.Errorf("%+v, %v", found.Items, err)
	}
}

// alertAbout waits for an open alert of a watch about a subject.
func (r *rig) alertAbout(subject string) (a watch.Alert) {
	r.t.Helper()
	await(r.t, "the alert about "+subject, func() bool {
		all, err := r.runa.Alerts(r.t.Context(), "open", "demand-hourly", client.Part{})
		must(r.t, err)
		for _, one := range all.Items {
			if one.Kind == watch.Fired && one.Subject == subject {
				a = one
			}
		}
		return a.ID != ""
	})
	return a
}

// lenient has the guards of the endpoint allow almost everything, so that only its watches act.
func (r *rig) lenient() {
	r.t.Helper()
	terms := guard.DefaultTerms()
	terms.Guards = []guard.Guard{{Signal: guard.ErrorRate, Margin: 0.99}}
	_, err := r.runa.EditEndpoint(r.t.Context(), "demand-hourly", wire.EditEndpoint{Terms: &terms, Reason: "to see it"})
	must(r.t, err)
}

// A watch goes back from a version that fails after a switch by hand, once; what was muted is told when it is not.
func TestAWatchThatGoesBack(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	r.lenient()
	r.calling()
	_, err := r.runa.PutWatches(ctx, "demand-hourly",
		"owner: desk\nwatches: [{signal: error_rate, limit: 5 %, then: roll_back, about: ring the desk}]", "", -1)
	must(t, err)
	_, err = r.runa.Mute(ctx, "demand-hourly", watch.Everything, "we try it", 20*time.Minute)
	must(t, err)
	r.switchTo("heat-demand@2")
	two.failing.Store(true)
	await(t, "the watch fires", func() bool {
		w, err := r.runa.Watches(ctx, "demand-hourly")
		must(t, err)
		return len(w.Items) > 0 && w.Items[0].State == watch.Firing
	})
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Split.Main().Version != "heat-demand@2" {
		t.Fatalf("it went back although that is muted: %+v, %v", e.Split, err)
	}
	_, err = r.runa.Unmute(ctx, "demand-hourly", watch.Everything, "enough")
	must(t, err)
	a := r.alertAbout(watch.ErrorRate)
	if !strings.Contains(a.Sentence, "ring the desk.") || a.Owner != "desk" ||
		!strings.Contains(a.Sentence, "#2 was left for heat-demand@1") {
		t.Errorf("%+v", a)
	}
	e, err = r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Split.Main().Version != "heat-demand@1" || e.Split.ReturnsTo != 1 ||
		!strings.Contains(e.Split.Reason, "The watch error_rate fired") {
		t.Errorf("%+v, %v", e.Split, err)
	}
}

// A watch over the trial holds the rollout that moves the endpoint.
func TestAWatchThatHolds(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	r.plan("name: slow\nkind: canary\nsteps:\n  - share: 40 %\n    time: 10m\nbake:\n  time: 1m\n" +
		"guards:\n  - signal: missing_outputs\n    margin: 0.3\n")
	_, err := r.runa.SetWatch(ctx, "demand-hourly",
		watch.Rule{Signal: watch.ErrorRate, Versus: watch.Main, Times: 4, Then: guard.Hold}, "")
	must(t, err)
	r.calling()
	o, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "slow"})
	must(t, err)
	two.failing.Store(true)
	held := r.until(o.ID, "it is not held", func(o wire.ShownRollout) bool { return o.Held != nil })
	if held.Phase != rollout.Stepping || !strings.Contains(held.Held.Why, "requests of the trial failed") {
		t.Errorf("%+v", held.Held)
	}
	if a := r.alertAbout("error_rate versus main"); !strings.Contains(a.Sentence, o.ID+" is held.") {
		t.Errorf("%+v", a)
	}
	// Another rule begins anew, and goes back.
	_, err = r.runa.SetWatch(ctx, "demand-hourly",
		watch.Rule{Signal: watch.ErrorRate, Versus: watch.Main, Times: 3, Then: guard.RollBack}, "enough of it")
	must(t, err)
	ended := r.until(o.ID, "it is not ended", over)
	if last := ended.Decisions[len(ended.Decisions)-1]; ended.Phase != rollout.Ended ||
		!strings.Contains(last.Sentence(), "The watch error_rate versus main fired") {
		t.Errorf("%s: %s", ended.Phase, last.Sentence())
	}
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || len(e.Split.Lanes) != 1 || e.Split.Main().Version != "heat-demand@1" {
		t.Errorf("%+v, %v", e.Split, err)
	}
}

// An alert says what nearly all that is in trouble has in common: its caller, and a part of what is asked.
func TestWhatIsInTroubleHasInCommon(t *testing.T) {
	r := newRig(t)
	one, _ := r.twoVersions()
	sticky := "cookie desk" // failures of one who is kept on a lane by name count once a second
	_, err := r.runa.EditEndpoint(t.Context(), "demand-hourly", wire.EditEndpoint{Sticky: &sticky})
	must(t, err)
	n := 0
	await(t, "no alert is raised", func() bool {
		for range 10 {
			n++
			one.failing.Store(false)
			for range 3 {
				r.infer(float64(n%40), "Inner-Ladder-Caller", "planning-tool")
			}
			one.failing.Store(true)
			r.infer(-30-float64(n%7), "Inner-Ladder-Caller", "robot")
		}
		all, err := r.runa.Alerts(t.Context(), "open", "demand-hourly", client.Part{})
		must(t, err)
		return len(all.Items) > 0
	})
	a := r.alertAbout(watch.ErrorRate)
	if !strings.Contains(a.Sentence, "that failed are of robot, who sends") ||
		!strings.Contains(a.Sentence, "that failed have x below") {
		t.Errorf("%s", a.Sentence)
	}
}
