package guard

import (
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
)

// readPredictions looks at every output and reports the one that moved most.
func (t *TrialState) readPredictions(g Guard, e *Pair, level levels) Reading {
	main, trial := &e.Incumbent, &e.Candidate
	switch {
	case t.After && e.Beside == nil:
		return Reading{Sentence: fmt.Sprintf(
			"took over from %s: what it predicts now is not held against other hours, whose inputs were others.",
			t.Incumbent)}
	case t.After:
		main, trial = &e.Beside.Former, &e.Beside.Main
	}
	r := t.readValues(g, main, trial, level)
	r.Sentence = onlyTrial(t.Incumbent, &main.Forms, &trial.Forms) + r.Sentence
	return r
}

// readValues moves the guard on of each output.
func (t *TrialState) readValues(g Guard, main, trial *Lane, level levels) Reading {
	r := Reading{Sentence: "has no predictions to compare yet."}
	least := 1.0
	var names []string
	for name := range trial.Outputs {
		if o, ok := main.Outputs[name]; ok && o.Bins.Equal(trial.Outputs[name].Bins) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	if t.Outputs == nil {
		t.Outputs = map[string]seqtest.Edges{}
	}
	distinct := min(main.Distinct, trial.Distinct)
	for _, name := range names {
		p, q := main.Outputs[name], trial.Outputs[name]
		edges, known := t.Outputs[name]
		if !known || edges.Margin != g.Margin {
			fresh := seqtest.NewEdges(g.Margin, p.Bins.Numeric())
			fresh.IncumbentTaken, fresh.CandidateTaken = edges.IncumbentTaken, edges.CandidateTaken
			edges = fresh
		}
		edges.Observe(p.Cells(), q.Cells())
		t.Outputs[name] = edges
		each := levels{level.alpha / float64(len(names)), level.beta}
		tells := min(main.independent(), trial.independent())
		log := edges.LogE(tells)
		found := each.reading(log, edges.LogEnough(tells))
		if distinct < drift.DefaultNeed.Distinct {
			found.Enough = 0
		}
		least = min(least, found.Enough)
		if found.Progress < r.Progress {
			continue
		}
		gap, at := edges.Gap()
		r = found
		switch {
		case distinct < drift.DefaultNeed.Distinct:
			// With too little or too repetitive data a guard does not fire, and its progress is
			// at most the share of the data that it needs.
			r.Progress = math.Min(r.Progress, 0.99*float64(distinct)/float64(drift.DefaultNeed.Distinct))
			r.Sentence = fmt.Sprintf("predicts %s; not enough to tell: %d of %d distinct inputs.", name, distinct,
				drift.DefaultNeed.Distinct)
		case r.Progress >= 1:
			r.Sentence = fmt.Sprintf("predicts %s differently: the largest gap between the two distributions is %.2f, "+
				"%s; the limit is %.2f. %s%s", name, gap, where(p.Bins, at), g.Margin,
				chance(log, -math.Log(each.alpha)), means(p, q))
		default:
			r.Sentence = fmt.Sprintf("predicts %s with a largest gap of %.2f between the two distributions, %s; the "+
				"limit is %.2f%s", name, gap, where(p.Bins, at), g.Margin, r.says(log, each.alpha, g.Allows()))
		}
	}
	if r.Enough = least; len(names) == 0 {
		r.Enough = 0
	}
	return r
}

// where says at what two distributions are furthest apart: below an edge, or at a level.
func where(b sketch.Bins, cell int) string {
	switch {
	case b.Numeric():
		return fmt.Sprintf("below %.4g", b.Edges[min(cell, len(b.Edges)-1)])
	case cell < len(b.Levels):
		return fmt.Sprintf("at %q", b.Levels[cell])
	}
	return "at other levels"
}

func means(p, q *sketch.Column) string {
	if !p.Bins.Numeric() {
		return ""
	}
	return fmt.Sprintf(" The mean is %.3g against %.3g.", q.Mean(), p.Mean())
}
