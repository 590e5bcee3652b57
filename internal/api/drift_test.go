package api_test

import (
	"testing"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/wire"
)

// What an endpoint is asked is held against the time before, a trial against main, and a reference that is not there is
// said; what cannot be held against anything is refused.
func TestDriftOfAnEndpoint(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	two.bias.Store(500)
	_, err := r.runa.Split(ctx, "demand-hourly", lanes(5000, 5000), "to see it", -1)
	must(t, err)
	r.calling()
	var d wire.Drift
	await(t, "the trial predicts otherwise", func() bool {
		d, err = r.runa.Drift(ctx, "demand-hourly", time.Hour, wire.AgainstMain, "heat-demand@2", false)
		must(t, err)
		return len(d.Items) == 2 && d.Items[1].Movement.Verdict == drift.Moved
	})
	if x, y := d.Items[0], d.Items[1]; x.Side != "input" || x.Movement.Verdict == drift.Moved || y.Column != "y" ||
		len(y.Points) == 0 || *y.CandidateMean-*y.IncumbentMean < 400 {
		t.Errorf("%+v", d.Items)
	}
	if d, err = r.runa.Drift(ctx, "demand-hourly", time.Hour, wire.AgainstWeek, "", false); err != nil ||
		d.Note != "The same hours are known of 0 of the last 4 weeks." || len(d.Left) != 2 {
		t.Errorf("%+v, %v", d, err)
	}
	d, err = r.runa.Drift(ctx, "demand-hourly", time.Hour, wire.AgainstBefore, "", false)
	if err != nil || d.Note == "" {
		t.Errorf("%+v, %v", d, err)
	}
	d, err = r.runa.Drift(ctx, "demand-hourly", time.Hour, wire.AgainstReference, "heat-demand@2", true)
	if err != nil || d.From.After(time.Now()) || time.Since(d.From) > 5*time.Minute {
		t.Errorf("%+v, %v", d, err)
	}
	for what, q := range map[string]struct {
		endpoint, version, code string
		against                 wire.Against
		window                  time.Duration
	}{
		"another endpoint":  {"demand-houly", "", "endpoint.unknown", "before", time.Hour},
		"another version":   {"demand-hourly", "valve-fault@1", "drift.version", "before", time.Hour},
		"main against main": {"demand-hourly", "heat-demand@1", "drift.main", "main", time.Hour},
		"against the moon":  {"demand-hourly", "", "drift.against", "moon", time.Hour},
		"a second":          {"demand-hourly", "", "window.range", "before", time.Second},
	} {
		_, err := r.runa.Drift(ctx, q.endpoint, q.window, q.against, q.version, false)
		wantCode(t, what, err, q.code)
	}
}
