package api_test

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/ladder/rule"
	"innerladder/internal/core/request"
	"innerladder/internal/core/rollout"
	"innerladder/internal/core/traffic"
	"innerladder/internal/core/watch"
	"innerladder/internal/wire"
	"innerladder/test/poll"
)

// quick is a plan that a test can wait for.
const quick = `name: quick
kind: canary
first: [header X-Team is beta]
steps:
  - share: 20 %
    time: 1s
    requests: 20
  - share: 50 %
    requests: 20
bake:
  time: 2s
  requests: 20
guards:
  - signal: error_rate
    ratio: 2
    margin: 0.2
  - signal: missing_outputs
    margin: 0.3
harm:
  bad_answers: 200
beta: 0.2
patience: 1m
capacity: 1
`

// calling calls the endpoint until the test ends, with some headers.
func (r *rig) calling(header ...string) (failed *atomic.Int64) {
	failed = new(atomic.Int64)
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for i := 0; ; i++ {
			select {
			case <-stop:
				return
			case <-time.After(2 * time.Millisecond):
				if status, _ := r.infer(float64(i%97), header...); status != 200 {
					failed.Add(1)
				}
			}
		}
	}()
	r.t.Cleanup(func() { close(stop); <-done })
	return failed
}

// until waits until a rollout is as is wanted.
func (r *rig) until(id string, what string, is func(wire.ShownRollout) bool) wire.ShownRollout {
	r.t.Helper()
	var o wire.ShownRollout
	if !poll.Within(3*time.Minute, func() bool {
		var err error
		o, err = r.runa.Rollout(r.t.Context(), id)
		must(r.t, err)
		return is(o)
	}) {
		r.t.Fatalf("%s: %+v\n%s", what, o.Standing, logOf(o))
	}
	return o
}

// counted waits until a lane of the split in force has answered so many requests.
func (r *rig) counted(lane int, requests uint64) wire.EndpointNow {
	r.t.Helper()
	var now wire.EndpointNow
	await(r.t, fmt.Sprintf("%d requests of lane %d", requests, lane), func() bool {
		var err error
		now, err = r.runa.EndpointNow(r.t.Context(), "demand-hourly")
		must(r.t, err)
		return now.Lanes[lane].Requests >= requests
	})
	return now
}

// stepped waits until the job that steps rollouts has had two more turns: at least one began after the call.
func (r *rig) stepped() {
	r.t.Helper()
	turns := func() uint64 {
		for _, j := range r.jobs.Reports() {
			if j.Name == "rollouts" {
				return j.Runs
			}
		}
		return 0
	}
	before := turns()
	await(r.t, "two turns of the job", func() bool { return turns() >= before+2 })
}

// whole is a split in which a version has everything.
func whole(ref string) []traffic.Lane {
	return []traffic.Lane{{Kind: traffic.Main, Version: ref, Share: traffic.Whole}}
}

// switchTo gives a version everything by hand, once main has answered enough for that to be known.
func (r *rig) switchTo(ref string) {
	r.t.Helper()
	r.counted(0, 500)
	_, err := r.runa.Split(r.t.Context(), "demand-hourly", whole(ref), "all at once", -1)
	must(r.t, err)
}

// rolledBack rolls out a second version that fails, while callers call, until that is over.
func (r *rig) rolledBack() (o wire.ShownRollout, two *modelServer) {
	r.t.Helper()
	_, two = r.twoVersions()
	r.plan(quick)
	r.calling()
	// The first of them is on the lane of main, the second on trial from its first step on: a hash says so.
	for _, desk := range []string{"north", "harbour"} {
		r.calling("Inner-Ladder-Caller", desk)
	}
	two.failing.Store(true)
	started, err := r.runa.Roll(r.t.Context(), "demand-hourly",
		wire.NewRollout{To: "heat-demand@2", Plan: "quick"})
	must(r.t, err)
	return r.until(started.ID, "it is not rolled back", over), two
}

