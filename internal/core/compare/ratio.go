package compare

import (
	"fmt"
	"math"
	"strings"

	"innerladder/internal/core/traffic"

	"gonum.org/v1/gonum/mathext"
)

// Draw is how often two versions were drawn at random under one split, and what became of it.
// Requests of callers who keep their version, or who named one, are not drawn and not in it.
type Draw struct {
	Split int `json:"split"`
	// IncumbentShare and CandidateShare are their shares in basis points.
	IncumbentShare int `json:"incumbent_share"`
	CandidateShare int `json:"candidate_share"`
	// Incumbent and Candidate are how often each was drawn; of those another version answered
	// IncumbentLost and CandidateLost.
	Incumbent     uint64 `json:"incumbent"`
	Candidate     uint64 `json:"candidate"`
	IncumbentLost uint64 `json:"incumbent_lost"`
	CandidateLost uint64 `json:"candidate_lost"`
	// IncumbentKept and CandidateKept are requests of callers who keep their version by their name.
	IncumbentKept uint64 `json:"incumbent_kept"`
	CandidateKept uint64 `json:"candidate_kept"`
}

const (
	// ratioWeight is how sharply the alternative of the test is around the share: as if so many
	// requests had been drawn before.
	ratioWeight = 2000
	// mismatchAt is the Bayes factor from which a mismatch is one. At most one clean split in so
	// many ever reaches it, however often one looks.
	mismatchAt = 1000
)

// ratioEvidence is the logarithm of the Bayes factor that c of n requests went to a lane by another
// share than s (Lindon and Malek 2022): the share under the alternative is Beta distributed around s.
// It is a test martingale, so it may be looked at at any time.
func ratioEvidence(c, n uint64, s float64) float64 {
	if n == 0 || s <= 0 || s >= 1 {
		return 0
	}
	a, b := ratioWeight*s, ratioWeight*(1-s)
	k, rest := float64(c), float64(n-c)
	return mathext.Lbeta(a+k, b+rest) - mathext.Lbeta(a, b) - k*math.Log(s) - rest*math.Log1p(-s)
}

// tally is how often the candidate had a request of those of both, summed over the splits.
type tally struct{ evidence, candidate, all, expected float64 }

func (t *tally) add(incumbent, candidate uint64, share float64) {
	n := incumbent + candidate
	t.evidence += ratioEvidence(candidate, n, share)
	t.candidate += float64(candidate)
	t.all += float64(n)
	t.expected += share * float64(n)
}

func (t *tally) mismatch() bool { return t.evidence >= math.Log(mismatchAt) }

// mismatch tests that requests went where the splits say: those that were drawn for a lane, and those
// that it answered. It is "" when they did.
func mismatch(draws []Draw, incumbent, candidate string) string {
	var planned, answered tally
	var lost1, lost2 uint64
	for _, d := range draws {
		if d.CandidateShare+d.IncumbentShare == 0 {
			continue
		}
		share := float64(d.CandidateShare) / float64(d.CandidateShare+d.IncumbentShare)
		planned.add(d.Incumbent, d.Candidate, share)
		answered.add(d.Incumbent-min(d.Incumbent, d.IncumbentLost), d.Candidate-min(d.Candidate, d.CandidateLost),
			share)
		lost1, lost2 = lost1+d.IncumbentLost, lost2+d.CandidateLost
	}
	percent := func(x float64) string { return fmt.Sprintf("%.2f %%", 100*x) }
	switch {
	case planned.mismatch():
		return fmt.Sprintf("%s was drawn for %s of requests, where the splits say %s: more than chance. Find out why "+
			"before trusting anything below.", candidate, percent(planned.candidate/planned.all),
			percent(planned.expected/planned.all))
	case answered.mismatch():
		var who []string
		for _, l := range []struct {
			version string
			lost    uint64
		}{{candidate, lost2}, {incumbent, lost1}} {
			if l.lost > 0 {
				who = append(who, fmt.Sprintf("%d that were drawn for %s were answered by another version", l.lost,
					l.version))
			}
		}
		return fmt.Sprintf("%s answered %s of requests, where the splits say %s: %s. What is left may differ for that "+
			"alone, so nothing below can be trusted.", candidate, percent(answered.candidate/answered.all),
			percent(answered.expected/answered.all), strings.Join(who, ", "))
	}
	return ""
}

// drawNotes says of whom the test of the shares does not speak.
func drawNotes(draws []Draw, incumbent, candidate string) []string {
	var kept1, kept2 uint64
	for _, d := range draws {
		kept1, kept2 = kept1+d.IncumbentKept, kept2+d.CandidateKept
	}
	if kept1+kept2 == 0 {
		return nil
	}
	return []string{fmt.Sprintf("%d requests to %s and %d to %s came from callers who keep their version; shares are "+
		"of callers there, so the test of shares leaves them out.", kept1, incumbent, kept2, candidate)}
}

// SharesOf says which draws a split's lanes make for two versions. Copies are drawn from what main has answered, so
// they are no draw of requests.
func SharesOf(s traffic.Split, incumbent, candidate string) (d Draw, both bool) {
	d.Split = s.Number
	found := 0
	for _, l := range traffic.Answering(s.Lanes) {
		switch l.Version {
		case incumbent:
			d.IncumbentShare = l.Share
			found++
		case candidate:
			d.CandidateShare = l.Share
			found++
		}
	}
	return d, found == 2
}
