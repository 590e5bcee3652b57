package api_test

import (
	"strings"
	"testing"

	"innerladder/test/plans"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/rollout"
	"innerladder/internal/wire"
)

// A fixed comparison keeps its share until it is decided, and ends with a verdict: main has everything again, without a
// way back, and nobody steps down.
func TestAComparison(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	r.plan(plans.Which)
	r.calling()
	out, err := r.runa.ForeseeRollout(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "which"})
	if err != nil || len(out.Forecast.Differences) != 4 || out.Forecast.Steps[0].Share != 5000 {
		t.Errorf("%v, %+v", err, out)
	}
	started, err := r.runa.Roll(ctx, "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "which"})
	must(t, err)
	shown := r.until(started.ID, "it does not compare", func(o wire.ShownRollout) bool {
		return o.Phase == rollout.Comparing && o.Verdict != nil && o.Verdict.CandidateRequests > 0
	})
	if shown.Share != 5000 || shown.Verdict.High-shown.Verdict.Low <= 0 {
		t.Errorf("%+v", shown.State)
	}
	shown = r.until(started.ID, "it is not decided", over)
	e, err := r.runa.Endpoint(ctx, "demand-hourly")
	must(t, err)
	if shown.Phase != rollout.Finished || shown.Verdict == nil || shown.Verdict.Decision != guard.NoDifference ||
		!strings.Contains(logOf(shown), "Both do as well as each other") || shown.Incident != "" ||
		e.Split.String() != "heat-demand@1 100 %" || e.Split.Leaves != 0 || e.Rollout != "" {
		t.Errorf("%s\n%+v", logOf(shown), e.Split)
	}
	v, err := r.runa.Version(ctx, "heat-demand@2")
	if err != nil || v.Rung != "live" {
		t.Errorf("%v, it stands on %s", err, v.Rung)
	}
}

// Harm stops a comparison as it stops every trial, unless the comparison is decided before.
func TestAComparisonThatDoesHarm(t *testing.T) {
	r := newRig(t)
	_, two := r.twoVersions()
	r.plan(plans.Which)
	r.calling()
	two.failing.Store(true)
	started, err := r.runa.Roll(t.Context(), "demand-hourly", wire.NewRollout{To: "heat-demand@2", Plan: "which"})
	must(t, err)
	if o := r.until(started.ID, "it is not over", over); o.Phase == rollout.Finished {
		if !strings.Contains(logOf(o), "so it does worse") {
			t.Error(logOf(o))
		}
		return
	}
	shown := r.until(started.ID, "there is no incident", func(o wire.ShownRollout) bool { return o.Incident != "" })
	if shown.Phase != rollout.RolledBack {
		t.Errorf("%s", logOf(shown))
	}
}