func logOf(o wire.ShownRollout) string {
	var out []string
	for _, d := range o.Decisions {
		out = append(out, fmt.Sprintf("%s #%d %s", d.Phase, d.Split, d.Sentence()))
	}
	return strings.Join(out, "\n")
}

func over(o wire.ShownRollout) bool { return o.Phase.Over() }

func (r *rig) plan(text string) {
	r.t.Helper()
	_, err := r.runa.PutPlan(r.t.Context(), "", text, "for tests")
	must(r.t, err)
}

// A good version goes up step by step, takes over, is watched, and stays; every step is a split of the rollout.
func TestARolloutThatFinishes(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	r.plan(quick)
	failed := r.calling()
	out, err := r.runa.ForeseeRollout(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "quick"})
	must(t, err)
	if len(out.Lacking) != 0 || out.From != "heat-demand@1" || len(out.Forecast.Steps) != 3 {
		t.Errorf("%+v", out)
	}
	started, err := r.runa.Roll(ctx, "demand-hourly",
		wire.NewRollout{To: "heat-demand@2", Plan: "quick", Reason: "better"})
	must(t, err)
	_, err = r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "quick"})
	wantCode(t, "a second at the same endpoint", err, "rollout.lacks")
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "", -1)
	wantCode(t, "a split by hand", err, "rollout.in_force")
	_, err = r.runa.Unplace(ctx, "heat-demand@2", "plant-north")
	if err == nil {
		t.Error("the candidate was taken away")
	}
	o := r.until(started.ID, "it does not bake", func(o wire.ShownRollout) bool { return o.Phase == rollout.Baking })
	if o.Share != 10000 || len(o.Guards) != 2 {
		t.Errorf("%+v", o)
	}
	_, err = r.runa.Unplace(ctx, "heat-demand@1", "plant-north")
	wantCode(t, "what it may have to go back to", err, "rollout.in_force")
	o = r.until(started.ID, "it does not end", over)
	if o.Phase != rollout.Finished || len(o.Decisions) != 5 {
		t.Fatalf("%s\n%s", o.Phase, logOf(o))
	}
	splits, err := r.runa.Splits(ctx, "demand-hourly", client.Part{})
	must(t, err)
	var shares []int
	for _, s := range slices.Backward(splits.Items) {
		for _, l := range s.Lanes {
			if l.Version == "heat-demand@2" {
				shares = append(shares, l.Share)
			}
		}
		if len(s.Rules) != len(s.Lanes)-1 { // whom the plan names are sent to the candidate while it is on trial
			t.Errorf("rules of #%d: %v", s.Number, s.Rules)
		}
		if s.Number > 1 && s.Rollout != started.ID {
			t.Errorf("%+v", s)
		}
	}
	if fmt.Sprint(shares) != "[2000 5000 10000]" || failed.Load() != 0 {
		t.Errorf("shares %v, %d failed", shares, failed.Load())
	}
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	if err != nil || e.Rollout != "" {
		t.Errorf("%+v, %v", e, err)
	}
	if _, err = r.runa.Unplace(ctx, "heat-demand@1", "plant-north"); err != nil {
		t.Errorf("it is over: %v", err)
	}
}

// A bad one is rolled back within the step, steps down, and says why.
func TestARolloutThatIsRolledBack(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	o, _ := r.rolledBack()
	last := o.Decisions[len(o.Decisions)-1]
	if o.Phase != rollout.RolledBack || last.Signal != "error_rate" || last.Split == 0 || o.Share != 0 ||
		!strings.Contains(last.Seen, "the guard fires") {
		t.Fatalf("%s\n%s", o.Phase, logOf(o))
	}
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	must(t, err)
	if e.Split.String() != "heat-demand@1 100 %" || e.Split.Leaves == 0 || e.Split.ReturnsTo != 1 {
		t.Errorf("%+v", e.Split)
	}
	v, err := r.runa.Version(ctx, "heat-demand@2")
	must(t, err)
	if v.Rung == "live" || v.RolledBack == nil || v.RolledBack.Alert == "" {
		t.Errorf("it stands on %s: %+v", v.Rung, v.RolledBack)
	}
	_, err = r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "quick"})
	if client.Code(err) != "rollout.lacks" || !strings.Contains(err.Error(), "demands live") {
		t.Errorf("it must be signed anew: %v", err)
	}
}

