package standin

import (
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"innerladder/internal/core/signature"
	"innerladder/internal/oip"
)

const demand = `{"format":"innerladder-standin-model/1","name":"heat-demand",
 "inputs":[{"name":"outdoor_c","type":"number"},{"name":"mix","type":"text"}],"output":{"name":"demand_mw","type":"number"},
 "terms":[{"of":["outdoor_c"],"how":"below","limit":17,"centre":0,"scale":1},{"of":["mix"],"how":"is","level":"harbour","centre":0,"scale":1}],
 "weights":[[0.5,0.1,2]],"fill":{"outdoor_c":7}}`

// serve runs a stand-in and returns its address.
func serve(t *testing.T, model string, o Options) string {
	t.Helper()
	o.Model = filepath.Join(t.TempDir(), "model.json")
	if err := os.WriteFile(o.Model, []byte(model), 0o600); err != nil {
		t.Fatal(err)
	}
	o.Listen = "127.0.0.1:0"
	started := make(chan string, 1)
	o.Started = func(address, _ string) { started <- address }
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- Run(ctx, o) }()
	t.Cleanup(func() { cancel(); <-done })
	select {
	case a := <-started:
		return a
	case err := <-done:
		t.Fatal(err)
		return ""
	}
}

func request(outdoor, mix any) *oip.InferRequest {
	return &oip.InferRequest{ID: "r1", Inputs: []oip.Tensor{
		{Name: "outdoor_c", Shape: []int64{2}, Datatype: "FP64", Data: oip.Data{outdoor, 20.0}},
		{Name: "mix", Shape: []int64{2}, Datatype: "BYTES", Data: oip.Data{mix, "works"}},
	}}
}

func infer(t *testing.T, address string, r *oip.InferRequest) (int, *oip.InferResponse, string) {
	t.Helper()
	status, _, body, err := oip.NewClient(5*time.Second).Infer(t.Context(), address, "heat-demand", r)
	if err != nil {
		t.Fatal(err)
	}
	answer := new(oip.InferResponse)
	if err := json.Unmarshal(body, answer); status == 200 && err != nil {
		t.Fatal(err)
	}
	return status, answer, string(body)
}

func TestPredictionsAreComputed(t *testing.T) {
	at := serve(t, demand, Options{})
	status, a, body := infer(t, at, request(-3.0, "harbour"))
	if status != 200 || a.ID != "r1" || a.Outputs[0].Data[0] != 0.5+0.1*20+2 || a.Outputs[0].Data[1] != 0.5 {
		t.Errorf("%d %s", status, body)
	}
	if _, a, body = infer(t, at, request(nil, "works")); a.Outputs[0].Data[0] != 0.5+0.1*10 {
		t.Errorf("a missing value takes the mean: %s", body)
	}
	if status, _, body = infer(t, at, request(1.0, nil)); status != 400 ||
		!strings.Contains(body, `"mix\" of row 1 is missing`) {
		t.Errorf("a missing text: %d %s", status, body)
	}
	m, err := oip.NewClient(time.Second).Metadata(t.Context(), at, "heat-demand")
	if err != nil || len(m.Inputs) != 2 || m.Inputs[1].Datatype != "BYTES" || m.Outputs[0].Name != "demand_mw" {
		t.Errorf("%+v, %v", m, err)
	}
	sig := &signature.Signature{Inputs: []signature.Column{
		{Name: "outdoor_c", Type: signature.Number},
		{Name: "mix", Type: signature.Text},
	}, Outputs: []signature.Column{{Name: "demand_mw", Type: signature.Number}}}
	if reasons := sig.Fits(m.Served); len(reasons) > 0 {
		t.Errorf("its own signature does not fit: %v", reasons)
	}
}

func TestBehaviour(t *testing.T) {
	at := serve(t, demand, Options{Behaviour: Behaviour{Bias: 1.5}})
	if _, a, body := infer(t, at, request(17.0, "works")); a.Outputs[0].Data[0] != 2.0 {
		t.Errorf("biased from the start: %s", body)
	}
	tell := func(b Behaviour) {
		t.Helper()
		if err := Tell(t.Context(), at, b); err != nil {
			t.Fatal(err)
		}
	}
	tell(Behaviour{FailPercent: 100})
	if status, _, body := infer(t, at, request(1.0, "works")); status != 500 ||
		!strings.Contains(body, "told to fail") {
		t.Errorf("told to fail: %d %s", status, body)
	}
	tell(Behaviour{Delay: 150 * time.Millisecond})
	begin := time.Now()
	if status, _, _ := infer(t, at, request(1.0, "works")); status != 200 || time.Since(begin) < 60*time.Millisecond {
		t.Errorf("told to be slow: %d after %s", status, time.Since(begin))
	}
	tell(Behaviour{StartAfter: time.Hour})
	if status, _, _ := infer(t, at, request(1.0, "works")); status != 503 {
		t.Errorf("told to start again: %d", status)
	}
	if err := oip.NewClient(time.Second).Ready(t.Context(), at, "heat-demand"); err == nil ||
		!strings.Contains(err.Error(), "still starting") {
		t.Errorf("readiness: %v", err)
	}
	if err := Tell(t.Context(), at, Behaviour{FailPercent: 101}); err == nil {
		t.Error("an impossible behaviour was taken")
	}
	res, err := http.Get(at + behaviourPath)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	var b Behaviour
	if err := json.NewDecoder(res.Body).Decode(&b); err != nil || b.StartAfter != time.Hour {
		t.Errorf("%+v, %v", b, err)
	}
}

func TestStrictModelsBreakOnWhatIsMissing(t *testing.T) {
	at := serve(t, strings.Replace(demand, `"fill"`, `"strict":true,"fill"`, 1), Options{})
	if status, _, body := infer(t, at, request(nil, "works")); status != 500 || !strings.Contains(body, "is missing") {
		t.Errorf("%d %s", status, body)
	}
}

func TestBadModelsAreRefused(t *testing.T) {
	for name, content := range map[string]string{
		"no JSON": `{`, "another format": `{"format":"x"}`,
		"no weights":       strings.Replace(demand, `"weights":[[0.5,0.1,2]],`, "", 1),
		"a weight too few": strings.Replace(demand, `[[0.5,0.1,2]]`, `[[0.5,0.1]]`, 1),
		"classes":          strings.Replace(demand, `"fill"`, `"classes":["a","b"],"fill"`, 1),
		"no scale":         strings.Replace(demand, `"scale":1`, `"scale":0`, 1),
	} {
		file := filepath.Join(t.TempDir(), "model.json")
		if err := os.WriteFile(file, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := Load(file); err == nil || !strings.Contains(err.Error(), "reading the model") {
			t.Errorf("%s: %v", name, err)
		}
	}
}
