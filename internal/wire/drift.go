package wire

import (
	"time"

	"innerladder/internal/core/compare"
)

// Against is what a span of traffic is held against.
type Against string

const (
	// AgainstReference is the reference profile of the version.
	AgainstReference Against = "reference"
	// AgainstBefore is the time of the same length just before.
	AgainstBefore Against = "before"
	// AgainstWeek is the same hours of the four weeks before.
	AgainstWeek Against = "week"
	// AgainstMain is main at the same time.
	AgainstMain Against = "main"
)

// Enum lists them for the document of the API.
func (Against) Enum() []any { return []any{AgainstReference, AgainstBefore, AgainstWeek, AgainstMain} }

// Drift says how far the columns of an endpoint's requests and answers are from what they are held against.
type Drift struct {
	Endpoint string    `json:"endpoint"`
	Version  string    `json:"version,omitempty" description:"whose requests; absent: of all that callers are dealt to"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	StepMS   int64     `json:"step_ms"`
	Against  Against   `json:"against"`
	// AgainstFrom and AgainstTo are when that was; absent for a reference.
	AgainstFrom *time.Time `json:"against_from,omitempty"`
	AgainstTo   *time.Time `json:"against_to,omitempty"`
	// Note says what is to be thought of when it is read.
	Note  string        `json:"note,omitempty"`
	Items []ColumnDrift `json:"items" description:"inputs and then outputs, each ranked by effect"`
	Left  []string      `json:"left" description:"columns that one side lacks, or that were counted otherwise"`
}

// Step is how long a step is.
func (d *Drift) Step() time.Duration { return time.Duration(d.StepMS) * time.Millisecond }

// ColumnDrift is one column: the incumbent is what it is held against, the candidate what is seen.
type ColumnDrift struct {
	Side string `json:"side" enum:"input,output"`
	compare.Distribution
	Points []DriftPoint `json:"points" description:"how far it was in each step of time"`
}

// DriftPoint is a step of time.
type DriftPoint struct {
	At time.Time `json:"at"`
	compare.Step
}
