package wire

import (
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/outcome"
)

// NewReports are values of custom signals that are reported.
type NewReports struct {
	Items []custom.Report `json:"items" required:"true" description:"1 to 1000 reports"`
	// Replace has values take the place of others that were reported before.
	Replace bool `json:"replace,omitempty" description:"put them in the place of others that were reported before"`
}

// ReportsTaken says what became of reports.
type ReportsTaken struct {
	Endpoint string `json:"endpoint"`
	Values   int    `json:"values" description:"numbers that count now and did not before"`
	outcome.Account
}

// EditCustom says what a custom signal is.
type EditCustom struct {
	Unit   string `json:"unit,omitempty" description:"such as EUR"`
	Better string `json:"better" required:"true" enum:"lower,higher" description:"which way is better"`
	About  string `json:"about,omitempty" description:"what it is, and where it comes from"`
	Reason string `json:"reason,omitempty"`
}

// CustomSignals are the custom signals of an endpoint, with what was reported of them.
type CustomSignals struct {
	Endpoint string         `json:"endpoint"`
	From     time.Time      `json:"from"`
	To       time.Time      `json:"to"`
	StepMS   int64          `json:"step_ms"`
	Items    []CustomSignal `json:"items"`
}

// CustomSignal is one of them.
type CustomSignal struct {
	custom.Signal
	Versions []CustomVersion `json:"versions" description:"main first"`
}

// CustomVersion is what was reported of one version.
type CustomVersion struct {
	Version string `json:"version"`
	// Answered are the requests that it answered, Requests those of them of which something was reported.
	Answered uint64  `json:"answered" description:"requests that it answered in that time"`
	N        uint64  `json:"n" description:"values"`
	Sum      float64 `json:"sum"`
	Mean     float64 `json:"mean"`
	// Low and High are the interval of the mean; nil for fewer than 20 values.
	Low       *float64 `json:"low,omitempty" description:"of the interval of the mean"`
	High      *float64 `json:"high,omitempty"`
	Deviation float64  `json:"deviation" description:"the standard deviation"`
	Least     float64  `json:"least"`
	P10       float64  `json:"p10" description:"within 1 %, as all quantiles are"`
	P50       float64  `json:"p50"`
	P90       float64  `json:"p90"`
	Most      float64  `json:"most"`
	// Points are the means over time.
	Points []CustomPoint `json:"points" description:"means over time"`
}

// CustomPoint is what was reported of a step.
type CustomPoint struct {
	At   time.Time `json:"at"`
	N    uint64    `json:"n"`
	Mean float64   `json:"mean"`
}
