package compare

import (
	"fmt"
	"math"
	"strings"

	"innerladder/internal/core/guard"
	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/stat/distuv"
)

const (
	// valueMargin is a difference of means that does not matter, as a share of the incumbent's; accuracyMargin one of
	// accuracies.
	valueMargin, accuracyMargin = 0.05, 0.01
	// leastValues is of how many values of each side their means can be held against each other.
	leastValues = 20
)

// Values are what came later of both versions by one signal: values of a custom signal, how far predictions were off,
// or, of accuracy, 1 for each that was wrong, else 0.
type Values struct {
	// Signal is mae.OUTPUT, accuracy.OUTPUT or custom.NAME.
	Signal, Unit   string
	HigherIsBetter bool
	// Strata are what came of both under one split in one window of time.
	Strata []ValueStratum
}

// ValueStratum is what came of both under one split in one window of time.
type ValueStratum struct{ Incumbent, Candidate sketch.Numbers }

func (s *ValueStratum) both() bool { return s.Incumbent.N > 0 && s.Candidate.N > 0 }

// together are the strata in which both have values; where there are none, all of it is one stratum.
func (v *Values) together() (out []ValueStratum, n, m uint64) {
	var whole ValueStratum
	for i := range v.Strata {
		s := &v.Strata[i]
		whole.Incumbent.Merge(&s.Incumbent)
		whole.Candidate.Merge(&s.Candidate)
		if s.both() {
			out, n, m = append(out, *s), n+s.Incumbent.N, m+s.Candidate.N
		}
	}
	if len(out) == 0 {
		return []ValueStratum{whole}, whole.Incumbent.N, whole.Candidate.N
	}
	return out, n, m
}

// row compares what came later.
func (v *Values) row(confidence float64) Row {
	r := Row{Signal: v.Signal, Unit: v.Unit, Relation: "difference"}
	kind, of, _ := strings.Cut(v.Signal, ".")
	strata, n, m := v.together()
	if n < leastValues || m < leastValues {
		r.asFarAsKnown(strata, kind == guard.Accuracy)
		r.Verdict = NotEnough
		what := "The truth of " + of
		if kind == guard.Custom {
			what = of
		}
		r.Sentence = fmt.Sprintf("%s is known of %d answers of the incumbent and %d of the candidate; not enough to "+
			"tell.", what, n, m)
		return r
	}
	if kind == guard.Accuracy {
		r.accuracy(strata, of, confidence)
		return r
	}
	d := r.means(strata, confidence)
	margin := valueMargin * math.Abs(*r.Incumbent)
	worse := d
	if v.HigherIsBetter {
		worse = interval.Interval{Low: -d.High, High: -d.Low}
	}
	r.Verdict = judge(worse, 0, -margin, margin)
	unit := ""
	if v.Unit != "" {
		unit = " " + v.Unit
	}
	what := "The mean of " + of
	if kind == guard.MAE {
		what = "The error of " + of
	}
	r.Sentence = saysMeans(what, unit, d, margin, r.Verdict)
	return r
}

// asFarAsKnown fills in what there is of each side, without an interval.
func (r *Row) asFarAsKnown(strata []ValueStratum, right bool) {
	var all ValueStratum
	for i := range strata {
		all.Incumbent.Merge(&strata[i].Incumbent)
		all.Candidate.Merge(&strata[i].Candidate)
	}
	if right {
		r.Unit = "share"
	}
	for _, side := range []struct {
		of   *sketch.Numbers
		into **float64
	}{{&all.Incumbent, &r.Incumbent}, {&all.Candidate, &r.Candidate}} {
		if side.of.N > 0 {
			x := side.of.Mean
			if right {
				x = 1 - x
			}
			*side.into = &x
		}
	}
}

// saysMeans says what a difference of means amounts to.
func saysMeans(what, unit string, d interval.Interval, margin float64, v Verdict) string {
	side := "higher"
	low, high := d.Low, d.High
	if d.High < 0 {
		side, low, high = "lower", -d.High, -d.Low
	}
	switch v {
	case Better, Worse:
		return fmt.Sprintf("%s is %.3g to %.3g%s %s, which is %s.", what, low, high, unit, side, v)
	case WorseWithin:
		return fmt.Sprintf("%s is %.3g to %.3g%s %s: real, and less than the %.3g that matter.", what, low, high, unit,
			side, margin)
	case Same:
		return fmt.Sprintf("%s differs by %+.3g to %+.3g%s: no difference that matters.", what, d.Low, d.High, unit)
	}
	return fmt.Sprintf("%s differs by %+.3g to %+.3g%s, where %.3g would matter; not enough to tell.", what, d.Low,
		d.High, unit, margin)
}

