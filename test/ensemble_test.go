package test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A version that is made of others is registered from a plan, comes from them, and is run here; what its members do is
// shown.
func TestEnsembles(t *testing.T) {
	t.Parallel()
	h := runners(t)
	h.as(h.runaFile, "environment", "add", "workbench")
	for _, slope := range []float64{1, 3} {
		file, sample := h.regression(slope)
		h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", file, "-sample", sample, "-target", "y")
	}
	model, sample := h.files(1)
	h.as(h.runaFile, "register", "heat-demand", "-no-code", "-file", model, "-sample", sample, "-target", "y")
	dir := t.TempDir()
	plan := func(text string) string {
		file := filepath.Join(dir, "plan.yaml")
		must(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	two := "# both of the town's\nensemble: mean\nmembers:\n  - version: heat-demand@1\n  - version: heat-demand@"
	for _, c := range []struct {
		text, says string
		code       int
	}{
		{"ensemble: mean\nmembers:\n  - version: heat-demand@1\n", "line 3, column 3", 2},
		{"ensemble: median\nmembers: []\n", "line 1, column 11", 2},
		{two + "9\n", "there is no heat-demand@9", 1},
		{two + "3\n", "heat-demand@3 has 0 files in onnx or pmml", 3},
		{two + "2\n    weight: 2\n", "a mean has no weights", 2},
	} {
		h.says(c.code, h.runaFile, c.says, "register", "town-demand", "-no-code", "-ensemble", plan(c.text))
	}
	ref := h.as(h.runaFile, "register", "town-demand", "-no-code", "-ensemble", plan(two+"2\n"))
	if ref != "town-demand@1" {
		t.Fatal(ref)
	}
	h.says(3, h.runaFile, "is an ensemble itself", "register", "town-demand", "-no-code", "-ensemble",
		plan(strings.Replace(two+"2\n", "heat-demand@1", "town-demand@1", 1)))
	if out := h.as(h.runaFile, "trace", ref); !strings.Contains(out, "member heat-demand@2") {
		t.Errorf("it comes from\n%s", out)
	}
	h.as(h.runaFile, "place", ref, "-env", "workbench", "-run")
	h.as(h.runaFile, "endpoint", "add", "demand-hourly", "-model", "town-demand", "-env", "workbench", "-rung", "draft")
	h.as(h.runaFile, "split", "demand-hourly", ref+"=100")
	c := h.caller(1)
	shown := ""
	await(t, "what members do", 20*time.Second, func() bool {
		status, _, body, err := c.infer(2)
		var answer struct{ Outputs []struct{ Data []float64 } }
		if err != nil || status != 200 || json.Unmarshal(body, &answer) != nil || answer.Outputs[0].Data[0] != 5 {
			t.Fatalf("%d %s %v", status, body, err)
		}
		shown = h.as(h.runaFile, "running")
		return strings.Contains(shown, "heat-demand@2") && strings.Contains(shown, "y 2")
	})
	t.Log(shown)
}
