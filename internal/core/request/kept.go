// Package request is about single requests: why the gateway turns one away, what is kept of each in the log of an
// endpoint, and how those that were kept are found again. It sees bodies as JSON of the Open Inference Protocol.
package request

import (
	"encoding/json"
	"time"

	"innerladder/internal/core/sketch"
)

// Outcome is how a request ended, in a word.
type Outcome string

// The outcomes. All but Answered, CallerError and Refused are failures of a version.
const (
	Answered    Outcome = "answered"
	CallerError Outcome = "caller_error"
	ServerError Outcome = "server_error"
	TimedOut    Outcome = "timed_out"
	NotReached  Outcome = "not_reached"
	Malformed   Outcome = "malformed"
	Abandoned   Outcome = "abandoned"
	// Refused was turned away by the gateway before any version dealt with it.
	Refused Outcome = "refused"
)

// Outcomes lists them all.
func Outcomes() []Outcome {
	return []Outcome{Answered, CallerError, ServerError, TimedOut, NotReached, Malformed, Abandoned, Refused}
}

// Enum lists them for the document of the API.
func (Outcome) Enum() []any {
	all := make([]any, len(Outcomes()))
	for i, o := range Outcomes() {
		all[i] = o
	}
	return all
}

// OutcomeOf names a class of what was observed. What was unavailable for its caller counts as not reached.
func OutcomeOf(c sketch.Class) Outcome {
	switch c {
	case sketch.Answered:
		return Answered
	case sketch.CallerError:
		return CallerError
	case sketch.ServerError:
		return ServerError
	case sketch.TimedOut:
		return TimedOut
	case sketch.Malformed:
		return Malformed
	case sketch.Abandoned:
		return Abandoned
	}
	return NotReached
}

// Class is how what ended so is counted; false for what is no way in which a version's answer ends.
func (o Outcome) Class() (sketch.Class, bool) {
	for c := sketch.Answered; c < sketch.Unavailable; c++ {
		if OutcomeOf(c) == o {
			return c, true
		}
	}
	return 0, false
}

// RefusedLane is the lane of requests that were turned away.
const RefusedLane = "refused"

// Kept is what the log of an endpoint has of one request. Copies for shadows are not in it: nobody asked for them.
type Kept struct {
	ID string `json:"id" description:"what the answer's header Inner-Ladder-Request said"`
	// Ended is when the answer had been written.
	Ended    time.Time `json:"ended" description:"when the answer had been written"`
	Endpoint string    `json:"endpoint,omitempty" description:"absent where the path named none that exists"`
	// Asked is the path as it was asked for, where it led nowhere.
	Asked string `json:"asked,omitempty" description:"method and path, where they led nowhere"`
	Split int    `json:"split,omitempty" description:"the split in force then"`
	Lane  string `json:"lane" enum:"main,trial,pinned,refused"`
	// Version dealt with it; Instead was to and could not.
	Version string  `json:"version,omitempty" description:"that dealt with it"`
	Instead string  `json:"instead_of,omitempty" description:"the version that was to deal with it and could not"`
	Key     string  `json:"key,omitempty" description:"whose key the request had"`
	Outcome Outcome `json:"outcome"`
	Status  int     `json:"status" description:"the status that the caller got, 499 for none"`
	// Reason is the code of an answer of our own.
	Reason string `json:"reason,omitempty" description:"the code of an answer that was the gateway's own"`
	// Total runs from the request read to the answer written, Backend is the model server's part; microseconds.
	Total   int64 `json:"total_us" description:"from the request read to the answer written, microseconds"`
	Backend int64 `json:"backend_us" description:"the model server's part of it, microseconds"`
	// Request and Answer are bodies as the endpoint keeps them; the notes say why one is not here whole.
	Request      json.RawMessage `json:"request,omitempty" description:"as the endpoint keeps it"`
	RequestBytes int64           `json:"request_bytes"`
	RequestNote  string          `json:"request_note,omitempty" description:"why it is not here, or not as it was"`
	Answer       json.RawMessage `json:"answer,omitempty" description:"as the endpoint keeps it"`
	AnswerBytes  int64           `json:"answer_bytes"`
	AnswerNote   string          `json:"answer_note,omitempty" description:"why it is not here, or not as it was"`
	// Chance is the probability with which such a request was kept then.
	Chance float64 `json:"chance" description:"with which such a request was kept then; 1 where all were"`
}

// Answered reports whether a version answered it.
func (e *Kept) Answered() bool { return e.Outcome == Answered }

// Failed reports whether the version that dealt with it failed.
func (e *Kept) Failed() bool {
	return e.Outcome != Answered && e.Outcome != CallerError && e.Outcome != Refused
}