// A full switch by hand gets the watch that a trial gets: half of all answers failed, and nobody was told.
func TestASwitchByHandIsWatched(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	r.calling()
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(0, 10000)[1:2], "all at once", -1)
	if err == nil {
		t.Fatal("a trial lane alone is no split")
	}
	r.switchTo("heat-demand@2")
	await(t, "a guard that watches it", func() bool {
		now, err := r.runa.EndpointNow(ctx, "demand-hourly")
		must(t, err)
		return len(now.Guards) > 0 && now.Guards[0].Version == "heat-demand@2"
	})
	two.failing.Store(true)
	if !poll.Within(20*time.Second, func() bool {
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return e.Split.Main().Version == "heat-demand@1"
	}) {
		now, _ := r.runa.EndpointNow(ctx, "demand-hourly")
		t.Fatalf("%+v", now.Guards)
	}
	alerts, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	must(t, err)
	// The endpoint's own watch of errors may speak, too, where the calls go on for long enough.
	if !slices.ContainsFunc(alerts.Items, func(a watch.Alert) bool {
		return a.Kind == watch.RolledBack && strings.Contains(a.Sentence, "before")
	}) {
		t.Errorf("%+v", alerts.Items)
	}
}

// A twin is warmed, takes over at once, and main goes back when all its servers are gone.
func TestATwinThatDies(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	r.plan("name: pair\nkind: blue_green\nwarm: 25\nbake:\n  time: 5m\nbeta: 0.2\n")
	r.calling()
	started, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "pair"})
	must(t, err)
	r.until(started.ID, "it does not take over", func(o wire.ShownRollout) bool { return o.Phase == rollout.Baking })
	await(t, "the takeover at the gateway", func() bool { // which hears of it when it is recorded
		status, version := r.infer(1)
		return status == 200 && version == "heat-demand@2"
	})
	two.CloseClientConnections()
	two.Close()
	o := r.until(started.ID, "main does not go back", over)
	if o.Phase != rollout.RolledBack {
		t.Errorf("%s\n%s", o.Phase, logOf(o))
	}
	if status, version := r.infer(1); status != 200 || version != "heat-demand@1" {
		t.Errorf("%d %s", status, version)
	}
}

// Held, resumed, sped on, ended; refused where that cannot be; gone back from under it.
func TestRolloutsByHand(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	r.calling()
	roll := func() string {
		t.Helper()
		o, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "brisk"})
		must(t, err)
		r.until(o.ID, "it does not begin", func(o wire.ShownRollout) bool { return o.Phase == rollout.Stepping })
		return o.ID
	}
	id := roll()
	o, err := r.runa.DoRollout(ctx, id, rollout.ToHold, "the desk is away")
	must(t, err)
	if o.Held == nil || o.Held.By != "runa" || len(o.Standing.Waits) != 1 {
		t.Errorf("%+v", o)
	}
	_, err = r.runa.DoRollout(ctx, id, rollout.ToSpeed, "on")
	wantCode(t, "held", err, "rollout.speed")
	_, err = r.runa.DoRollout(ctx, id, rollout.ToResume, "")
	wantCode(t, "no reason", err, "reason.missing")
	_, err = r.runa.DoRollout(ctx, id, rollout.ToResume, "back")
	must(t, err)
	o, err = r.tove.DoRollout(ctx, id, rollout.ToSpeed, "it is only a comma")
	must(t, err)
	if o.Step != 1 || o.Share != 5000 {
		t.Errorf("%+v", o.State)
	}
	o, err = r.runa.DoRollout(ctx, id, rollout.ToEnd, "not today")
	must(t, err)
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	must(t, err)
	if o.Phase != rollout.Ended || e.Split.String() != "heat-demand@1 100 %" || e.Split.Author != "runa" {
		t.Errorf("%+v, %+v", o.State, e.Split)
	}
	_, err = r.runa.DoRollout(ctx, id, rollout.ToHold, "again")
	wantCode(t, "over", err, "rollout.hold")

	id = roll()
	_, err = r.runa.DoRollout(ctx, id, rollout.ToFinish, "we know it")
	must(t, err)
	back, err := r.tove.Back(ctx, "demand-hourly", 0, "the harbour complains", -1)
	must(t, err)
	if o, err = r.runa.Rollout(ctx, id); err != nil || o.Phase != rollout.Ended ||
		!strings.Contains(logOf(o), "harbour") ||
		back.Main().Version != "heat-demand@1" {
		t.Errorf("%v, %s, %s", err, back.String(), logOf(o))
	}
	reader := client.New(r.server, r.person("odd", everywhere("reader")...))
	_, err = reader.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2"})
	wantCode(t, "a reader", err, "permission.missing")
	_, err = reader.Rollout(ctx, id)
	must(t, err)
	_, err = r.runa.Rollout(ctx, "R-99")
	wantCode(t, "none", err, "rollout.unknown")
	all, err := r.runa.Rollouts(ctx, "demand-hourly", "heat-demand@2", false, client.Part{})
	if err != nil || len(all.Items) != 2 {
		t.Errorf("%v, %+v", err, all)
	}
}

