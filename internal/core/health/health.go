// Package health is the state machine of a placement's health: it is handed what a check
// has found, its own last state and the time, and answers with the next state and whether
// that has changed.
package health

import (
	"fmt"
	"time"
)

// Rule says when a placement is unhealthy: when it fails a few checks in a row. One good
// check makes it healthy again.
type Rule struct {
	// After is how many checks in a row must fail; at least 1.
	After int
}

// State is how a placement was at its last check.
type State struct {
	Healthy bool
	// Failing is how many checks in a row have failed, since FailingSince.
	Failing      int
	FailingSince time.Time
	// Reason is why the last failing check failed; empty when healthy.
	Reason string
	// Wrong is set when the last check found another model.
	Wrong bool
}

// Away reports whether the placement was not ready at its last check.
func (s State) Away() bool { return !s.Healthy || s.Failing > 0 }

// Turn is what a step changed.
type Turn int

// The turns.
const (
	Nothing Turn = iota
	// Fell: the placement is unhealthy from now on.
	Fell
	// Recovered: the placement is healthy again.
	Recovered
)

// Found is what a check has found.
type Found struct {
	// Reason says what is wrong; empty when the check went well.
	Reason string
	// Wrong is set when the server answers, and not what it must: it is another model. That
	// counts at once, as it will not pass.
	Wrong bool
}

// Step takes one check into account.
func (r Rule) Step(s State, found Found, now time.Time) (State, Turn) {
	if found.Reason == "" {
		turn := Nothing
		if !s.Healthy {
			turn = Recovered
		}
		return State{Healthy: true}, turn
	}
	if s.Failing == 0 {
		s.FailingSince = now
	}
	s.Failing++
	s.Reason, s.Wrong = found.Reason, found.Wrong
	if s.Healthy && (found.Wrong || s.Failing >= max(1, r.After)) {
		s.Healthy = false
		return s, Fell
	}
	return s, Nothing
}

// Sentence says why a placement is unhealthy.
func (s State) Sentence(version, environment string) string {
	if s.Wrong {
		return fmt.Sprintf("What runs in %s is not %s: %s.", environment, version, s.Reason)
	}
	return fmt.Sprintf("%s in %s failed %d checks in a row: %s.", version, environment, s.Failing, s.Reason)
}
