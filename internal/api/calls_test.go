package api_test

import (
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/wire"
)

// Who called is counted by the name that a caller gives, and by that of its key where the endpoint asks for keys: what
// it says of itself then counts for nothing.
func TestWhoCalled(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	one, _ := r.twoVersions()
	for range 6 {
		r.infer(1, "Inner-Ladder-Caller", "planning-tool")
	}
	one.failing.Store(true)
	r.infer(1, "Inner-Ladder-Caller", "robot")
	one.failing.Store(false)
	r.infer(1)
	r.infer(1)
	key, err := r.runa.AddCaller(ctx, "demand-hourly", "dispatch-desk")
	must(t, err)
	if status, _ := r.infer(1, "Inner-Ladder-Caller", "planning-tool"); status != 401 {
		t.Errorf("without a key: %d", status)
	}
	r.infer(1, "Inner-Ladder-Key", key.Key, "Inner-Ladder-Caller", "planning-tool")
	var calls wire.Calls
	await(t, "all are counted", func() bool {
		calls, err = r.runa.Calls(ctx, "demand-hourly", time.Hour)
		must(t, err)
		return calls.Total >= 10
	})
	want := map[string]request.Calls{
		"planning-tool": {Requests: 6}, "robot": {Requests: 1, Failed: 1}, request.Unnamed: {Requests: 2},
		"dispatch-desk": {Requests: 1},
	}
	if calls.Total != 10 || len(calls.Items) != len(want) || calls.Items[0].Name != "planning-tool" {
		t.Errorf("%+v", calls)
	}
	for _, c := range calls.Items {
		if c.Calls != want[c.Name] || c.Last.IsZero() || len(c.Points) == 0 {
			t.Errorf("%+v, want %+v", c, want[c.Name])
		}
	}
	_, err = r.runa.Calls(ctx, "demand-hourly", time.Second)
	wantCode(t, "a second", err, "window.range")
}
