// Package compare puts two versions side by side from their summaries. Every row says
// what each side did, how they differ, within which interval, and what that amounts to.
package compare

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/drift"
	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"

	"gonum.org/v1/gonum/stat/distuv"
)

const (
	// Confidence is that of every interval.
	Confidence = 0.95
	// mismatchAlpha is the level of the test that the split is what it should be.
	mismatchAlpha = 0.001
	// errorMargin is a difference of error rates that does not matter: half a point.
	errorMargin = 0.005
	// latencyMargin is a ratio of latencies that does not matter.
	latencyMargin = 1.10
	// latencyFloor is a difference of latencies in ms that does not matter, whatever the
	// ratio.
	latencyFloor = 0.5
)

// Verdict is what a difference amounts to.
type Verdict string

// The verdicts, from the candidate's point of view.
const (
	Better    Verdict = "better"
	Same      Verdict = "same"
	Worse     Verdict = "worse"
	NotEnough Verdict = "not enough to tell"
)

// Shift is what a change of predictions amounts to: it is neither better nor worse.
const Shift Verdict = "moved"

// Row is one signal of both sides.
type Row struct {
	Signal string `json:"signal"`
	// Unit is that of the two sides: "share" or "ms".
	Unit      string  `json:"unit"`
	Incumbent float64 `json:"incumbent"`
	Candidate float64 `json:"candidate"`
	// Difference is candidate less incumbent for shares, candidate over incumbent for
	// times; Low and High are its interval, absent where the data bound nothing.
	Difference float64  `json:"difference"`
	Relation   string   `json:"relation" enum:"difference,ratio"`
	Low        *float64 `json:"low,omitempty"`
	High       *float64 `json:"high,omitempty"`
	// IncumbentLow to CandidateHigh are the intervals of each side alone.
	IncumbentLow  *float64 `json:"incumbent_low,omitempty"`
	IncumbentHigh *float64 `json:"incumbent_high,omitempty"`
	CandidateLow  *float64 `json:"candidate_low,omitempty"`
	CandidateHigh *float64 `json:"candidate_high,omitempty"`
	Verdict       Verdict  `json:"verdict" enum:"better,same,worse,not enough to tell"`
	Sentence      string   `json:"sentence"`
}

// Distribution is one input or output of both sides, for drawing and judging.
type Distribution struct {
	Column string    `json:"column"`
	Edges  []float64 `json:"edges,omitempty"`
	Levels []string  `json:"levels,omitempty"`
	Unit   string    `json:"unit,omitempty"`
	// BinsFrom says where the bins came from.
	BinsFrom string `json:"bins_from,omitempty"`
	// Cells are counts: for numbers below the first edge, the bins, above the last; for
	// categories the levels, then all others.
	Incumbent     []uint64       `json:"incumbent"`
	Candidate     []uint64       `json:"candidate"`
	IncumbentMean *float64       `json:"incumbent_mean,omitempty"`
	CandidateMean *float64       `json:"candidate_mean,omitempty"`
	Movement      drift.Movement `json:"movement"`
}

// Draw is what was drawn at random for both versions under one split: how often, and
// with which shares. Only draws under the same split are comparable.
type Draw struct {
	Split                          int
	Incumbent, Candidate           uint64
	IncumbentShare, CandidateShare int
}

// Side is one version over the span compared.
type Side struct {
	Version string
	Summary *sketch.Summary
}

// Comparison is the result.
type Comparison struct {
	Endpoint  string    `json:"endpoint"`
	Incumbent string    `json:"incumbent"`
	Candidate string    `json:"candidate"`
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
	// Mismatch is set when requests did not go where the split said; nothing below can
	// be trusted then.
	Mismatch          string         `json:"mismatch,omitempty"`
	Notes             []string       `json:"notes"`
	IncumbentRequests uint64         `json:"incumbent_requests"`
	CandidateRequests uint64         `json:"candidate_requests"`
	Rows              []Row          `json:"rows"`
	Predictions       []Distribution `json:"predictions"`
	Inputs            []Distribution `json:"inputs"`
	Sentence          string         `json:"sentence"`
}

// quantiles are those compared.
var quantiles = []struct {
	Signal string
	P      float64
}{{"latency_p50", 0.5}, {"latency_p90", 0.9}, {"latency_p95", 0.95}, {"latency_p99", 0.99}}

