package wire

import (
	"time"

	"innerladder/internal/core/outcome"
)

// NewOutcomes are truths that are told.
type NewOutcomes struct {
	Items []outcome.Truth `json:"items" required:"true" description:"1 to 1000 truths"`
	// Within bounds how far from its moment a request is looked for by keys.
	Within string `json:"within,omitempty" description:"how far from its time a request is found by keys, such as 30m"`
	// Replace has truths take the place of others that were told before.
	Replace bool `json:"replace,omitempty" description:"put them in the place of others that were told before"`
}

// OutcomesTaken says what became of truths.
type OutcomesTaken struct {
	Endpoint string `json:"endpoint"`
	// Pairs are how many predictions got a truth.
	Pairs int `json:"pairs" description:"predictions that got a truth"`
	outcome.Account
	// Keeps is what the log of the endpoint keeps, in words.
	Keeps string `json:"keeps" description:"of which requests the log keeps something"`
}

// Accuracy says how right the versions of an endpoint are, as far as the truth is known.
type Accuracy struct {
	Endpoint string            `json:"endpoint"`
	From     time.Time         `json:"from"`
	To       time.Time         `json:"to"`
	StepMS   int64             `json:"step_ms"`
	Items    []VersionAccuracy `json:"items" description:"one for each version and output, main first"`
}

// VersionAccuracy is how right one version is in one output.
type VersionAccuracy struct {
	Version string `json:"version"`
	Output  string `json:"output"`
	// Answered are the requests that it answered, Requests those of them whose truth is known.
	Answered uint64  `json:"answered" description:"requests that it answered in that time"`
	Requests int64   `json:"requests" description:"those of them whose truth is known"`
	Rows     int64   `json:"rows" description:"predictions whose truth is known"`
	Coverage float64 `json:"coverage" description:"the share of requests whose truth is known"`
	// Measures are the most telling first.
	Measures  []AccuracyMeasure           `json:"measures" description:"the most telling first"`
	Points    []AccuracyPoint             `json:"points" description:"the first measure over time"`
	Confusion map[string]map[string]int64 `json:"confusion,omitempty" description:"classes by truth and prediction"`
	Sentence  string                      `json:"sentence"`
}

// AccuracyMeasure is a measure beside what it was at registration.
type AccuracyMeasure struct {
	outcome.Measure
	Unit string `json:"unit,omitempty"`
	// LowerIsBetter says which way it is better.
	LowerIsBetter bool     `json:"lower_is_better"`
	Registered    *float64 `json:"registered,omitempty" description:"measured by a report, else as claimed"`
	Verdict       string   `json:"verdict,omitempty" enum:"better,worse,not enough to tell"`
}

// AccuracyPoint is a step of time.
type AccuracyPoint struct {
	At    time.Time `json:"at"`
	Rows  int64     `json:"rows"`
	Value float64   `json:"value"`
}

// OutcomesShown are single predictions with their truth, and where a version is worse than on the whole.
type OutcomesShown struct {
	Endpoint string         `json:"endpoint"`
	Items    []OutcomeShown `json:"items"`
	// Looked is how many predictions the segments are of.
	Looked   int              `json:"looked" description:"how many predictions the segments are of, the newest"`
	Measure  string           `json:"measure" description:"what the segments are measured by"`
	Whole    float64          `json:"whole" description:"the measure of all that were looked at"`
	Segments []OutcomeSegment `json:"segments" description:"levels and quarters of the inputs, the worst first"`
}

// OutcomeShown is a prediction with its truth.
type OutcomeShown struct {
	outcome.Pair
	Error  float64        `json:"error" description:"prediction less truth; of classes 1 where it was wrong"`
	Inputs map[string]any `json:"inputs,omitempty" description:"what was asked, as far as it is kept"`
}

// OutcomeSegment is a level, or a quarter, of an input.
type OutcomeSegment struct {
	Column string   `json:"column"`
	Level  string   `json:"level"`
	Rows   int      `json:"rows"`
	Value  float64  `json:"value"`
	Low    *float64 `json:"low,omitempty"`
	High   *float64 `json:"high,omitempty"`
	Worse  bool     `json:"worse" description:"surely worse than all together, for how many were looked at"`
}
