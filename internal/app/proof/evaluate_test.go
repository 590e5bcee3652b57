package proof

import (
	"testing"

	"innerladder/internal/core/fault"
	"innerladder/internal/wire"
)

func TestByWhatAnswersAreJudged(t *testing.T) {
	for code, in := range map[string]wire.Judging{
		"evaluate.target": {Target: " "}, "evaluate.limit": {Target: "y", AtMost: "rmse"}, "": {Target: "y"},
	} {
		if _, err := judgingOf(in); fault.Code(err) != code {
			t.Errorf("%+v: %v, want %q", in, err, code)
		}
	}
	got, err := judgingOf(wire.Judging{Target: "y", Segments: "mix,hour", AtMost: "rmse=0.2", AtLeast: "rmse=0.1,r2=0"})
	rmse, r2 := got.Limits["rmse"], got.Limits["r2"]
	if err != nil || len(got.Segments) != 2 || *rmse.AtMost != 0.2 || *rmse.AtLeast != 0.1 || *r2.AtLeast != 0 {
		t.Errorf("%+v, %v", got, err)
	}
}
