package wire

import (
	"encoding/json"
	"time"

	"innerladder/internal/core/request"
)

// Requests is part of the log of an endpoint.
type Requests struct {
	Items []request.Kept `json:"items"`
	// Next leads to older ones, Newest to those that come later.
	Next   string `json:"next,omitempty" description:"give it back as cursor for older ones"`
	Newest string `json:"newest" description:"give it back as after for those that have come since"`
	// Until is how far back was looked, where that is not as far as was asked for.
	Until *time.Time `json:"until,omitempty" description:"how far back was looked, where there is more to look through"`
	// Waiting are on their way into the log; Lost could not be kept since the service started.
	Waiting int    `json:"waiting" description:"requests of all endpoints that are on their way into the log"`
	Lost    uint64 `json:"lost" description:"requests, of all endpoints, not kept since the service started"`
	Trouble string `json:"trouble,omitempty" description:"why nothing is kept now"`
}

// RequestFilter says which requests are looked for; what is empty narrows nothing.
type RequestFilter struct {
	// Endpoint is empty for requests that found none.
	Endpoint string
	From, To time.Time
	// Back is how far back From is, where it is not given.
	Back    time.Duration
	Lane    string
	Version string
	Key     string
	Outcome string
	Reason  string
	Status  int
	Slower  time.Duration
	Trouble bool
	Where   []string
	Limit   int
	Cursor  string
	After   string
}

// RequestShown is one request, with the versions on which it can be tried.
type RequestShown struct {
	request.Kept
	Versions []string `json:"versions" description:"that it can be tried on: they run where this endpoint's do"`
}

// LikeIt are the requests whose inputs are nearest to those of one.
type LikeIt struct {
	Items []request.Near `json:"items" description:"nearest first"`
	// Looked is how many were looked at.
	Looked int `json:"looked" description:"how many were looked at, newest first"`
}

// TryAgain says on which version a request is tried again.
type TryAgain struct {
	Version string `json:"version,omitempty" description:"the version that answered it when not given"`
}

// Tried is what came of trying a request again.
type Tried struct {
	Request string          `json:"request" description:"the id of the request that was tried again"`
	Version string          `json:"version" description:"that was asked"`
	Status  int             `json:"status" description:"0 when there was no answer"`
	TookMS  float64         `json:"took_ms"`
	Answer  json.RawMessage `json:"answer,omitempty"`
	Trouble string          `json:"trouble,omitempty" description:"why there is no answer"`
	// Before is what was answered then, as far as that is kept; Differences say where both differ.
	Before      json.RawMessage `json:"before,omitempty" description:"what was answered then, as far as it is kept"`
	Compared    bool            `json:"compared" description:"whether both could be held against each other"`
	Differences []string        `json:"differences" description:"where both differ, in words"`
}

// TryVersions says what versions are asked.
type TryVersions struct {
	Versions    []string `json:"versions" required:"true" description:"of one model; others are held against the first"`
	Environment string   `json:"environment" required:"true" description:"where they are placed"`
	// Request is asked as it is; without one the sample of the first version's signature is.
	Request json.RawMessage `json:"request,omitempty" description:"what is asked; the sample when not given"`
	Inputs  map[string]any  `json:"inputs,omitempty" description:"other values for some: one, or as many as it has"`
}

// TriedVersions is what versions answered.
type TriedVersions struct {
	Environment string          `json:"environment"`
	Request     json.RawMessage `json:"request" description:"what they were asked"`
	Items       []TriedVersion  `json:"items"`
}

// TriedVersion is what one version answered.
type TriedVersion struct {
	Version string          `json:"version"`
	Status  int             `json:"status" description:"0 when there was no answer"`
	TookMS  float64         `json:"took_ms"`
	Answer  json.RawMessage `json:"answer,omitempty"`
	Trouble string          `json:"trouble,omitempty" description:"why there is no answer"`
	// Compared and Differences hold it against the first version's answer.
	Compared    bool     `json:"compared" description:"whether it could be held against the first version's answer"`
	Differences []string `json:"differences" description:"where it differs from that, in words"`
}

// Refusals is what the gateway turned away, by reason.
type Refusals struct {
	// Endpoint is empty for requests that found none.
	Endpoint string    `json:"endpoint"`
	From     time.Time `json:"from"`
	To       time.Time `json:"to"`
	StepMS   int64     `json:"step_ms"`
	Total    uint64    `json:"total"`
	Items    []Refusal `json:"items" description:"most frequent first"`
}

// Refusal is how often requests were turned away for one reason.
type Refusal struct {
	Reason string `json:"reason" description:"the code of the error that callers got"`
	What   string `json:"what" description:"what such requests did"`
	Count  uint64 `json:"count"`
	// Points are in the order of time; steps without any are left out.
	Points []RefusalPoint `json:"points" description:"in the order of time; steps without any are left out"`
}

// RefusalPoint is how often that was in one step.
type RefusalPoint struct {
	At    time.Time `json:"at"`
	Count uint64    `json:"count"`
}

// ExplainVersions asks which inputs moved the predictions of versions for one row.
type ExplainVersions struct {
	TryVersions
	// Output is what is explained; of a list of numbers, the largest.
	Output string `json:"output,omitempty" description:"what is explained; the first output when not given"`
	// Pairs are orders of the inputs that are drawn, each forwards and backwards.
	Pairs int `json:"pairs,omitempty" minimum:"10" maximum:"2000" description:"orders drawn; 100 when not given"`
}

// Explained says which inputs moved predictions.
type Explained struct {
	Environment string          `json:"environment"`
	Request     json.RawMessage `json:"request" description:"what is explained"`
	Pairs       int             `json:"pairs"`
	// Inputs are those that can have moved it, with their values; Fixed are in no reference profile.
	Inputs []ExplainedInput   `json:"inputs" description:"that can have moved it"`
	Fixed  []string           `json:"fixed,omitempty" description:"in no reference profile, kept as they are"`
	Items  []ExplainedVersion `json:"items"`
}

// ExplainedInput is an input with its value.
type ExplainedInput struct {
	Name  string          `json:"name"`
	Value json.RawMessage `json:"value"`
}

// ExplainedVersion is the explanation of one version's prediction: the base and what each input moved add up to the
// value.
type ExplainedVersion struct {
	Version   string    `json:"version"`
	Output    string    `json:"output" description:"what is explained"`
	Value     float64   `json:"value" description:"what it predicts"`
	Base      float64   `json:"base" description:"what it predicts on the average of the background"`
	BaseError float64   `json:"base_error" description:"half the interval of the base, of 95 %"`
	Moved     []MovedBy `json:"moved" description:"by each input, in their order"`
}

// MovedBy is by how much an input moved a prediction.
type MovedBy struct {
	By    float64 `json:"by" description:"in the unit of the output"`
	Error float64 `json:"error" description:"half the interval, of 95 %"`
}
