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
}

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

// Step takes one check into account; reason is empty when the check went well.
func (r Rule) Step(s State, reason string, now time.Time) (State, Turn) {
	if reason == "" {
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
	s.Reason = reason
	if s.Healthy && s.Failing >= max(1, r.After) {
		s.Healthy = false
		return s, Fell
	}
	return s, Nothing
}

// Sentence says why a placement is unhealthy.
func (s State) Sentence(version, environment string) string {
	return fmt.Sprintf("%s in %s failed %d checks in a row: %s.", version, environment, s.Failing, s.Reason)
}