// accuracy compares the shares of answers that were right.
func (r *Row) accuracy(strata []ValueStratum, of string, confidence float64) {
	r.Unit = "share"
	var all []counted
	for i := range strata {
		a, b := &strata[i].Incumbent, &strata[i].Candidate
		n, m := float64(a.N), float64(b.N)
		all = append(all, counted{n - a.Sum, n, m - b.Sum, m})
	}
	d := r.shares(all, confidence)
	r.Verdict = judge(interval.Interval{Low: -d.High, High: -d.Low}, 0, -accuracyMargin, accuracyMargin)
	low, high := points(math.Abs(d.Low)), points(math.Abs(d.High))
	switch r.Verdict {
	case Better:
		r.Sentence = fmt.Sprintf("Right about %s more often, by %s to %s points.", of, low, high)
	case Worse:
		r.Sentence = fmt.Sprintf("Right about %s less often, by %s to %s points.", of, high, low)
	case WorseWithin:
		r.Sentence = fmt.Sprintf("Right about %s less often, by %s to %s points: real, and less than the %s that "+
			"matter.", of, high, low, points(accuracyMargin))
	case Same:
		r.Sentence = fmt.Sprintf("No difference that matters in how often it is right about %s.", of)
	default:
		r.Sentence = fmt.Sprintf("How often it is right about %s differs by %s to %s points, where %s would matter; "+
			"not enough to tell.", of, points(d.Low), points(d.High), points(accuracyMargin))
	}
}

// means fills in the means of both sides, brought to the same times by the weights of Mantel and Haenszel (1959), and
// gives the interval of their difference. Each side's variance is that within its strata, all of them together, since
// single strata have too few values to tell; where the differences of the strata spread wider than that makes them,
// the interval is wider by as much (Rao and Scott 1981).
func (r *Row) means(strata []ValueStratum, confidence float64) (difference interval.Interval) {
	within := func(of func(*ValueStratum) *sketch.Numbers) float64 {
		var around, free float64
		var all sketch.Numbers
		for i := range strata {
			n := of(&strata[i])
			around, free = around+n.Around, free+float64(n.N-1)
			all.Merge(n)
		}
		if free < leastValues/2 {
			return all.Variance()
		}
		return around / free
	}
	incumbent := func(s *ValueStratum) *sketch.Numbers { return &s.Incumbent }
	candidate := func(s *ValueStratum) *sketch.Numbers { return &s.Candidate }
	variance1, variance2 := within(incumbent), within(candidate)
	var weights, first, second, of1, of2 float64
	for i := range strata {
		n, m := float64(strata[i].Incumbent.N), float64(strata[i].Candidate.N)
		w := n * m / (n + m)
		weights += w
		first, second = first+w*strata[i].Incumbent.Mean, second+w*strata[i].Candidate.Mean
		of1, of2 = of1+w*w*variance1/n, of2+w*w*variance2/m
	}
	first, second = first/weights, second/weights
	of1, of2 = of1/weights/weights, of2/weights/weights
	design := designOfMeans(strata, second-first, variance1, variance2)
	z := (distuv.StudentsT{Sigma: 1, Nu: leastValues - 1}).Quantile(0.5 + confidence/2)
	around := func(x, variance float64) interval.Interval {
		half := z * math.Sqrt(variance*design)
		return interval.Interval{Low: x - half, High: x + half}
	}
	r.Incumbent, r.Candidate, r.Difference = &first, &second, second-first
	r.IncumbentLow, r.IncumbentHigh = ends(around(first, of1))
	r.CandidateLow, r.CandidateHigh = ends(around(second, of2))
	d := around(second-first, of1+of2)
	r.Low, r.High = ends(d)
	return d
}

// designOfMeans is how much wider the differences of the strata spread than independent values would make them: 1 where
// chance would make as much in one of ten, and with fewer than leastStrata.
func designOfMeans(strata []ValueStratum, difference, variance1, variance2 float64) float64 {
	sum, k := 0.0, 0.0
	for i := range strata {
		n, m := float64(strata[i].Incumbent.N), float64(strata[i].Candidate.N)
		if v := variance1/n + variance2/m; v > 0 {
			d := strata[i].Candidate.Mean - strata[i].Incumbent.Mean - difference
			sum += d * d / v
			k++
		}
	}
	if k < leastStrata || sum < (distuv.ChiSquared{K: k - 1}).Quantile(0.9) {
		return 1
	}
	return max(1, sum/(k-1))
}