// A change freeze of the ladder holds rollouts and splits, and no way back. A rollout may be given a time to start.
func TestFreezes(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	freeze := func(freezes ...rule.Freeze) {
		t.Helper()
		l, err := r.runa.Ladder(ctx, "default")
		must(t, err)
		l.Freezes = freezes
		_, err = r.runa.SetLadder(ctx, "default", l.Ladder, "the weather", -1)
		must(t, err)
	}
	form := "2006-01-02 15:04"
	freeze(rule.Freeze{
		Name: "the cold week", Zone: "UTC", From: time.Now().UTC().Add(-time.Hour).Format(form),
		To: time.Now().UTC().Add(2 * time.Hour).Format(form),
	})
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "", -1)
	wantCode(t, "a split", err, "freeze.on")
	o, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "brisk"})
	must(t, err)
	shown := r.until(o.ID, "it names no freeze", func(o wire.ShownRollout) bool {
		return slices.ContainsFunc(o.Standing.Waits, func(w rollout.Wait) bool {
			return strings.Contains(w.For, "the cold week")
		})
	})
	if shown.Phase != rollout.Waiting {
		t.Errorf("%+v", shown.Standing)
	}
	freeze()
	r.until(o.ID, "it does not begin", func(o wire.ShownRollout) bool { return o.Phase == rollout.Stepping })
	_, err = r.runa.DoRollout(ctx, o.ID, rollout.ToEnd, "enough")
	must(t, err)
	later := time.Now().Add(time.Hour)
	o, err = r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", StartsAt: &later})
	must(t, err)
	r.stepped()
	if shown, err = r.runa.Rollout(ctx, o.ID); err != nil || shown.Phase != rollout.Waiting ||
		shown.Standing.Left == nil {
		t.Errorf("%v, %+v", err, shown)
	}
	r.skew.Add(int64(time.Hour))
	r.until(o.ID, "it does not begin at its time", func(o wire.ShownRollout) bool {
		return o.Phase == rollout.Stepping
	})
}

// Plans are kept in revisions, and what is wrong in one is said with line and column.
func TestPlans(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	r.plan(quick)
	_, err := r.runa.PutPlan(ctx, "", quick, "again")
	wantCode(t, "the same", err, "plan.same")
	p, err := r.runa.PutPlan(ctx, "", strings.Replace(quick, "20 %", "10 %", 1), "smaller")
	if err != nil || p.Revision != 2 {
		t.Errorf("%v, %+v", err, p)
	}
	first, err := r.runa.Plan(ctx, "", "quick#1")
	if err != nil || first.Steps[0].Share != 2000 || first.Text != quick {
		t.Errorf("%v, %+v", err, first)
	}
	_, err = r.runa.PutPlan(ctx, "", strings.Replace(quick, "20 %", "120 %", 1), "")
	if client.Code(err) != "plan.field" || !strings.Contains(err.Error(), "line 5, column 12") {
		t.Errorf("%v", err)
	}
	_, err = r.runa.PutPlan(ctx, "", strings.Replace(quick, "quick", "careful", 1), "")
	wantCode(t, "a name that is built in", err, "plan.built_in")
	_, err = r.runa.Plan(ctx, "", "swift")
	wantCode(t, "none", err, "plan.unknown")
	all, err := r.runa.Plans(ctx)
	if err != nil || len(all.Items) != len(rollout.BuiltIn())+1 {
		t.Errorf("%v, %+v", err, all)
	}
	_, err = r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "quick#7"})
	wantCode(t, "no such revision", err, "plan.unknown")
	_, err = r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@1"})
	wantCode(t, "who answers already", err, "rollout.there")
}

