package wire

import (
	"time"

	"innerladder/internal/core/request"
)

// Calls says who called an endpoint, and how much.
type Calls struct {
	Endpoint string      `json:"endpoint"`
	From     time.Time   `json:"from"`
	To       time.Time   `json:"to"`
	StepMS   int64       `json:"step_ms"`
	Total    uint64      `json:"total" description:"requests that a lane dealt with"`
	Items    []CallsOfIt `json:"items" description:"by name, who called most first; at most 200 a minute are told apart"`
}

// CallsOfIt are the calls of one caller.
type CallsOfIt struct {
	// Name is that of the caller's key, or else the one that they give.
	Name string `json:"name" description:"that of the key, or else what the header Inner-Ladder-Caller says"`
	request.Calls
	Last   time.Time    `json:"last" description:"when the minute began in which it called last, where minutes are kept"`
	Points []CallsPoint `json:"points" description:"over time; steps without a call are left out"`
}

// CallsPoint is one step of it.
type CallsPoint struct {
	At       time.Time `json:"at"`
	Requests uint64    `json:"requests"`
	Failed   uint64    `json:"failed"`
}