// Compare puts the candidate beside the incumbent. draws are per split; pass none when
// nothing was drawn at random.
func Compare(incumbent, candidate Side, draws []Draw, need drift.Need) Comparison {
	c := Comparison{
		Incumbent: incumbent.Version, Candidate: candidate.Version, Notes: []string{},
		IncumbentRequests: incumbent.Summary.Counts.Requests, CandidateRequests: candidate.Summary.Counts.Requests,
		Mismatch: mismatch(draws),
	}
	c.Rows = append(c.Rows, errorRow(incumbent.Summary.Counts, candidate.Summary.Counts))
	for _, q := range quantiles {
		c.Rows = append(c.Rows, latencyRow(q.Signal, q.P, &incumbent.Summary.Latency, &candidate.Summary.Latency))
	}
	c.Predictions = distributions(incumbent.Summary, candidate.Summary, need,
		func(x *sketch.Content) map[string]*sketch.Column { return x.Outputs })
	c.Inputs = distributions(incumbent.Summary, candidate.Summary, need,
		func(x *sketch.Content) map[string]*sketch.Column { return x.Inputs })
	c.Sentence = c.summarise(formNotes(c.Incumbent, c.Candidate, &incumbent.Summary.Content.Forms,
		&candidate.Summary.Content.Forms))
	return c
}

// mismatch tests that the draws went where the shares said (sample-ratio mismatch, χ²
// over all splits together).
func mismatch(draws []Draw) string {
	var chi, degrees, seen, expected, all float64
	for _, d := range draws {
		n := float64(d.Incumbent + d.Candidate)
		p := float64(d.CandidateShare) / float64(d.CandidateShare+d.IncumbentShare)
		if n == 0 || p <= 0 || p >= 1 || n*min(p, 1-p) < 5 {
			continue // too few for the χ² to mean anything
		}
		e := n * p
		chi += (float64(d.Candidate) - e) * (float64(d.Candidate) - e) / (n * p * (1 - p))
		degrees++
		seen += float64(d.Candidate)
		expected += e
		all += n
	}
	if degrees == 0 {
		return ""
	}
	if p := 1 - (distuv.ChiSquared{K: degrees}).CDF(chi); p >= mismatchAlpha {
		return ""
	}
	return fmt.Sprintf("The candidate was drawn for %.2f %% of requests, where the splits say %.2f %%: more than "+
		"chance. Find out why before trusting anything below.", 100*seen/all, 100*expected/all)
}

func errorRow(a, b sketch.Counts) Row {
	r := Row{
		Signal: "error_rate", Unit: "share", Relation: "difference",
		Incumbent: rate(a.Failed(), a.Requests), Candidate: rate(b.Failed(), b.Requests),
	}
	r.Difference = r.Candidate - r.Incumbent
	own := func(c sketch.Counts) interval.Interval { return interval.Wilson(c.Failed(), c.Requests, Confidence) }
	r.IncumbentLow, r.IncumbentHigh = ends(own(a))
	r.CandidateLow, r.CandidateHigh = ends(own(b))
	if a.Requests == 0 || b.Requests == 0 {
		r.Verdict, r.Sentence = NotEnough, nobody(a.Requests, b.Requests)
		return r
	}
	d := interval.Newcombe(a.Failed(), a.Requests, b.Failed(), b.Requests, Confidence)
	r.Low, r.High = ends(d)
	r.Verdict = judge(d, 0, -errorMargin, errorMargin)
	r.Sentence = map[Verdict]string{
		Better:    fmt.Sprintf("Fewer errors, by %s to %s points.", points(-d.High), points(-d.Low)),
		Same:      fmt.Sprintf("No worse on errors: at most %s points more.", points(math.Max(0, d.High))),
		Worse:     fmt.Sprintf("More errors, by %s to %s points.", points(d.Low), points(d.High)),
		NotEnough: fmt.Sprintf("Errors differ by %s to %s points; not enough to tell.", points(d.Low), points(d.High)),
	}[r.Verdict]
	return r
}

func latencyRow(signal string, p float64, a, b *sketch.Quantiles) Row {
	r := Row{Signal: signal, Unit: "ms", Relation: "ratio", Incumbent: ms(a.At(p)), Candidate: ms(b.At(p))}
	if a.Count() == 0 || b.Count() == 0 {
		r.Verdict, r.Sentence = NotEnough, nobody(a.Count(), b.Count())
		return r
	}
	if r.Incumbent > 0 {
		r.Difference = r.Candidate / r.Incumbent
	}
	ia, ib := quantileInterval(a, p), quantileInterval(b, p)
	r.IncumbentLow, r.IncumbentHigh = ends(ia)
	r.CandidateLow, r.CandidateHigh = ends(ib)
	d := interval.Ratio(r.Incumbent, ia, r.Candidate, ib)
	r.Low, r.High = ends(d)
	r.Verdict = judge(d, 1, 1/latencyMargin, latencyMargin)
	name := strings.TrimPrefix(signal, "latency_")
	switch {
	case ib.High-ia.Low <= latencyFloor && ia.High-ib.Low <= latencyFloor:
		r.Verdict = Same
		r.Sentence = fmt.Sprintf("No difference that matters: %s is less than %v ms apart.", name, latencyFloor)
	case !d.Bounded() || d.Low == 0:
		r.Verdict = NotEnough
		r.Sentence = fmt.Sprintf("Not enough answers to bound %s on both sides (%d and %d).", name, a.Count(),
			b.Count())
	case r.Verdict == NotEnough:
		r.Sentence = fmt.Sprintf("%s is %.2f to %.2f times the incumbent's; not enough to tell.", name, d.Low, d.High)
	default:
		r.Sentence = map[Verdict]string{Better: "Faster", Same: "No slower that matters", Worse: "Slower"}[r.Verdict] +
			fmt.Sprintf(": %s is %.2f to %.2f times the incumbent's.", name, d.Low, d.High)
	}
	return r
}