// locked holds the write lock of ladder.db from outside, as a backup tool or a person with a shell may, until
// what it returns is called.
func (r *rig) locked() (unlock func()) {
	r.t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(r.dir, "ladder.db"))
	must(r.t, err)
	db.SetMaxOpenConns(1)
	_, err = db.ExecContext(r.t.Context(), "BEGIN IMMEDIATE")
	must(r.t, err)
	return func() {
		_, err := db.ExecContext(context.Background(), "ROLLBACK")
		must(r.t, err)
		must(r.t, db.Close())
	}
}

// While ladder.db is locked a guard's way back is in force all the same; the record is completed after, and says
// so.
func TestTrafficBeforeRecord(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	failed := r.calling()
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "first look", -1)
	must(t, err)
	r.counted(1, 50)
	unlock := r.locked()
	two.failing.Store(true)
	quiet := func() bool {
		for range 40 {
			if status, version := r.infer(1); status != 200 || version != "heat-demand@1" {
				return false
			}
		}
		return true
	}
	await(t, "the way back while the record is locked", quiet)
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	must(t, err)
	if len(e.Split.Trials()) != 1 {
		t.Fatalf("it was recorded: %s", e.Split.String())
	}
	await(t, "a word about it", func() bool {
		now, err := r.runa.EndpointNow(ctx, "demand-hourly")
		must(t, err)
		return strings.Contains(now.Diverted, "heat-demand@1 100 %")
	})
	if !quiet() {
		t.Error("it did not stay")
	}
	before := failed.Load()
	unlock()
	await(t, "the record", func() bool {
		e, err = r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return len(e.Split.Trials()) == 0
	})
	if failed.Load() != before {
		t.Errorf("%d requests failed while the record was completed", failed.Load()-before)
	}
	log, err := r.runa.Audit(ctx, map[string]string{"kind": "split.made"}, client.Part{Limit: 1})
	must(t, err)
	if !strings.Contains(log.Items[0].Sentence, "It has been in force at the gateway since") {
		t.Errorf("%s", log.Items[0].Sentence)
	}
	alerts, err := r.runa.Alerts(ctx, "open", "demand-hourly", client.Part{})
	n := 0
	for _, a := range alerts.Items { // a watch may have seen the failures too
		if a.Kind == watch.RolledBack {
			n++
		}
	}
	if err != nil || n != 1 {
		t.Errorf("%v, %+v", err, alerts.Items)
	}
}

// The same by hand; and a way back that is refused leaves everything as it was.
func TestAWayBackWhileTheRecordIsLocked(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, _ = r.twoVersions()
	_, err := r.runa.Split(ctx, "demand-hourly", whole("heat-demand@2"), "all at once", -1)
	must(t, err)
	unlock := r.locked()
	s, err := r.runa.Back(ctx, "demand-hourly", 0, "the harbour complains", -1)
	if err != nil || !s.Unrecorded || s.Number != 3 {
		t.Fatalf("%v, %+v", err, s)
	}
	if status, version := r.infer(1); status != 200 || version != "heat-demand@1" {
		t.Errorf("%d %s", status, version)
	}
	unlock()
	var e traffic.Endpoint
	await(t, "the record", func() bool {
		e, err = r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return e.Split.Number == 3
	})
	if e.Split.Author != "runa" || e.Split.Main().Version != "heat-demand@1" ||
		e.Split.Reason != "the harbour complains" {
		t.Errorf("%+v", e.Split)
	}
	_, err = r.runa.Back(ctx, "demand-hourly", 1, "once more", 2)
	wantCode(t, "decided on another split", err, "split.changed")
	if status, version := r.infer(1); status != 200 || version != "heat-demand@1" {
		t.Errorf("%d %s", status, version)
	}
}

