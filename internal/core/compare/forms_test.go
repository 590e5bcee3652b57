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
	side := func(n int, forms ...sketch.Form) *sketch.Summary {
		s := &sketch.Summary{}
		s.Counts.Requests = uint64(n)
		for range n {
			s.Content.Forms.Add(forms)
		}
		return s
	}
	for want, c := range map[string][2]*sketch.Summary{
		"m@2 gives the output y as BYTES, m@1 as FP64.":         {side(30, y), side(30, text)},
		"m@2 does not give the output scores, which m@1 gives.": {side(30, y, scores), side(30, y)},
		"m@2 gives the output scores, which m@1 does not.":      {side(30, y), side(30, y, scores)},
		"m@2 answered 5 requests":                               {side(30, y), side(5, scores)},
	} {
		got := Compare(Question{
			Incumbent: "m@1", Candidate: "m@2", Need: drift.DefaultNeed,
			Strata: []Stratum{{Incumbent: c[0], Candidate: c[1]}},
		})
		if !strings.HasPrefix(got.Sentence, want) {
			t.Errorf("%q, want it to begin with %q", got.Sentence, want)
		}
	}
}
