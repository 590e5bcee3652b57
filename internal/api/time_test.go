package api_test

import (
	"bufio"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/wire"
	"innerladder/test/poll"
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
	if !poll.Within(3*time.Minute, func() bool { // bins take 1 000 rows of main, which a busy machine is long about
		d, err = r.runa.Drift(ctx, "demand-hourly", time.Hour, wire.AgainstMain, "heat-demand@2", false)
		must(t, err)
		return len(d.Items) == 2 && d.Items[1].Movement.Verdict == drift.Moved
	}) {
		t.Fatalf("the trial predicts otherwise, and that is not seen: %+v", d.Items)
	}
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

// A series ends where it is asked to, has what was turned away, and tells whoever has it only what is new.
func TestASeriesInParts(t *testing.T) {
	r := newRig(t)
	r.twoVersions()
	r.calls(20)
	_, _ = r.asked("demand-hourly/versions/9", `{}`)
	series := func(query string) (s wire.Series) {
		t.Helper()
		status, _, body := r.call("GET", "/api/v1/endpoints/demand-hourly/series?window=5m"+query, "")
		if must(t, json.Unmarshal(body, &s)); status != 200 {
			t.Fatalf("%d %s", status, body)
		}
		return s
	}
	requests := func(s wire.Series) (n uint64) {
		for _, l := range s.Lanes {
			for _, p := range l.Points {
				n += p.Requests
			}
		}
		return n
	}
	var whole wire.Series
	await(t, "all of it", func() bool {
		whole = series("")
		return requests(whole) == 20 && len(whole.Refused) == 1
	})
	if whole.Refused[0].Count != 1 || len(whole.Splits) != 1 {
		t.Errorf("%+v", whole)
	}
	at := func(d time.Duration) string { return url.QueryEscape(whole.To.Add(d).Format(time.RFC3339Nano)) }
	if s := series("&after=" + at(time.Minute)); requests(s) != 0 || len(s.Splits) != 0 || s.StepMS != whole.StepMS {
		t.Errorf("after all of it: %+v", s)
	}
	if s := series("&until=" + at(-4*time.Minute)); requests(s) != 0 || s.To.After(whole.To.Add(-3*time.Minute)) {
		t.Errorf("until before all of it: %+v", s)
	}
	// Who listens is told what is new, first all after a moment, and then from where it was told last.
	req, err := http.NewRequestWithContext(t.Context(), "GET", r.server+"/api/v1/events?series="+
		url.QueryEscape("demand-hourly,5m,"+whole.From.Format(time.RFC3339Nano)), nil)
	must(t, err)
	req.Header.Set("Authorization", "Bearer "+r.runaToken)
	res, err := http.DefaultClient.Do(req)
	must(t, err)
	defer res.Body.Close()
	in := bufio.NewScanner(res.Body)
	in.Buffer(nil, 1<<20)
	var told []wire.Series
	for is := false; len(told) < 2 && in.Scan(); {
		if is {
			var news struct {
				Endpoint, Window string
				Series           wire.Series
			}
			must(t, json.Unmarshal([]byte(strings.TrimPrefix(in.Text(), "data: ")), &news))
			if news.Endpoint != "demand-hourly" || news.Window != "5m" {
				t.Errorf("told of %s over %s", news.Endpoint, news.Window)
			}
			told = append(told, news.Series)
		}
		is = in.Text() == "event: series"
	}
	if len(told) < 2 || requests(told[0]) != 20 || !told[1].From.After(told[0].From) {
		t.Errorf("told %+v", told)
	}
	for _, wrong := range []string{
		"demand-hourly", "demand-hourly,soon,2026-01-01T00:00:00Z", "demand-hourly,5m,now",
		"nothing,5m,2026-01-01T00:00:00Z", "demand-hourly,1ms,2026-01-01T00:00:00Z",
	} {
		if status, _, body := r.call("GET", "/api/v1/events?series="+url.QueryEscape(wrong), ""); status < 400 {
			t.Errorf("%s: %d %s", wrong, status, body)
		}
	}
	status, _, body := r.call("GET", "/api/v1/endpoints/demand-hourly/series?until=soon", "")
	if status != 422 || !strings.Contains(string(body), `"until"`) {
		t.Errorf("%d %s", status, body)
	}
}
