package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"innerladder/internal/core/traffic"
	"innerladder/internal/wire"
)

// exactServer is a model server that takes one tensor of a datatype and shape and says so, and
// answers as told.
func exactServer(t *testing.T, datatype, shape, answer string) string {
	t.Helper()
	mux := http.NewServeMux()
	say := func(path, body string) {
		mux.HandleFunc(path, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, body) })
	}
	say("/v2/health/ready", "{}")
	say("/v2/models/heat-demand/ready", "{}")
	say("/v2/models/heat-demand", fmt.Sprintf(`{"name":"heat-demand","platform":"test",`+
		`"inputs":[{"name":"x","datatype":%q,"shape":%s}],"outputs":[{"name":"y","datatype":"FP32","shape":[-1]}]}`,
		datatype, shape))
	mux.HandleFunc("/v2/models/heat-demand/infer", func(w http.ResponseWriter, q *http.Request) {
		var in struct {
			Inputs []struct {
				Datatype string
				Shape    []int64
			}
		}
		// A strict server, as real ones are: another type is an error of the caller's.
		if json.NewDecoder(q.Body).Decode(&in) != nil || in.Inputs[0].Datatype != datatype ||
			strings.Count(shape, ",")+1 != len(in.Inputs[0].Shape) {
			w.WriteHeader(400)
			fmt.Fprint(w, `{"error":"expects another tensor; a secret of the server"}`)
			return
		}
		fmt.Fprint(w, answer)
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	return s.URL
}

const exactAnswer = `{"model_name":"heat-demand","outputs":[{"name":"y","datatype":"FP32","shape":[1],"data":[1]}]}`

// The sample request is sent at placement, of the types that the server declares; an answer that
// is not what was promised refuses the placement, and what the server says is not told.
func TestTheSampleIsSentAtPlacement(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	ref := r.register("heat-demand", "weights", map[string]float64{"rmse": 0.4})
	for name, c := range map[string]struct{ at, code, says string }{
		"an answer of another type": {
			exactServer(t, "FP32", "[-1,1]", strings.Replace(exactAnswer, "FP32", "FP64", 1)), "placement.sample",
			"is FP64",
		},
		"an answer without the output": {
			exactServer(t, "FP32", "[-1,1]", strings.Replace(exactAnswer, `"y"`, `"z"`, 1)), "placement.sample",
			`no output "y"`,
		},
		"no answer of the protocol": {
			exactServer(t, "FP32", "[-1]", `{"y": 3}`), "placement.sample",
			"not answered in",
		},
		"wider rows": {
			exactServer(t, "FP32", "[-1,2]", exactAnswer), "placement.signature",
			"2 at the server",
		},
	} {
		_, err := r.runa.Place(ctx, ref, "plant-north", []string{c.at}, "")
		if wantCode(t, name, err, c.code); err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want it to say %q", name, err, c.says)
		}
		if err != nil && strings.Contains(err.Error(), "secret") {
			t.Errorf("%s tells what the server said: %v", name, err)
		}
	}
	// Outputs may have first dimensions of their own, and servers may take 16-bit floats in binary only.
	for _, at := range []string{
		exactServer(t, "FP32", "[-1]", strings.Replace(exactAnswer, `}]`,
			`},{"name":"boxes","datatype":"FP32","shape":[2,2],"data":[1,2,3,4]}]`, 1)),
		exactServer(t, "FP16", "[-1]", "only binary"),
	} {
		_, err = r.runa.Place(ctx, ref, "plant-north", []string{at}, "")
		must(t, err)
		_, err = r.runa.Unplace(ctx, ref, "plant-north")
		must(t, err)
	}
	good := exactServer(t, "FP32", "[-1,1]", exactAnswer)
	_, err = r.runa.Place(ctx, ref, "plant-north", []string{good, exactServer(t, "FP64", "[-1,1]", exactAnswer)}, "")
	wantCode(t, "two addresses that differ", err, "placement.differ")
	p, err := r.runa.Place(ctx, ref, "plant-north", []string{good}, "")
	if err != nil || p.Declared == nil || p.Declared.Inputs[0].Datatype != "FP32" {
		t.Errorf("placed %+v, %v", p, err)
	}
}

// placeAndApprove registers a version, places it at a server and brings it to live.
func (r *rig) placeAndApprove(content, at string) (string, traffic.Placement) {
	r.t.Helper()
	ref := r.register("heat-demand", content, map[string]float64{"rmse": 0.4})
	p, err := r.runa.Place(r.t.Context(), ref, "plant-north", []string{at}, "")
	must(r.t, err)
	return ref, p
}

