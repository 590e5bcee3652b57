package compare

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"

	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"

	"gonum.org/v1/gonum/floats"
	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"
)

const (
	// resamples is how often the times are drawn again for an interval, blocks how many they are
	// at most: longer spans are resampled in runs of strata that follow one another.
	resamples, blocks = 200, 60
)

// latencies are the latencies of both sides, the incumbent's brought to the candidate's times: in each
// stratum they count as many times as the candidate answered then.
type latencies struct {
	incumbent, candidate *sketch.Durations
	// parts are what Add wants of each stratum in which both answered.
	parts []latencyPart
	// answers are how many answers there were, effective how many of equal weight tell as much.
	answers1, answers2     float64
	effective1, effective2 float64
}

type latencyPart struct {
	incumbent, candidate sketch.Buckets
	weight               float64
}

func latenciesOf(strata []Stratum) *latencies {
	var first, second []*sketch.Quantiles
	for _, s := range strata {
		if s.Incumbent.Latency.Count() > 0 && s.Candidate.Latency.Count() > 0 {
			first, second = append(first, &s.Incumbent.Latency), append(second, &s.Candidate.Latency)
		}
	}
	l := &latencies{}
	var places1, places2 []sketch.Buckets
	l.incumbent, places1 = sketch.DurationsOver(first)
	l.candidate, places2 = sketch.DurationsOver(second)
	var square float64
	for i := range first {
		n1, n2 := float64(first[i].Count()), float64(second[i].Count())
		w := n2 / n1
		l.parts = append(l.parts, latencyPart{places1[i], places2[i], w})
		l.answers1, l.answers2 = l.answers1+n1, l.answers2+n2
		square += w * w * n1
	}
	if square > 0 {
		l.effective1 = l.answers2 * l.answers2 / square // Σw·n₁ is Σn₂
	}
	l.effective2 = l.answers2
	l.fill(nil)
	return l
}

// fill puts together the parts with so many times each, once each for nil.
func (l *latencies) fill(times []int) {
	l.incumbent.Reset()
	l.candidate.Reset()
	for i, p := range l.parts {
		n := 1.0
		if times != nil {
			n = float64(times[i])
		}
		if n > 0 {
			l.incumbent.Add(p.incumbent, n*p.weight)
			l.candidate.Add(p.candidate, n)
		}
	}
}

// bounds are what one quantile of both sides is, and its ratio, with their intervals, in nanoseconds.
type bounds struct {
	first, second      float64
	of1, of2, ofTheTwo interval.Interval
}

// bound finds the intervals of quantiles: by drawing the times anew where there are enough (Efron 1979),
// which also knows how much they differ, else from the ranks of the answers.
func (l *latencies) bound(quantiles []float64, confidence float64) []bounds {
	out := make([]bounds, len(quantiles))
	for i, p := range quantiles {
		out[i].first, out[i].second = l.incumbent.Quantile(p), l.candidate.Quantile(p)
	}
	if len(l.parts) >= leastStrata {
		l.resample(quantiles, confidence, out)
		return out
	}
	for i, p := range quantiles {
		b := &out[i]
		b.of1 = byRanks(l.incumbent, l.effective1, p, confidence)
		b.of2 = byRanks(l.candidate, l.effective2, p, confidence)
		b.ofTheTwo = interval.Ratio(b.first, b.of1, b.second, b.of2)
	}
	return out
}

// byRanks is the distribution-free interval of a quantile in nanoseconds.
func byRanks(d *sketch.Durations, n, p, confidence float64) interval.Interval {
	i := interval.Interval{Low: 0, High: math.Inf(1)}
	whole := uint64(n)
	low, high := interval.QuantileRanks(whole, p, confidence)
	if low >= 1 {
		i.Low = d.Quantile(float64(low) / float64(whole))
	}
	if high <= whole {
		i.High = d.Quantile(float64(high) / float64(whole))
	}
	return i
}

