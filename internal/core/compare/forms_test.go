package compare

import (
	"strings"
	"testing"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
)

// What one gives and the other does not is the first thing that is said.
func TestOutputsThatOnlyOneGives(t *testing.T) {
	y, text := sketch.Form{Name: "y", Datatype: "FP64"}, sketch.Form{Name: "y", Datatype: "BYTES"}
	scores := sketch.Form{Name: "scores", Datatype: "FP64"}
	side := func(version string, n int, forms ...sketch.Form) Side {
		s := &sketch.Summary{}
		for range n {
			s.Content.Forms.Add(forms)
		}
		return Side{Version: version, Summary: s}
	}
	for want, c := range map[string][2]Side{
		"m@2 gives the output y as BYTES, m@1 as FP64.":         {side("m@1", 30, y), side("m@2", 30, text)},
		"m@2 does not give the output scores, which m@1 gives.": {side("m@1", 30, y, scores), side("m@2", 30, y)},
		"m@2 gives the output scores, which m@1 does not.":      {side("m@1", 30, y), side("m@2", 30, y, scores)},
		"m@2 answered 0 requests":                               {side("m@1", 30, y), side("m@2", 5, scores)},
	} {
		got := Compare(c[0], c[1], nil, drift.DefaultNeed)
		if !strings.HasPrefix(got.Sentence, want) {
			t.Errorf("%q, want it to begin with %q", got.Sentence, want)
		}
	}
}