// Each rollback has its page: written by the service, with what happened, what was touched and what differs; people
// add to it.
func TestIncidents(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.rolledBack()
	var i wire.ShownIncident
	var err error
	await(t, "the report", func() bool {
		i, err = r.runa.Incident(ctx, "I-1")
		must(t, err)
		return i.Report != nil
	})
	rep := i.Report
	if i.Candidate != "heat-demand@2" || i.Rollout != "R-1" || i.Alert != "A-1" || i.Signal != "error_rate" ||
		i.Title != "heat-demand@2 failed more" || i.At.Before(i.Begun) {
		t.Errorf("%+v", i.Incident)
	}
	if rep.Requests == 0 || rep.Failed != rep.Requests || rep.Callers != 1 ||
		!strings.Contains(rep.Sentence, "About 1 caller got") || len(rep.Timeline) < 4 || rep.Comparison == nil ||
		len(rep.Approved) != 1 || rep.Approved[0].Signed[0] != "tove" || rep.Diff == nil || len(rep.Curve) == 0 {
		t.Errorf("%+v", rep)
	}
	// Some of what failed can be looked at, in the report and in the log.
	if len(rep.Samples) != 5 || rep.Samples[0].Outcome != request.ServerError ||
		!strings.Contains(i.Markdown, rep.Samples[0].Request) {
		t.Errorf("%+v", rep.Samples)
	} else if k, err := r.runa.Request(ctx, rep.Samples[0].Request); err != nil || k.Version != "heat-demand@2" ||
		!strings.Contains(string(k.Answer), "told to fail") {
		t.Errorf("%+v, %v", k, err)
	}
	known := map[string]string{}
	for _, k := range rep.Known {
		known[k.Source] = k.Could
	}
	if known["evaluation"] != "no" || known["known_answers"] != "missing" || known["tests"] != "missing" {
		t.Errorf("%+v", rep.Known)
	}
	o, err := r.runa.Rollout(ctx, "R-1")
	must(t, err)
	alerts, err := r.runa.Alerts(ctx, "", "demand-hourly", client.Part{})
	must(t, err)
	first := alerts.Items[len(alerts.Items)-1] // a watch may have seen the failures since
	if o.Incident != "I-1" || first.ID != "A-1" || first.Incident != "I-1" {
		t.Errorf("%s, %+v", o.Incident, first)
	}

	r.handleIncident()

	// By hand: a way back from what somebody tried, and none from what merely follows.
	two.failing.Store(false)
	r.approve("heat-demand@2")
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "once more", -1)
	must(t, err)
	_, err = r.runa.Back(ctx, "demand-hourly", 0, "the harbour complains", -1)
	must(t, err)
	all, err := r.runa.Incidents(ctx, "demand-hourly", "heat-demand@2", "open", client.Part{})
	if err != nil || len(all.Items) != 1 || all.Items[0].By != "runa" || all.Items[0].Alert != "" {
		t.Errorf("%v, %+v", err, all.Items)
	}
}

