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
	"innerladder/internal/core/guard"
	"innerladder/internal/core/interval"
	"innerladder/internal/core/sketch"
)

const (
	// Confidence is that of every interval.
	Confidence = 0.95
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
	Better Verdict = "better"
	Same   Verdict = "same"
	Worse  Verdict = "worse"
	// WorseWithin is a difference that is real and too small to matter.
	WorseWithin Verdict = "worse by less than the margin"
	NotEnough   Verdict = "not enough to tell"
)

// Shift is what a change of predictions amounts to: it is neither better nor worse.
const Shift Verdict = "moved"

// Row is one signal of both sides.
type Row struct {
	Signal string `json:"signal"`
	// Unit is that of the two sides: "share", "ms", or that of a signal whose values come later.
	Unit string `json:"unit"`
	// Incumbent and Candidate are absent where nothing was seen.
	Incumbent *float64 `json:"incumbent,omitempty"`
	Candidate *float64 `json:"candidate,omitempty"`
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
	Verdict       Verdict  `json:"verdict" enum:"better,same,worse,worse by less than the margin,not enough to tell"`
	Sentence      string   `json:"sentence"`
}

// Comparison is the result.
type Comparison struct {
	Endpoint  string    `json:"endpoint"`
	Incumbent string    `json:"incumbent"`
	Candidate string    `json:"candidate"`
	From      time.Time `json:"from"`
	To        time.Time `json:"to"`
	// Of says what the span is, such as "the trial that began with #4".
	Of string `json:"of"`
	// Mismatch is set when requests did not go where the split said; nothing below can
	// be trusted then.
	Mismatch string `json:"mismatch,omitempty"`
	// Draws are where requests went under each split that had both.
	Draws []Draw `json:"draws"`
	// Notes say first what is not compared.
	Notes             []string       `json:"notes"`
	IncumbentRequests uint64         `json:"incumbent_requests"`
	CandidateRequests uint64         `json:"candidate_requests"`
	Confidence        float64        `json:"confidence"`
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

// Question is what is compared.
type Question struct {
	Incumbent, Candidate string
	// Strata are what both did, in the order of time.
	Strata []Stratum
	// Draws are where requests went, for each split that had both.
	Draws []Draw
	Need  drift.Need
	// Values are what came later of both, by signal.
	Values []Values
	// Candidates is how many are compared with this incumbent at once: the intervals of all of them
	// together hold with Confidence (Bonferroni).
	Candidates int
}

// Compare puts the candidate beside the incumbent, like with like: within the times in which both
// answered.
func Compare(q Question) Comparison {
	c := Comparison{
		Incumbent: q.Incumbent, Candidate: q.Candidate, Draws: q.Draws,
		Confidence: 1 - (1-Confidence)/float64(max(1, q.Candidates)),
		Mismatch:   mismatch(q.Draws, q.Incumbent, q.Candidate),
	}
	if c.Draws == nil {
		c.Draws = []Draw{}
	}
	strata, notes := together(q.Strata, q.Incumbent, q.Candidate)
	if len(strata) == 0 {
		strata, notes = pooled(q.Strata), nil
		if strata[0].both() {
			notes = []string{"The two never answered at the same time; what differs may be the time and not the " +
				"version."}
		}
	}
	for _, s := range strata {
		c.IncumbentRequests += requests(s.Incumbent)
		c.CandidateRequests += requests(s.Candidate)
	}
	c.Rows = append([]Row{errorRow(strata, c.Confidence, guard.Allowed)}, latencyRows(strata, c.Confidence)...)
	for _, v := range q.Values {
		c.Rows = append(c.Rows, v.row(c.Confidence))
	}
	inputs := distinctOf(strata)
	var left, more []string
	c.Predictions, left = distributions(strata, q, inputs,
		func(x *sketch.Content) map[string]*sketch.Column { return x.Outputs })
	c.Inputs, more = distributions(strata, q, inputs,
		func(x *sketch.Content) map[string]*sketch.Column { return x.Inputs })
	if left = append(left, more...); len(left) > 0 {
		notes = append(notes, "Counted on other bins at times, and left out then: "+strings.Join(left, ", ")+".")
	}
	c.Notes = append(append([]string{}, notes...), drawNotes(q.Draws, q.Incumbent, q.Candidate)...)
	a, b := formsOf(strata)
	c.Sentence = c.summarise(notes, formNotes(c.Incumbent, c.Candidate, a, b))
	return c
}

// judge turns an interval into a verdict. Whether there is a difference is asked first, and then whether
// it matters: worse within the margin is real and small, same lies around no difference.
func judge(d interval.Interval, none, low, high float64) Verdict {
	switch {
	case d.Low > none && d.High <= high:
		return WorseWithin
	case d.Low > none:
		return Worse
	case d.High < none:
		return Better
	case d.Low >= low && d.High <= high:
		return Same
	}
	return NotEnough
}

// nothing is the row of a span in which one side or both did nothing.
func (r Row) nothing(strata []Stratum) Row {
	var a, b uint64
	for _, s := range strata {
		a, b = a+requests(s.Incumbent), b+requests(s.Candidate)
	}
	r.Verdict, r.Sentence = NotEnough, nobody(a, b)
	return r
}

// summarise says the whole in a few sentences: what cannot be trusted, what is left out, which outputs
// are not there, then the rest, the worst first.
func (c *Comparison) summarise(left, forms []string) string {
	if c.Mismatch != "" {
		return c.Mismatch
	}
	parts := append(slices.Clone(left), forms...)
	if c.IncumbentRequests+c.CandidateRequests == 0 {
		return strings.Join(append(parts, nobody(0, 0)), " ")
	}
	parts = append(parts, fmt.Sprintf("%s answered %d requests, %s %d.", c.Candidate, c.CandidateRequests,
		c.Incumbent, c.IncumbentRequests))
	for _, r := range c.Rows {
		if _, latency := strings.CutPrefix(r.Signal, "latency_"); !latency || r.Signal == guard.LatencyP99 {
			parts = append(parts, r.Sentence)
		}
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
	case b == 0:
		return "The candidate answered nothing in this time."
	}
	return "No answer that counts in this time."
}

// points writes a difference of shares in percentage points.
func points(x float64) string { return fmt.Sprintf("%.2f", x*100) }

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