// resample draws blocks of strata anew, with a seed of its own, so that the same data gives the same
// interval: estimate times e^(± t·s), with s the standard deviation of the logarithms of what was drawn
// and t of Student. Its degrees are one less than the blocks of equal weight that would tell as much (Kish
// 1965), of which drawing anew sees one too few as well.
func (l *latencies) resample(quantiles []float64, confidence float64, out []bounds) {
	r := rand.New(rand.NewPCG(1, uint64(len(l.parts))))
	k := min(blocks, len(l.parts))
	drawn := make([][3][]float64, len(quantiles))
	for range resamples {
		times := make([]int, len(l.parts))
		for range k {
			b := r.IntN(k)
			for i := b * len(l.parts) / k; i < (b+1)*len(l.parts)/k; i++ {
				times[i]++
			}
		}
		l.fill(times)
		for i, p := range quantiles {
			a, b := math.Log(l.incumbent.Quantile(p)), math.Log(l.candidate.Quantile(p))
			for j, x := range []float64{a, b, b - a} {
				drawn[i][j] = append(drawn[i][j], x)
			}
		}
	}
	l.fill(nil)
	weights := make([]float64, k)
	for b := range weights {
		for i := b * len(l.parts) / k; i < (b+1)*len(l.parts)/k; i++ {
			weights[b] += l.parts[i].candidate.Total()
		}
	}
	equal := math.Max(2, floats.Sum(weights)*floats.Sum(weights)/floats.Dot(weights, weights))
	t := (distuv.StudentsT{Sigma: 1, Nu: equal - 1}).Quantile(0.5+confidence/2) * math.Sqrt(equal/(equal-1))
	for i := range out {
		b := &out[i]
		around := func(x float64, logs []float64) interval.Interval {
			by := math.Exp(t * stat.StdDev(logs, nil))
			return interval.Interval{Low: x / by, High: x * by}
		}
		b.of1, b.of2 = around(b.first, drawn[i][0]), around(b.second, drawn[i][1])
		b.ofTheTwo = around(b.second/b.first, drawn[i][2])
	}
}

// latencyRows compares the quantiles of latency.
func latencyRows(strata []Stratum, confidence float64) []Row {
	l := latenciesOf(strata)
	var all []float64
	for _, q := range quantiles {
		all = append(all, q.P)
	}
	var of []bounds
	if len(l.parts) > 0 {
		of = l.bound(all, confidence)
	}
	var rows []Row
	for i, q := range quantiles {
		r := Row{Signal: q.Signal, Unit: "ms", Relation: "ratio"}
		if of == nil {
			rows = append(rows, r.nothing(strata))
			continue
		}
		rows = append(rows, r.latency(of[i], l))
	}
	return rows
}

func (r Row) latency(b bounds, l *latencies) Row {
	first, second := sketch.Milliseconds(b.first), sketch.Milliseconds(b.second)
	r.Incumbent, r.Candidate = &first, &second
	if first > 0 {
		r.Difference = second / first
	}
	of1, of2, d := inMilliseconds(b.of1), inMilliseconds(b.of2), b.ofTheTwo
	r.IncumbentLow, r.IncumbentHigh = ends(of1)
	r.CandidateLow, r.CandidateHigh = ends(of2)
	if r.Low, r.High = ends(d); d.Low == 0 {
		r.Low = nil // no ratio is that small: the answers bound nothing
	}
	r.Verdict = judge(aroundOne(d), 1, 1/latencyMargin, latencyMargin)
	name := strings.TrimPrefix(r.Signal, "latency_")
	times := fmt.Sprintf("%s is %.2f to %.2f times the incumbent's", name, d.Low, d.High)
	switch {
	case of2.High-of1.Low <= latencyFloor && of1.High-of2.Low <= latencyFloor:
		r.Verdict = Same
		r.Sentence = fmt.Sprintf("No difference that matters: %s is less than %v ms apart.", name, latencyFloor)
	case !d.Bounded() || d.Low == 0:
		r.Verdict = NotEnough
		r.Sentence = fmt.Sprintf("Not enough answers to bound %s on both sides (%.0f and %.0f).", name, l.answers1,
			l.answers2)
	case r.Verdict == NotEnough:
		r.Sentence = fmt.Sprintf("%s; not enough to tell.", times)
	case r.Verdict == WorseWithin:
		r.Sentence = fmt.Sprintf("A little slower: %s; %.2f times would matter.", times, latencyMargin)
	default:
		r.Sentence = map[Verdict]string{
			Better: "Faster", Same: "No difference that matters", Worse: "Slower",
		}[r.Verdict] + ": " + times + "."
	}
	return r
}

// aroundOne makes an end that is beyond 1 by no more than latencies are kept within 1 itself: that is no
// difference.
func aroundOne(d interval.Interval) interval.Interval {
	if d.Low > 1 && d.Low < 1+sketch.RelativeError {
		d.Low = 1
	}
	if d.High < 1 && d.High > 1-sketch.RelativeError {
		d.High = 1
	}
	return d
}

func inMilliseconds(i interval.Interval) interval.Interval {
	return interval.Interval{Low: sketch.Milliseconds(i.Low), High: sketch.Milliseconds(i.High)}
}
