package api_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/wire"
)

// Requests that do not keep the contract are refused where that is asked, before a model server sees them.
func TestRequestsAreHeldAgainstTheContract(t *testing.T) {
	r := newRig(t)
	r.twoVersions()
	ctx := t.Context()
	sent := func(body string) (int, string) {
		t.Helper()
		res, err := http.Post(r.gateway+"/v2/models/demand-hourly/infer", "application/json", strings.NewReader(body))
		must(t, err)
		defer res.Body.Close()
		answer, err := io.ReadAll(res.Body)
		must(t, err)
		return res.StatusCode, string(answer)
	}
	wrong := strings.Replace(ask, "FP64", "INT64", 1)
	if status, answer := sent(wrong); status != 200 {
		t.Errorf("nobody asked for it, and it is %d %s", status, answer)
	}
	on := true
	e, err := r.runa.EditEndpoint(ctx, "demand-hourly", wire.EditEndpoint{Checked: &on})
	must(t, err)
	if !e.Checked {
		t.Errorf("%+v", e)
	}
	for body, says := range map[string]string{
		ask:   "",
		wrong: `input \"x\" is sent as \"INT64\"; it is FP64`,
		`{"inputs":[{"name":"x","datatype":"FP64","shape":[1],"data":["cold"]}]}`: `value 1 of input \"x\" is cold`,
		`{"inputs":[{"name":"z","datatype":"FP64","shape":[1],"data":[1]}]}`:      `input \"x\" (FP64`,
		`{"inputs":[{"name":"x","datatype":"FP64","shape":[2],"data":[1]}]}`:      "shape [2] and 1 values",
		`{"inputs":{}}`: "the message has no inputs",
		`nothing`:       "the message is no JSON",
	} {
		status, answer := sent(body)
		if says == "" && status != 200 || says != "" && (status != 400 || !strings.Contains(answer, says) ||
			!strings.Contains(answer, "endpoint.contract")) {
			t.Errorf("%s: %d %s, want %s", body, status, answer, says)
		}
	}
	until(t, "refusals are counted by their reason", func() bool {
		all, err := r.runa.Refusals(ctx, "demand-hourly", time.Hour)
		must(t, err)
		for _, n := range all.Items {
			if n.Reason == request.Misfit.Code() {
				return n.Count == 6
			}
		}
		return false
	})
}
