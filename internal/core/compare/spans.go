package compare

import (
	"cmp"
	"slices"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/sketch"
)

// Span is what was seen of the columns of one side, as a whole and in steps of time. A reference has no steps.
type Span struct {
	Whole map[string]*sketch.Column
	Steps []map[string]*sketch.Column
	// Distinct is how many different inputs there were, StepsDistinct in each step.
	Distinct      uint64
	StepsDistinct []uint64
}

// With is both spans as one, without steps. What was counted otherwise stays out.
func (s Span) With(o Span) Span {
	out := Span{Whole: map[string]*sketch.Column{}, Distinct: s.Distinct + o.Distinct}
	for _, side := range []Span{s, o} {
		for name, c := range side.Whole {
			if out.Whole[name] == nil {
				out.Whole[name] = sketch.NewColumn(c.Bins)
			}
			_ = out.Whole[name].Merge(c) // one on other bins stays out
		}
	}
	return out
}

// Against holds the columns of a span against those of another, or of a reference, and ranks them by how far they are
// apart, the furthest first. Columns that one side lacks, or that were counted otherwise, are left out and named.
func Against(before, now Span, need drift.Need) (out []Distribution, left []string) {
	first, second := map[string]drift.Sample{}, map[string]drift.Sample{}
	for name, q := range now.Whole {
		p := before.Whole[name]
		if p == nil {
			continue
		}
		design := drift.DesignOf(stepsOf(before, now, name))
		a, b := drift.SampleOf(p, before.Distinct), drift.SampleOf(q, now.Distinct)
		a.Design, b.Design = design, design
		first[name], second[name] = a, b
	}
	moved, left := drift.MeasureAll(first, second, need, 1)
	for _, sides := range [][2]map[string]*sketch.Column{{before.Whole, now.Whole}, {now.Whole, before.Whole}} {
		for name := range sides[0] {
			if sides[1][name] == nil {
				left = append(left, name)
			}
		}
	}
	slices.Sort(left)
	out = []Distribution{}
	for name, m := range moved {
		out = append(out, distributionOf(name, first[name].Column, second[name].Column, m))
	}
	slices.SortFunc(out, func(a, b Distribution) int {
		return cmp.Or(cmp.Compare(b.Movement.Effect(), a.Movement.Effect()), cmp.Compare(a.Column, b.Column))
	})
	return out, left
}

// stepsOf are the steps of a column, side by side; a reference stands beside each.
func stepsOf(before, now Span, name string) (pairs []drift.Pair) {
	for i, step := range now.Steps {
		q, p := step[name], before.Whole[name]
		if len(before.Steps) > 0 {
			if i >= len(before.Steps) {
				break
			}
			p = before.Steps[i][name]
		}
		if p != nil && q != nil && p.Bins.Equal(q.Bins) {
			pairs = append(pairs, drift.Pair{P: p, Q: q})
		}
	}
	return pairs
}

// Step is how far a column was from the other side in one step of time.
type Step struct {
	// Effect is the PSI less what chance makes; Noise is what 99 of 100 unchanged ones would stay below.
	Effect float64       `json:"effect" description:"PSI less what chance makes"`
	Noise  float64       `json:"noise" description:"99 of 100 would stay below it if nothing had changed"`
	Rows   uint64        `json:"rows"`
	Says   drift.Verdict `json:"verdict"`
}

// StepAgainst holds one step of a column against the whole of the other side.
func StepAgainst(before *sketch.Column, distinctBefore uint64, now *sketch.Column, distinct uint64,
	need drift.Need,
) (s Step, ok bool) {
	m, err := drift.Measure(drift.SampleOf(before, distinctBefore), drift.SampleOf(now, distinct), need)
	if err != nil {
		return s, false
	}
	return Step{Effect: m.Effect(), Noise: max(0, m.Noise99-m.NoiseExpected), Rows: now.Total(), Says: m.Verdict}, true
}
