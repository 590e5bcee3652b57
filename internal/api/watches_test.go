package api_test

import (
	"strings"
	"testing"

	"innerladder/internal/client"
	"innerladder/internal/core/watch"
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
