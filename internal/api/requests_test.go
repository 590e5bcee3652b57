package api_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/access"
	"innerladder/internal/core/request"
	"innerladder/internal/gateway"
	"innerladder/internal/wire"
	"innerladder/test/poll"
)

// inLog waits until a request is in the log.
func (r *rig) inLog(id string) (shown wire.RequestShown) {
	r.t.Helper()
	if !poll.Within(5*time.Second, func() bool {
		var err error
		shown, err = r.runa.Request(r.t.Context(), id)
		return err == nil
	}) {
		_, err := r.runa.Request(r.t.Context(), id)
		r.t.Fatalf("%s is not in the log: %v", id, err)
	}
	return shown
}

// From an answer's id to what was asked and answered, from there to the lineage, and to what another version says.
func TestARequestIsFoundAndTriedAgain(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, two := r.twoVersions()
	_, id := r.answered()
	shown := r.inLog(id)
	if shown.Endpoint != "demand-hourly" || shown.Version != "heat-demand@1" || shown.Outcome != request.Answered ||
		shown.Lane != "main" || shown.Split != 1 || len(shown.Versions) != 2 ||
		!strings.Contains(string(shown.Request), `"name":"x"`) || !strings.Contains(string(shown.Answer), "outputs") {
		t.Errorf("%+v\n%s\n%s", shown, shown.Request, shown.Answer)
	}
	if tr, err := r.runa.Trace(ctx, wire.TraceFrom{From: id}); err != nil || tr.Answer.Version != "heat-demand@1" {
		t.Errorf("%+v, %v", tr.Answer, err)
	}
	again, err := r.runa.TryAgain(ctx, id, "")
	if err != nil || again.Version != "heat-demand@1" || again.Status != 200 || !again.Compared ||
		len(again.Differences) != 0 {
		t.Errorf("%+v, %v", again, err)
	}
	// What a version answers now may differ, and the model server is told that nobody acts on it.
	two.bias.Store(500)
	other, err := r.runa.TryAgain(ctx, id, "heat-demand@2")
	if err != nil || other.Version != "heat-demand@2" || !other.Compared || len(other.Differences) != 1 {
		t.Errorf("%+v, %v", other, err)
	}
	if two.copies.Load() != 1 {
		t.Errorf("%d copies came", two.copies.Load())
	}
	now, err := r.runa.EndpointNow(ctx, "demand-hourly")
	if err != nil || now.Lanes[0].Requests > 1 {
		t.Errorf("trying again was counted: %+v, %v", now.Lanes, err)
	}
	for version, code := range map[string]string{
		"heat-demand@9": "version.unknown", "nobody@1": "model.unknown", "heat-demand": "ref.no_version",
	} {
		_, err := r.runa.TryAgain(ctx, id, version)
		wantCode(t, version, err, code)
	}
	two.Close()
	if gone, err := r.runa.TryAgain(ctx, id, "heat-demand@2"); err == nil && gone.Trouble == "" {
		t.Errorf("a server that is gone answered: %+v", gone)
	}
	_, err = r.runa.Request(ctx, "01a21b8a-157e-79c4-b258-281877d73ecd")
	wantCode(t, "an id of nobody", err, "request.unknown")
}

