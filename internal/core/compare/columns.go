package compare

import (
	"maps"
	"slices"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
)

// Distribution is one input or output of both sides, for drawing and judging.
type Distribution struct {
	Column string    `json:"column"`
	Edges  []float64 `json:"edges,omitempty"`
	Levels []string  `json:"levels,omitempty"`
	Unit   string    `json:"unit,omitempty"`
	// Whole is set for whole numbers: a bin holds those from its lower edge to the one before the upper.
	Whole bool `json:"whole,omitempty"`
	// BinsFrom says where the bins came from.
	BinsFrom string `json:"bins_from,omitempty"`
	// Cells are counts: for numbers below the first edge, the bins, above the last; for
	// categories the levels, then all others. The incumbent's are brought to the times of the
	// candidate's, so they need not be whole.
	Incumbent     []float64      `json:"incumbent"`
	Candidate     []float64      `json:"candidate"`
	IncumbentMean *float64       `json:"incumbent_mean,omitempty"`
	CandidateMean *float64       `json:"candidate_mean,omitempty"`
	Movement      drift.Movement `json:"movement"`
}

// columnsOf picks the inputs or the outputs.
type columnsOf func(*sketch.Content) map[string]*sketch.Column

// distributions compares the columns of both sides. The candidate's rows count one divided by the
// probability with which bodies were read then, the incumbent's as many times more as makes as many
// rows as the candidate's in each stratum.
func distributions(strata []Stratum, q Question, inputs distinct, pick columnsOf) (out []Distribution, left []string) {
	names := map[string]bool{}
	for _, s := range strata {
		if s.both() {
			for name := range pick(&s.Candidate.Content) {
				names[name] = true
			}
		}
	}
	first, second := map[string]drift.Sample{}, map[string]drift.Sample{}
	for name := range names {
		a, b, whole := columnPair(strata, name, pick)
		if a == nil {
			continue
		}
		if !whole {
			left = append(left, name)
		}
		a.Distinct, b.Distinct = inputs.first, inputs.second
		first[name], second[name] = *a, *b
	}
	moved, _ := drift.MeasureAll(first, second, q.Need, q.Candidates)
	out = []Distribution{}
	for _, name := range slices.Sorted(maps.Keys(moved)) {
		out = append(out, distributionOf(name, first[name].Column, second[name].Column, moved[name]))
	}
	return out, left
}

// distributionOf is a column of both sides with how far it moved.
func distributionOf(name string, a, b *sketch.Weighted, m drift.Movement) Distribution {
	d := Distribution{
		Column: name, Edges: a.Bins.Edges, Levels: a.Bins.Levels, Incumbent: a.Cells, Candidate: b.Cells, Movement: m,
	}
	if m.Numeric && a.Seen() > 0 && b.Seen() > 0 {
		ma, mb := a.Mean(), b.Mean()
		d.IncumbentMean, d.CandidateMean = &ma, &mb
	}
	return d
}

// distinct is how many different inputs both sides had.
type distinct struct{ first, second uint64 }

func distinctOf(strata []Stratum) distinct {
	var first, second sketch.Distinct
	for _, s := range strata {
		if s.both() {
			first.Merge(&s.Incumbent.Content.Distinct)
			second.Merge(&s.Candidate.Content.Distinct)
		}
	}
	return distinct{first.Count(), second.Count()}
}

// columnPair puts one column of both sides together; nil when they have none in common. whole is false
// when some of it was counted on other bins.
func columnPair(strata []Stratum, name string, pick columnsOf) (a, b *drift.Sample, whole bool) {
	whole = true
	var pairs []drift.Pair
	for _, s := range strata {
		if !s.both() {
			continue
		}
		x, y := pick(&s.Incumbent.Content)[name], pick(&s.Candidate.Content)[name]
		if x == nil || y == nil || x.Total() == 0 || y.Total() == 0 {
			continue
		}
		if a == nil {
			a = &drift.Sample{Column: sketch.NewWeighted(y.Bins)}
			b = &drift.Sample{Column: sketch.NewWeighted(y.Bins)}
		}
		if !a.Column.Bins.Equal(x.Bins) || !a.Column.Bins.Equal(y.Bins) {
			whole = false
			continue
		}
		weight := 1 / max(1e-9, s.Candidate.Probability())
		_ = b.Column.Add(y, weight) // their bins are equal
		_ = a.Column.Add(x, weight*float64(y.Total())/float64(x.Total()))
		pairs = append(pairs, drift.Pair{P: x, Q: y})
	}
	if a == nil {
		return nil, nil, whole
	}
	design := drift.DesignOf(pairs)
	for _, s := range []*drift.Sample{a, b} {
		s.Rows, s.Weighted, s.Design = s.Column.Values, s.Column.Effective(), design
	}
	return a, b, whole
}
