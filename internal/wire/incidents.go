package wire

import "innerladder/internal/core/incident"

// ShownIncident is an incident with its text as a document.
type ShownIncident struct {
	incident.Incident
	Title    string `json:"title"`
	Markdown string `json:"markdown" description:"all of it as a document"`
}

// HandleIncident is what somebody adds to an incident; what is absent stays.
type HandleIncident struct {
	Note     string       `json:"note,omitempty"`
	Cause    *string      `json:"cause,omitempty"`
	FollowUp *NewFollowUp `json:"follow_up,omitempty"`
	Done     int          `json:"done,omitempty" description:"the number of a follow-up that is done"`
	State    string       `json:"state,omitempty" enum:"open,closed"`
}

// NewFollowUp is something to do so that it does not happen again.
type NewFollowUp struct {
	Text string `json:"text"`
	Who  string `json:"who,omitempty"`
	Due  string `json:"due,omitempty" description:"a day, YYYY-MM-DD"`
}
