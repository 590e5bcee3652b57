package test

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"innerladder/internal/wire"
)

// What moved a prediction is told, adds up, and is what is known of a model that adds up its inputs.
func TestPredictionsAreExplained(t *testing.T) {
	t.Parallel()
	h := open(t)
	h.twoVersions()
	dir := t.TempDir()
	model, sample := filepath.Join(dir, "model.json"), filepath.Join(dir, "rows.csv")
	must(t, os.WriteFile(model, []byte(`{"format":"innerladder-standin-model/1","name":"sums",
		"inputs":[{"name":"x","type":"number"},{"name":"z","type":"number"}],"output":{"name":"y","type":"number"},
		"terms":[{"of":["x"],"how":"value","centre":0,"scale":1},{"of":["z"],"how":"value","centre":0,"scale":1}],
		"weights":[[1,2,-3]],"fill":{"x":0,"z":0}}`), 0o600))
	var b strings.Builder
	b.WriteString("x,z,y\n")
	for i := range 400 { // x is 0 to 10 and z is 0 to 4, both evenly
		x, z := float64(i%101)/10, float64(i%41)/10
		fmt.Fprintf(&b, "%g,%g,%g\n", x, z, 1+2*x-3*z)
	}
	must(t, os.WriteFile(sample, []byte(b.String()), 0o600))
	ref := h.as(h.runaFile, "register", "sums", "-no-code", "-file", model, "-sample", sample, "-target", "y")
	_, at := h.standin(model)
	h.as(h.runaFile, "place", ref, "-env", "plant-north", "-at", at)
	e, err := h.runa.ExplainVersions(t.Context(), wire.ExplainVersions{
		TryVersions: wire.TryVersions{
			Versions: []string{ref}, Environment: "plant-north", Inputs: map[string]any{"x": 9, "z": 1},
		}, Pairs: 400,
	})
	must(t, err)
	v := e.Items[0]
	// 2·(9 − 5) and −3·(1 − 2) on the average, 1 + 10 − 6 the base.
	for i, want := range []float64{8, 3} {
		if m := v.Moved[i]; math.Abs(m.By-want) > 2*m.Error || m.Error > 0.8 || m.Error == 0 {
			t.Errorf("%s moved it by %v ± %v, want %v", e.Inputs[i].Name, m.By, m.Error, want)
		}
	}
	if sum := v.Base + v.Moved[0].By + v.Moved[1].By; math.Abs(sum-16) > 1e-6 || math.Abs(v.Value-16) > 1e-6 {
		t.Errorf("%v adds up to %v", v, sum)
	}
	h.expects(h.as(h.runaFile, "explain", ref, "x=9", "z=1"), "gives 16 for y", "INPUT", "x", "9")
	h.refuses(3, h.runaFile, "has no reference profile", "explain", "heat-demand@1")
	h.refuses(2, h.runaFile, "there is no output", "explain", ref, "-output", "nothing")
	h.refuses(2, h.runaFile, "pairs of orders cannot be drawn", "explain", ref, "-pairs", "5000")
	h.refuses(2, h.runaFile, "is no version of", "explain", ref, "-versions", "heat-demand@1")
	h.tell(at, "100")
	h.refuses(3, h.runaFile, "does not take a row", "explain", ref)
	h.tell(at, "0")
}