// handleIncident notes, follows up and closes I-1.
func (r *rig) handleIncident() {
	t, ctx := r.t, r.t.Context()
	t.Helper()
	cause := "a sensor"
	for name, h := range map[string]wire.HandleIncident{
		"incident.nothing":        {},
		"incident.follow_up.text": {FollowUp: &wire.NewFollowUp{}},
		"incident.due":            {FollowUp: &wire.NewFollowUp{Text: "x", Due: "soon"}},
		"incident.done":           {Done: 4},
		"incident.state":          {State: "gone"},
	} {
		_, err := r.runa.HandleIncident(ctx, "I-1", h)
		wantCode(t, name, err, name)
	}
	_, err := r.tove.HandleIncident(ctx, "I-1", wire.HandleIncident{
		Note: "nobody noticed", FollowUp: &wire.NewFollowUp{Text: "mend it", Who: "runa", Due: "2026-12-01"},
	})
	must(t, err)
	got, err := r.runa.HandleIncident(ctx, "I-1", wire.HandleIncident{Cause: &cause, Done: 1, State: "closed"})
	must(t, err)
	if got.State != "closed" || got.Cause != cause || got.FollowUps[0].DoneBy != "runa" || got.Notes[0].By != "tove" {
		t.Errorf("%+v", got.Incident)
	}
	for _, want := range []string{
		"# I-1: heat-demand@2 failed more", "a sensor", "- [x] mend it", "nobody noticed",
		"signed by tove", "known answers: None are kept",
	} {
		if !strings.Contains(got.Markdown, want) {
			t.Errorf("no %q in\n%s", want, got.Markdown)
		}
	}
}

// What served at a moment is told, with what it served and how it ended.
func TestHistory(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	for i := range 20 {
		r.infer(float64(i))
	}
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "a look", -1)
	must(t, err)
	between := time.Now()
	_, err = r.runa.Back(ctx, "demand-hourly", 0, "enough", -1)
	must(t, err)
	var all wire.Listed[wire.Served]
	await(t, "what was served", func() bool {
		all, err = r.runa.History(ctx, "demand-hourly", time.Time{}, client.Part{})
		must(t, err)
		return len(all.Items) == 3 && len(all.Items[2].Versions) == 1 && all.Items[2].Versions[0].Requests == 20
	})
	first, second, third := all.Items[2], all.Items[1], all.Items[0]
	if first.Versions[0].Requests != 20 || first.Ended != "made place for the next" || first.Until == nil {
		t.Errorf("%+v", first)
	}
	if !strings.Contains(second.Ended, "left by runa: enough") || third.Ended != "in force" || third.Until != nil ||
		third.Incident != "I-1" {
		t.Errorf("%+v\n%+v", second, third)
	}
	then, err := r.runa.History(ctx, "demand-hourly", between, client.Part{})
	if err != nil || len(then.Items) != 1 || then.Items[0].Split.Number != 2 || then.Items[0].Until == nil {
		t.Errorf("%v, %+v", err, then)
	}
	_, err = r.runa.History(ctx, "demand-hourly", time.Now().Add(-time.Hour), client.Part{})
	wantCode(t, "before the first", err, "history.none")
}

// A rollout that waits does not outlive what it is about: another version answers main, or its candidate is gone.
func TestARolloutWhoseWorldMoved(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	r.calling()
	r.switchTo("heat-demand@2")
	later := time.Now().Add(time.Hour)
	o, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@1", Plan: "brisk", StartsAt: &later})
	must(t, err)
	two.failing.Store(true) // who took over by hand is still watched, and goes back
	await(t, "the way back", func() bool {
		e, err := r.runa.Endpoint(ctx, "demand-hourly")
		must(t, err)
		return e.Split.Main().Version == "heat-demand@1"
	})
	shown, err := r.runa.Rollout(ctx, o.ID)
	if err != nil || shown.Phase != rollout.Waiting {
		t.Fatalf("%v, %s\n%s", err, shown.Phase, logOf(shown))
	}
	r.skew.Add(int64(time.Hour))
	shown = r.until(o.ID, "it does not say that its world moved", func(o wire.ShownRollout) bool {
		return len(o.Standing.Waits) > 0 && strings.Contains(o.Standing.Waits[0].For, "answers main now")
	})
	if _, err = r.runa.DoRollout(ctx, o.ID, rollout.ToSpeed, "now"); err == nil {
		t.Error("it was sped on")
	}
	r.skew.Add(int64(25 * time.Hour))
	if shown = r.until(o.ID, "it waits for ever", over); shown.Phase != rollout.Refused {
		t.Errorf("%s\n%s", shown.Phase, logOf(shown))
	}
}