// The first version that answers makes the contract. A version that breaks it is said to at
// placement and at the gate, and no split takes it, whatever rung it stands on, until a new
// contract is decided. The way back brings the old contract back.
func TestAnEndpointKeepsItsContract(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	one, _ := r.placeAndApprove("one", exactServer(t, "FP32", "[-1]", exactAnswer))
	r.approve(one)
	two, _ := r.placeAndApprove("two", exactServer(t, "FP64", "[-1]", exactAnswer))
	r.approve(two) // before anybody relies on anything
	_, err = r.runa.AddEndpoint(ctx,
		wire.NewEndpoint{Name: "demand-hourly", Model: "heat-demand", Environment: "plant-north"})
	must(t, err)
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "both from the start", -1)
	wantCode(t, "two versions that differ", err, "split.contract")
	all, err := r.runa.Contracts(ctx, "demand-hourly")
	if err != nil || len(all.Items) != 0 {
		t.Fatalf("a refused split leaves %+v, %v", all, err)
	}
	first, err := r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "start", -1)
	if err != nil || first.Contract != 1 {
		t.Fatalf("the first split: %+v, %v", first, err)
	}
	for name, l := range map[string][]traffic.Lane{
		"a trial of it": lanes(9000, 1000),
		"all to it":     {{Kind: traffic.Main, Version: two, Share: traffic.Whole}},
	} {
		_, err = r.runa.Split(ctx, "demand-hourly", l, "no matter the rung", -1)
		if wantCode(t, name, err, "split.contract"); !strings.Contains(fmt.Sprint(err),
			"input x was FP32 [any]") {
			t.Errorf("%s does not name the column: %v", name, err)
		}
	}
	three, p := r.placeAndApprove("three", exactServer(t, "FP64", "[-1]", exactAnswer))
	if len(p.Fits) != 1 || p.Fits[0].Verdict != "breaking" || p.Fits[0].Contract != 1 {
		t.Errorf("at placement: %+v", p.Fits)
	}
	refused, err := r.runa.Promote(ctx, three, "live", "")
	if said := fmt.Sprint(refused.Findings, err); !strings.Contains(said, "breaks contract 1 of demand-hourly") {
		t.Errorf("at the gate: %s", said)
	}
	r.decide(two)
}

// decide has a new contract decided from a version that breaks the one in force.
func (r *rig) decide(two string) {
	t := r.t
	t.Helper()
	ctx := t.Context()
	_, err := r.runa.MakeContract(ctx, "demand-hourly", two, "")
	wantCode(t, "a contract without a reason", err, "reason.missing")
	_, err = r.runa.MakeContract(ctx, "demand-hourly", "heat-demand@1", "the same")
	wantCode(t, "the same contract", err, "contract.same")
	k, err := r.runa.MakeContract(ctx, "demand-hourly", two, "the planning tool sends FP64 from today")
	if err != nil || k.Number != 2 || k.Version != two || k.Author != "runa" {
		t.Fatalf("decided %+v, %v", k, err)
	}
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(9000, 1000), "both", -1)
	if wantCode(t, "versions of two contracts", err, "split.contract"); !strings.Contains(fmt.Sprint(err),
		"contract 2") {
		t.Errorf("the remedy does not name the contract that is decided: %v", err)
	}
	second, err := r.runa.Split(ctx, "demand-hourly",
		[]traffic.Lane{{Kind: traffic.Main, Version: two, Share: traffic.Whole}}, "all at once", -1)
	if err != nil || second.Contract != 2 {
		t.Fatalf("under the new contract: %+v, %v", second, err)
	}
	_, err = r.runa.Split(ctx, "demand-hourly", lanes(10000, 0)[:1], "the old one", -1)
	wantCode(t, "an old version under the new contract", err, "split.contract")
	back, err := r.runa.Back(ctx, "demand-hourly", 0, "callers were not ready", -1)
	if err != nil || back.Contract != 1 {
		t.Fatalf("the way back: %+v, %v", back, err)
	}
	all, err := r.runa.Contracts(ctx, "demand-hourly")
	if err != nil || len(all.Items) != 2 || all.Items[0].InForce || !all.Items[1].InForce {
		t.Errorf("after the way back: %+v, %v", all.Items, err)
	}
	schema, err := r.runa.ContractSchema(ctx, "demand-hourly", 1, "")
	if said, _ := json.Marshal(schema); err != nil || !strings.Contains(string(said), `"const":"FP32"`) {
		t.Errorf("the schema is %s, %v", said, err)
	}
	_, err = r.runa.ContractSchema(ctx, "demand-hourly", 9, "answer")
	wantCode(t, "the schema of none", err, "contract.unknown")
}