func TestSearchingTheLog(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	one, _ := r.twoVersions()
	desk, err := r.runa.AddCaller(ctx, "demand-hourly", "desk")
	must(t, err)
	var last string
	for x := range 5 {
		_, last = r.asked("demand-hourly", `{"inputs":[{"name":"x","datatype":"FP64","shape":[1],"data":[`+
			string(rune('0'+x))+`]}]}`, gateway.KeyHeader, desk.Key)
	}
	r.inLog(last)
	one.failing.Store(true)
	_, failed := r.answered(gateway.KeyHeader, desk.Key)
	r.inLog(failed)
	for name, c := range map[string]struct {
		f    wire.RequestFilter
		want int
	}{
		"all":                {wire.RequestFilter{}, 6},
		"by an input":        {wire.RequestFilter{Where: []string{"x>=3"}}, 2},
		"by two":             {wire.RequestFilter{Where: []string{"x>=3", "x<4"}}, 1},
		"in trouble":         {wire.RequestFilter{Trouble: true}, 1},
		"by status":          {wire.RequestFilter{Status: 500}, 1},
		"by outcome":         {wire.RequestFilter{Outcome: "answered"}, 5},
		"by version":         {wire.RequestFilter{Version: "heat-demand@2"}, 0},
		"lately":             {wire.RequestFilter{Back: time.Hour}, 6},
		"before":             {wire.RequestFilter{To: time.Now().Add(-time.Hour)}, 0},
		"slower than it was": {wire.RequestFilter{Slower: time.Minute}, 0},
		"with a key":         {wire.RequestFilter{Key: "desk"}, 6},
		"with another key":   {wire.RequestFilter{Key: "des"}, 0},
	} {
		c.f.Endpoint = "demand-hourly"
		found, err := r.runa.Requests(ctx, c.f)
		if err != nil || len(found.Items) != c.want {
			t.Errorf("%s: %d, want %d (%v)", name, len(found.Items), c.want, err)
		}
	}
	like, err := r.runa.Like(ctx, last)
	if err != nil || len(like.Items) != 5 || like.Items[0].Distance > like.Items[4].Distance || like.Looked != 6 {
		t.Errorf("%+v, %v", like, err)
	}
	for name, c := range map[string]struct {
		f    wire.RequestFilter
		code string
	}{
		"an outcome":  {wire.RequestFilter{Outcome: "bad"}, "requests.outcome"},
		"a condition": {wire.RequestFilter{Where: []string{"x"}}, "requests.where"},
		"a limit":     {wire.RequestFilter{Limit: 501}, "list.limit"},
		"a cursor":    {wire.RequestFilter{Cursor: "x"}, "list.cursor"},
		"a place":     {wire.RequestFilter{After: "x"}, "list.cursor"},
		"a window":    {wire.RequestFilter{Back: -time.Hour}, "window.range"},
		"an endpoint": {wire.RequestFilter{Endpoint: "demand-houly"}, "endpoint.unknown"},
		"a span":      {wire.RequestFilter{From: time.Now(), To: time.Now().Add(-time.Hour)}, "requests.span"},
	} {
		if c.f.Endpoint == "" {
			c.f.Endpoint = "demand-hourly"
		}
		_, err := r.runa.Requests(ctx, c.f)
		wantCode(t, name, err, c.code)
	}
}

// What an endpoint keeps is a decision with an entry, and holds from the next request on.
func TestWhatAnEndpointKeeps(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	k := request.UsualKeeping()
	k.Columns = []request.ColumnRule{{Pattern: "x", How: request.Hide}}
	e, err := r.tove.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Requests: &k, Reason: "it is about homes"})
	if err != nil || len(e.Requests.Columns) != 1 {
		t.Fatalf("%+v, %v", e, err)
	}
	_, id := r.answered()
	shown := r.inLog(id)
	if shown.RequestNote != "hidden: x" || strings.Contains(string(shown.Request), `"data"`) {
		t.Errorf("%s %s", shown.RequestNote, shown.Request)
	}
	_, err = r.runa.TryAgain(ctx, id, "heat-demand@2")
	wantCode(t, "what is hidden cannot be sent again", err, "request.not_kept")
	k.For = "soon"
	_, err = r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Requests: &k})
	wantCode(t, "soon", err, "requests.keeping")
	log, err := r.runa.Audit(ctx, map[string]string{"kind": "endpoint.changed"}, client.Part{})
	must(t, err)
	if b, _ := json.Marshal(log.Items[0]); !strings.Contains(string(b), `hide`) {
		t.Errorf("%s", b)
	}
	k = request.UsualKeeping()
	k.Bytes = 0
	_, err = r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Requests: &k})
	must(t, err)
	_, id = r.answered()
	if shown = r.inLog(id); len(shown.Request)+len(shown.Answer) > 0 || shown.RequestBytes == 0 {
		t.Errorf("%+v", shown)
	}
	_, err = r.runa.Like(ctx, id)
	wantCode(t, "the like of what is not kept", err, "request.not_kept")
}

