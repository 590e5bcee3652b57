package compare

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"
)

func TestMismatchIsSaidFirst(t *testing.T) {
	fine := []Draw{
		{Split: 1, Incumbent: 9012, Candidate: 988, IncumbentShare: 9000, CandidateShare: 1000},
		{Split: 2, Incumbent: 5010, Candidate: 4990, IncumbentShare: 5000, CandidateShare: 5000},
	}
	if m := mismatch(fine, "a@1", "a@2"); m != "" {
		t.Errorf("chance was taken for a mismatch: %s", m)
	}
	off := append([]Draw{}, fine[0], Draw{
		Split: 2, Incumbent: 5500, Candidate: 4500, IncumbentShare: 5000, CandidateShare: 5000,
	})
	if m := mismatch(off, "a@1", "a@2"); !strings.Contains(m, "27.44 %") || !strings.Contains(m, "30.00 %") {
		t.Errorf("got %q", m)
	}
	got := Compare(Question{Incumbent: "a@1", Candidate: "a@2", Draws: off})
	if !strings.HasPrefix(got.Sentence, "a@2 was drawn for") {
		t.Errorf("a mismatch must come first: %q", got.Sentence)
	}
	// A lane whose server dies hands its requests over: those it answers are other ones than it was
	// drawn for.
	lost := []Draw{{
		Split: 3, Incumbent: 9000, Candidate: 1000, CandidateLost: 700, IncumbentShare: 9000, CandidateShare: 1000,
		CandidateKept: 12,
	}}
	m := mismatch(lost, "a@1", "a@2")
	if !strings.Contains(m, "a@2 answered 3.23 %") ||
		!strings.Contains(m, "700 that were drawn for a@2 were answered by") {
		t.Errorf("got %q", m)
	}
	if n := drawNotes(lost, "a@1", "a@2"); len(n) != 1 || !strings.HasPrefix(n[0], "0 requests to a@1 and 12 to a@2") {
		t.Errorf("%q", n)
	}
}

// Asked every second for an hour, the test of a fixed size called 2.9 % of clean runs a mismatch.
func TestTheRatioMayBeLookedAtAtAnyTime(t *testing.T) {
	r := rand.New(rand.NewPCG(12, 1))
	wrong := 0
	for range 1000 {
		var c, n uint64
		for range 3600 {
			k := uint64(20 + r.IntN(100))
			n, c = n+k, c+uint64(distuv.Binomial{N: float64(k), P: 0.05, Src: r}.Rand())
			if ratioEvidence(c, n, 0.05) >= math.Log(mismatchAt) {
				wrong++
				break
			}
		}
	}
	if wrong > 5 {
		t.Errorf("%d of 1000 clean runs were called a mismatch", wrong)
	}
}
