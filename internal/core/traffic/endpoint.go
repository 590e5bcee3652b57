package traffic

import (
	"fmt"
	"strings"
	"time"

	"innerladder/internal/core/custom"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/request"
	"innerladder/internal/core/watch"
)

// Endpoint is the stable name that callers call.
type Endpoint struct {
	Name        string      `json:"name"`
	Project     string      `json:"project"`
	Model       string      `json:"model"`
	Environment string      `json:"environment"`
	Rung        string      `json:"rung" description:"the rung that versions must stand on to answer"`
	Description string      `json:"description"`
	Terms       guard.Terms `json:"terms" description:"what trials and a new main are held to"`
	// Keyed endpoints answer only callers that have a key.
	Keyed bool `json:"keyed" description:"true when callers need a key"`
	// Sticky is what keeps callers on their lane.
	Sticky string `json:"sticky,omitempty" description:"keeps callers on their lane: key, caller, header NAME, …"`
	// Repeatable endpoints may be asked twice without harm.
	Repeatable bool `json:"repeatable" description:"asking twice does no harm: what failed is sent again"`
	// Checked endpoints hold requests against their contract before a model server sees them.
	Checked bool `json:"checked" description:"requests that do not keep the contract are refused by the gateway"`
	// Requests says what is kept of single requests.
	Requests request.Keeping `json:"requests" description:"what is kept of single requests"`
	// Watches are what people say about its watching.
	Watches watch.Set `json:"watches" description:"who owns it, and what is watched otherwise than usual"`
	// Custom are the signals of its own that it has.
	Custom    []custom.Signal `json:"custom" description:"signals of its own, whose values are reported"`
	CreatedBy string          `json:"created_by"`
	CreatedAt time.Time       `json:"created_at"`
	// Split is the one in force; nil until the first.
	Split *Split `json:"split,omitempty"`
	// Rollout is the one that moves it now, empty for none.
	Rollout string `json:"rollout,omitempty" description:"R-NUMBER of the rollout that moves it now"`
	// Back is the split that a way back leads to; nil when it leads nowhere by itself.
	Back *Split `json:"back,omitempty" description:"where a way back leads by itself; absent in lists"`
	// ID is the endpoint's number, which request ids carry.
	ID int64 `json:"-"`
}

// MainVersion is the version in its main lane, empty where none answers yet.
func (e *Endpoint) MainVersion() string {
	if e.Split == nil {
		return ""
	}
	return e.Split.Main().Version
}

// CustomOf is the endpoint's signal of its own of a name, nil where it has none.
func (e *Endpoint) CustomOf(name string) *custom.Signal {
	for i := range e.Custom {
		if e.Custom[i].Name == name {
			return &e.Custom[i]
		}
	}
	return nil
}

// CheckSignal says whether the endpoint has a signal, if that is one of its own.
func (e *Endpoint) CheckSignal(field, signal string) error {
	name, is := strings.CutPrefix(signal, guard.Custom+".")
	if !is || e.CustomOf(name) != nil {
		return nil
	}
	return fault.New(fault.Unknown, "custom.unknown", "%s has no signal %s of its own", e.Name, name).In(field).
		Do("say first what it is with: innerladder custom set %s %s -better lower", e.Name, name)
}

// CheckTerms says whether the endpoint has all signals that terms name.
func (e *Endpoint) CheckTerms(t guard.Terms) error {
	for i, g := range t.Guards {
		if err := e.CheckSignal(fmt.Sprintf("terms.guards[%d].signal", i), g.Signal); err != nil {
			return err
		}
	}
	return nil
}

// Caller is a program that may call an endpoint with its key.
type Caller struct {
	Name   string    `json:"name"`
	Hint   string    `json:"hint" description:"how the key ends"`
	MadeBy string    `json:"made_by"`
	MadeAt time.Time `json:"made_at"`
	// Digest is the SHA-256 of the key.
	Digest []byte `json:"-"`
}
