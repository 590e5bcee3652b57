package rollout

import (
	"testing"

	"innerladder/internal/core/span"
)

func TestWhatAReplayHasOneExpect(t *testing.T) {
	f := Forecast{Steps: []StepForecast{
		{Name: "step 1", Share: 500, Takes: new(span.Duration), Requests: 1000},
		{Name: "warming", Takes: new(span.Duration)},
		{Name: "bake", Share: 10_000, Requests: 0},
	}}
	f.Expect(Replayed{Evidence: "E-4", Requests: 200, Differing: 0.02, Failing: 0.001})
	if s := f.Steps[0]; *s.Differing != 20 || *s.Failing != 1 || f.Steps[1].Differing != nil ||
		f.Steps[2].Failing != nil {
		t.Errorf("%+v", f.Steps)
	}
	if len(f.Notes) != 1 || f.Notes[0] != "E-4 asked it again 200 requests: 2 % were answered differently, "+
		"0.1 % failed." {
		t.Errorf("%q", f.Notes)
	}
}
