package rollout

import (
	"fmt"
	"math"
	"strings"
	"time"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/seqtest"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
)

// Reported is what main has had lately of a signal whose values come after its answers.
type Reported struct {
	// Rate is how many values come for each second of main's answers.
	Rate float64
	sketch.Numbers
}

// leastReported is of how many values a forecast can be made.
const leastReported = 20

// reported is what there is of the signals that a guard is about, by signal.
func (t *Traffic) reported(g guard.Guard) (out []Reported) {
	for signal, r := range t.Reported {
		if guard.Covers(g.Signal, signal) && r.N >= leastReported {
			out = append(out, r)
		}
	}
	return out
}

// needs is how many values of the candidate, which has a share, it takes to reject a line of differences of means from
// which the true one is apart by so much, with a chance alpha of an error.
func (r *Reported) needs(margin, line, apart, share, alpha float64) float64 {
	_, clip := seqtest.ScaleOf(r.Mean, r.Deviation(), math.Max(r.Max-r.Mean, r.Mean-r.Min), margin)
	mains, candidates := math.Max(1, (1-share)/share), math.Max(1, share/(1-share))
	m := seqtest.Mean{Clip: clip, Margin: line}
	return candidates * m.Bound(apart, r.Deviation()*math.Sqrt(1/mains+1/candidates), alpha)
}

// valuePace is how much of what shows a signal good a second brings, where its values come one by one and the candidate
// is as good as main; the slowest of several outputs.
func (p *Plan) valuePace(g guard.Guard, t Traffic, share float64) float64 {
	all := t.reported(g)
	if len(all) == 0 {
		return 0
	}
	pace := math.Inf(1)
	for _, r := range all {
		needs := 0.0 // of the candidate's values
		if kind, _, _ := strings.Cut(g.Signal, "."); kind == guard.Accuracy {
			wrong := math.Max(least, r.Mean)
			needs = overhead * seqtest.Line{Slope: 1, Offset: g.Margin}.Bound(wrong, wrong, share, p.Beta)
		} else {
			needs = r.needs(g.Margin, -g.Margin, g.Margin, share, p.Beta)
		}
		pace = math.Min(pace, r.Rate*share/needs)
	}
	return pace
}

// noteReported says of which guards nothing can be foretold.
func (p *Plan) noteReported(f *Forecast) {
	for _, g := range p.Guards {
		if guard.OfValues(g.Signal) && len(f.Traffic.reported(g)) == 0 {
			f.Notes = append(f.Notes, fmt.Sprintf("Of %s fewer than %d values came in the last day, so it is not "+
				"known how long it takes to show it good.", g.Signal, leastReported))
		}
	}
}

// foreseeValues says what a comparison by values that come later would do.
func (p *Plan) foreseeValues(f Forecast) Forecast {
	t, c := f.Traffic, p.Compare
	share := float64(c.Share) / traffic.Whole
	longest, alpha := time.Duration(c.Most).Seconds(), c.Contest().Level()/2
	all := t.reported(guard.Guard{Signal: c.Signal})
	if len(all) == 0 {
		f.Notes = append(f.Notes, fmt.Sprintf("Of %s fewer than %d values came in the last day, so it is not known "+
			"how long it takes to decide it.", c.Signal, leastReported))
		return p.comparisonTakes(f, 0, longest)
	}
	r := all[0]
	pace := r.Rate * share
	for _, units := range differences {
		needs := 0.0
		if kind, _, _ := strings.Cut(c.Signal, "."); kind == guard.Accuracy {
			needs = p.needsOf(math.Max(least, r.Mean), units, share, alpha)
		} else {
			line, more := 0.0, units*c.Margin
			if units == 0 { // both ends must come within the margin
				line, more = c.Margin, c.Margin
			}
			needs = r.needs(c.Margin, line, more, share, alpha)
		}
		f.difference(units*c.Margin, needs, pace, longest, alpha)
	}
	return p.comparisonTakes(f, pace, longest)
}