// An endpoint that turns its callers away shows it, by reason; what found no endpoint is for who keeps the service.
func TestRefusalsAreShown(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	r.twoVersions()
	_, err := r.runa.SetKeyed(ctx, "demand-hourly", true, "only the desk")
	must(t, err)
	status, id := r.answered()
	if status != http.StatusUnauthorized {
		t.Fatal(status)
	}
	shown := r.inLog(id)
	if shown.Lane != request.RefusedLane || shown.Reason != "endpoint.key" {
		t.Errorf("%+v", shown)
	}
	_, err = r.runa.Trace(ctx, wire.TraceFrom{From: id})
	wantCode(t, "lineage of what was turned away", err, "request.refused")
	_, nowhere := r.asked("demand-houly", "{}")
	if shown := r.inLog(nowhere); shown.Asked != "POST /v2/models/demand-houly/infer" || shown.Endpoint != "" {
		t.Errorf("%+v", shown)
	}
	if !poll.Within(5*time.Second, func() bool {
		all, err := r.runa.Refusals(ctx, "", time.Hour)
		here, err2 := r.runa.Refusals(ctx, "demand-hourly", time.Hour)
		return err == nil && err2 == nil && all.Total+here.Total == 2
	}) {
		t.Error("both are not counted")
	}
	for _, window := range []time.Duration{10 * time.Minute, 2 * time.Hour, 48 * time.Hour, 90 * 24 * time.Hour} {
		for endpoint, why := range map[string]request.Reason{
			"demand-hourly": request.NoKey, "": request.UnknownEndpoint,
		} {
			got, err := r.runa.Refusals(ctx, endpoint, window)
			if err != nil || got.Total != 1 || got.Items[0].Reason != why.Code() || got.Items[0].Points[0].Count != 1 {
				t.Errorf("%s in %s: %+v, %v", endpoint, window, got, err)
			}
		}
	}
	now, err := r.runa.EndpointNow(ctx, "demand-hourly")
	if err != nil || len(now.Refused) != 1 || now.Refused[0].Count != 1 || now.Refused[0].Reason != "endpoint.key" {
		t.Errorf("%+v, %v", now.Refused, err)
	}
	_, _, metrics := r.call("GET", "/metrics", "")
	for _, want := range []string{
		`innerladder_requests_refused_total{endpoint="demand-hourly",reason="endpoint.key"} 1`,
		`innerladder_requests_refused_total{endpoint="",reason="endpoint.unknown"} 1`,
	} {
		if !strings.Contains(string(metrics), want) {
			t.Errorf("no %s in %s", want, metrics)
		}
	}
	// Who may not see requests is told nothing of them; what strangers asked for is nobody's but the keeper's.
	reader := client.New(r.server, r.person("rita", everywhere("reader")...))
	_, err = reader.Request(ctx, id)
	wantCode(t, "a reader", err, "permission.missing")
	_, err = reader.Requests(ctx, wire.RequestFilter{Endpoint: "demand-hourly"})
	wantCode(t, "a reader", err, "permission.missing")
	if got, err := reader.Refusals(ctx, "demand-hourly", time.Hour); err != nil || got.Total != 1 {
		t.Errorf("%+v, %v", got, err)
	}
	for _, err := range []error{
		second(r.tove.Requests(ctx, wire.RequestFilter{})), second(r.tove.Refusals(ctx, "", time.Hour)),
	} {
		wantCode(t, "what found no endpoint", err, "permission.missing")
	}
	_, err = r.tove.Request(ctx, nowhere)
	wantCode(t, "a request that found none", err, "request.unknown")
	_, err = r.runa.Refusals(ctx, "demand-hourly", time.Second)
	wantCode(t, "a second", err, "window.range")
	operator := client.New(r.server, r.person("olga", access.Membership{Project: access.Everywhere, Role: "operator"}))
	if _, err := operator.Request(ctx, id); err != nil {
		t.Errorf("an operator: %v", err)
	}
}

func second[T any](_ T, err error) error { return err }
