package api_test

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"innerladder/internal/wire"
)

// A model server that answers one row at a time, whatever it is asked, is asked row by row.
func TestOneRowAtATimeIsExplained(t *testing.T) {
	r := newRig(t)
	ctx := t.Context()
	_, err := r.runa.AddEnvironment(ctx, wire.NewEnvironment{Name: "plant-north"})
	must(t, err)
	rows := "x,y\n"
	for i := range 300 {
		rows += fmt.Sprintf("%d.5,%d.5\n", i%100, i%100)
	}
	v, err := r.runa.Register(ctx, wire.Registration{Model: "heat-demand", Targets: []string{"y"}},
		with(r.file("rows.csv", rows), r.file("m.bin", "a")))
	must(t, err)
	_, err = r.runa.Place(ctx, v.Ref, "plant-north", []string{r.modelServer(0).URL}, "")
	must(t, err)
	ask := wire.ExplainVersions{Pairs: 50, TryVersions: wire.TryVersions{
		Versions: []string{v.Ref}, Environment: "plant-north", Inputs: map[string]any{"x": 80},
	}}
	e, err := r.runa.ExplainVersions(ctx, ask)
	must(t, err)
	// It gives x back: 80, and 50 on the average.
	if one := e.Items[0]; one.Value != 80 || math.Abs(one.Base-50) > 2*one.BaseError ||
		math.Abs(one.Base+one.Moved[0].By-80) > 1e-9 {
		t.Errorf("%+v", one)
	}
	ask.Request = []byte(`{"inputs":[{"name":"x","datatype":"FP64","shape":[2],"data":[1,2]}]}`)
	ask.Inputs = nil
	if _, err = r.runa.ExplainVersions(ctx, ask); err == nil || !strings.Contains(err.Error(), "one row") {
		t.Errorf("two rows: %v", err)
	}
}
