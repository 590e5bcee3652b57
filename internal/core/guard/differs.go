package guard

import (
	"fmt"

	"innerladder/internal/core/seqtest"
)

// DifferState is where the watching of disagreement stands.
type DifferState struct {
	// Over is the evidence that more answers differ from main's than is allowed, Under that fewer do.
	Over  seqtest.Rate `json:"over"`
	Under seqtest.Rate `json:"under"`
	// Pairs and Disagreed have been taken into account.
	Pairs     uint64 `json:"pairs"`
	Disagreed uint64 `json:"disagreed"`
}

// leastMargin is the smallest share of answers that a bet can be held to.
const leastMargin = 1e-6

// readDiffers asks whether the version that gets copies answers them as main answered the requests. Which requests are
// copied is drawn, so the share of answers that differ is held against a fixed one; rows that come again tell nothing
// new.
func (t *TrialState) readDiffers(g Guard, e *Pair, level levels) Reading {
	line := seqtest.Line{Offset: max(g.Margin, leastMargin)}
	if t.Differs == nil || t.Differs.Over.Line != line {
		t.Differs = &DifferState{Over: seqtest.Rate{Line: line}, Under: seqtest.Rate{Line: line, Below: true}}
	}
	s := t.Differs
	paired, copied := e.Paired, &e.Candidate
	if e.Beside != nil {
		paired, copied = e.Beside.Paired, &e.Beside.Former
	}
	if paired == nil || paired.Pairs == 0 {
		return Reading{Sentence: "waits until an answer to a copy can be held against main's."}
	}
	pairs, disagreed := paired.Pairs, paired.Disagreed
	fresh, differing := grown(s.Pairs, pairs), grown(s.Disagreed, disagreed)
	s.Pairs, s.Disagreed = pairs, disagreed
	if differing = min(differing, fresh); fresh > 0 {
		s.Over.ObserveAlone(fresh, differing)
		s.Under.ObserveAlone(fresh, differing)
	}
	share := copied.independent()
	log := share * s.Over.LogE()
	r := level.reading(log, share*s.Under.LogE())
	said := fmt.Sprintf("answers %d of %d copies (%.3g %%) otherwise than %s answered the requests", disagreed, pairs,
		percent(disagreed, pairs), t.Incumbent)
	if e.Beside != nil {
		said = fmt.Sprintf("answered %d of %d requests (%.3g %%) otherwise than %s answers their copies", disagreed,
			pairs, percent(disagreed, pairs), t.Incumbent)
	}
	r.Sentence = said + r.says(log, level.alpha, g.Allows())
	return r
}