// quantileInterval is the distribution-free interval of a quantile in milliseconds,
// widened by the sketch's own error.
func quantileInterval(q *sketch.Quantiles, p float64) interval.Interval {
	n := q.Count()
	low, high := interval.QuantileRanks(n, p, Confidence)
	i := interval.Interval{Low: 0, High: math.Inf(1)}
	if low >= 1 {
		i.Low = ms(q.AtRank(low)) * (1 - sketch.RelativeError)
	}
	if high <= n {
		i.High = ms(q.AtRank(high)) * (1 + sketch.RelativeError)
	}
	return i
}

// judge turns an interval into a verdict: same when all of it lies between the margins
// that do not matter, worse or better when all of it lies beyond no difference.
func judge(d interval.Interval, none, low, high float64) Verdict {
	switch {
	case d.Low >= low && d.High <= high:
		return Same
	case d.Low > none:
		return Worse
	case d.High < none:
		return Better
	}
	return NotEnough
}

func distributions(a, b *sketch.Summary, need drift.Need,
	pick func(*sketch.Content) map[string]*sketch.Column,
) []Distribution {
	p, q := pick(&a.Content), pick(&b.Content)
	moved, _ := drift.MeasureAll(p, q, a.Content.Distinct.Count(), b.Content.Distinct.Count(), need)
	out := []Distribution{}
	for name, mv := range moved {
		d := Distribution{
			Column: name, Edges: p[name].Bins.Edges, Levels: p[name].Bins.Levels,
			Incumbent: p[name].Cells(), Candidate: q[name].Cells(), Movement: mv,
		}
		if mv.Numeric && mv.Reference > 0 && mv.Now > 0 {
			ma, mb := p[name].Mean(), q[name].Mean()
			d.IncumbentMean, d.CandidateMean = &ma, &mb
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(x, y Distribution) int { return strings.Compare(x.Column, y.Column) })
	return out
}

// summarise says the whole in one or two sentences, the worst first, after what comes before
// anything that is counted.
func (c *Comparison) summarise(first []string) string {
	if c.Mismatch != "" {
		return c.Mismatch
	}
	parts := append(first,
		fmt.Sprintf("%s answered %d requests, %s %d.", c.Candidate, c.CandidateRequests, c.Incumbent,
			c.IncumbentRequests))
	for _, signal := range []string{"error_rate", "latency_p99"} {
		i := slices.IndexFunc(c.Rows, func(r Row) bool { return r.Signal == signal })
		parts = append(parts, c.Rows[i].Sentence)
	}
	for _, d := range c.Predictions {
		parts = append(parts, "Predictions of "+d.Column+": "+lowerFirst(d.Movement.Sentence))
	}
	return strings.Join(slices.Compact(parts), " ") // where nobody answered, all rows say so
}

func lowerFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToLower(s[:1]) + s[1:]
}

func nobody(a, b uint64) string {
	switch {
	case a == 0 && b == 0:
		return "Neither answered anything in this time."
	case a == 0:
		return "The incumbent answered nothing in this time."
	}
	return "The candidate answered nothing in this time."
}

func rate(k, n uint64) float64 {
	if n == 0 {
		return 0
	}
	return float64(k) / float64(n)
}

// points writes a difference of shares in percentage points.
func points(x float64) string { return fmt.Sprintf("%.2f", x*100) }

func ms(d time.Duration) float64 { return float64(d) / float64(time.Millisecond) }

// ends gives the finite ends of an interval, nil for an open one.
func ends(i interval.Interval) (low, high *float64) {
	if !math.IsInf(i.Low, 0) {
		low = &i.Low
	}
	if !math.IsInf(i.High, 0) {
		high = &i.High
	}
	return low, high
}

// SharesOf says which draws a split's lanes make for two versions.
func SharesOf(s traffic.Split, incumbent, candidate string) (d Draw, both bool) {
	d.Split = s.Number
	found := 0
	for _, l := range s.Lanes {
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
