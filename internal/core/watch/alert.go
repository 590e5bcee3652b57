// Package watch says what alerts are.
package watch

import (
	"time"

	"innerladder/internal/core/naming"
)

// AlertKind is what an alert is about.
type AlertKind string

// The kinds of alerts.
const (
	// RolledBack: a guard has ended a trial.
	RolledBack AlertKind = "rolled_back"
	// GuardFired: a guard has fired that changes nothing, or cannot.
	GuardFired AlertKind = "guard_fired"
	// RolloutHeld: a rollout is held and waits for somebody.
	RolloutHeld AlertKind = "rollout_held"
	// RolloutRefused: a rollout was given up before it began.
	RolloutRefused AlertKind = "rollout_refused"
	// PlacementUnhealthy: a version that answers has no healthy address.
	PlacementUnhealthy AlertKind = "placement_unhealthy"
	// Fired: a watch of an endpoint fires.
	Fired AlertKind = "watch_fired"
	// SignalsAway: what is measured cannot be written or read.
	SignalsAway AlertKind = "signals_away"
	// SignalsLost: what was measured is gone.
	SignalsLost AlertKind = "signals_lost"
	// RecordsAway: for some time nothing could be recorded. It is told of when that is over, because it is recorded
	// itself.
	RecordsAway AlertKind = "records_away"
)

// Enum lists the kinds for the document of the API.
func (AlertKind) Enum() []any {
	return []any{
		RolledBack,
		GuardFired,
		RolloutHeld,
		RolloutRefused,
		PlacementUnhealthy,
		Fired,
		SignalsAway,
		SignalsLost,
		RecordsAway,
	}
}

// Says is what an alert of a kind says of its subject; ok is false for a kind that there
// is not.
func (k AlertKind) Says() (says string, ok bool) {
	says, ok = map[AlertKind]string{
		RolledBack: "was rolled back", GuardFired: "is worse than allowed", RolloutHeld: "is held in its rollout",
		RolloutRefused: "was not rolled out", PlacementUnhealthy: "is not healthy",
		Fired:       "beyond what is allowed",
		SignalsAway: "cannot be written", SignalsLost: "were lost",
		RecordsAway: "could not be written",
	}[k]
	return says, ok
}

// Repeats reports whether each alert of the kind stands for itself. Of other kinds there is
// one about a subject at a time.
func (k AlertKind) Repeats() bool {
	return k == RolledBack || k == SignalsLost || k == RecordsAway || k == RolloutHeld || k == RolloutRefused
}

// Alert is what a guard or a watch raised.
type Alert struct {
	ID       string    `json:"id" description:"A-NUMBER"`
	Kind     AlertKind `json:"kind"`
	Project  string    `json:"project" description:"empty when it is about the service itself"`
	Endpoint string    `json:"endpoint" description:"empty when it is about the service itself"`
	// Incident is the page about it, for a rollback.
	Incident string `json:"incident,omitempty" description:"I-NUMBER, for a rollback"`
	// Owner and Runbook are those of the endpoint.
	Owner   string `json:"owner,omitempty" description:"whose endpoint it is"`
	Runbook string `json:"runbook,omitempty" description:"what to do, at this address"`
	// Subject is the version it is about; Signal what was measured.
	Subject   string     `json:"subject"`
	Signal    string     `json:"signal"`
	Sentence  string     `json:"sentence"`
	State     string     `json:"state" enum:"open,acknowledged,resolved"`
	RaisedAt  time.Time  `json:"raised_at"`
	HandledBy string     `json:"handled_by,omitempty"`
	HandledAt *time.Time `json:"handled_at,omitempty"`
	Note      string     `json:"note,omitempty"`
}

// ids are how alerts are known.
var ids = naming.Numbered{Prefix: "A-", What: "alert"}

// ID writes the number of an alert as people do.
func ID(number int) string { return ids.ID(int64(number)) }

// ParseID reads A-31.
func ParseID(field, s string) (int, error) {
	n, err := ids.Parse(field, s)
	return int(n), err
}
