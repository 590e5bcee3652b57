package registry

import "time"

// Vetting says that the organisation stands behind a model as a place to start from.
type Vetting struct {
	By  string    `json:"by"`
	At  time.Time `json:"at"`
	Why string    `json:"why"`
}

// Model is a named line of versions for one task.
type Model struct {
	Name        string            `json:"name"`
	Project     string            `json:"project"`
	Task        Task              `json:"task" enum:"regression,classification,other"`
	Description string            `json:"description"`
	Owner       string            `json:"owner"`
	Vetted      *Vetting          `json:"vetted,omitempty" description:"who marked it as a place to start from; absent when nobody did"`
	Tags        []string          `json:"tags,omitempty"`
	Properties  map[string]string `json:"properties,omitempty"`
	Labels      map[string]int    `json:"labels,omitempty" description:"number of the version by label"`
	CreatedBy   string            `json:"created_by"`
	CreatedAt   time.Time         `json:"created_at"`
	Versions    int               `json:"versions" description:"how many versions it has"`
	// Newest is the number of the newest version, 0 when there is none.
	Newest int `json:"newest"`
	// Standing lists the newest versions on each rung, by rung; Counts says how many
	// there are.
	Standing map[string][]int `json:"standing" description:"numbers of the newest versions on each rung, at most 12"`
	Counts   map[string]int   `json:"counts" description:"how many versions stand on each rung"`
	// ID is its number in the records.
	ID int64 `json:"-"`
}

// Label is a movable name for one version of a model.
type Label struct {
	Name    string `json:"name"`
	Version string `json:"version" description:"MODEL@NUMBER"`
	// Environment is where the version must be placed for as long as it has the label;
	// empty for a label that says nothing about places.
	Environment string    `json:"environment,omitempty"`
	MovedBy     string    `json:"moved_by"`
	MovedAt     time.Time `json:"moved_at"`
}

// Project is a team's space.
type Project struct {
	Name        string    `json:"name"`
	Description string    `json:"description"`
	AddedBy     string    `json:"added_by"`
	AddedAt     time.Time `json:"added_at"`
	Models      int       `json:"models"`
}

// SavedSearch is a search of the record that somebody keeps.
type SavedSearch struct {
	ID     int64             `json:"id"`
	Name   string            `json:"name"`
	Owner  string            `json:"owner"`
	Shared bool              `json:"shared" description:"everyone who may search the record can use it"`
	Query  map[string]string `json:"query" description:"the query parameters of a search"`
	MadeAt time.Time         `json:"made_at"`
}
