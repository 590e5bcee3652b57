package wire

import (
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/signature"
)

// NewDataSet describes a revision of a data set.
type NewDataSet struct {
	Name        string             `json:"name" required:"true"`
	Project     string             `json:"project,omitempty" description:"of a new data set; needed if you can choose"`
	Address     string             `json:"address,omitempty" description:"where it lies"`
	Digest      string             `json:"digest,omitempty" description:"SHA-256 of its bytes"`
	Rows        int64              `json:"rows,omitempty"`
	Size        int64              `json:"size,omitempty" description:"bytes"`
	Schema      []signature.Column `json:"schema,omitempty"`
	Description string             `json:"description,omitempty"`
}

// AddedDataSet is a revision of a data set that was added, now or before.
type AddedDataSet struct {
	lineage.DataSet
	Created bool `json:"created" description:"false when the same revision was added before"`
}

// NewRun says what a run begins with.
type NewRun struct {
	Model   string            `json:"model" required:"true" description:"the model it trains; it need not exist yet"`
	Project string            `json:"project,omitempty" description:"of a new model; needed where you can choose"`
	Title   string            `json:"title,omitempty"`
	Machine string            `json:"machine,omitempty" description:"where it runs"`
	Params  map[string]string `json:"params,omitempty"`
	Code    *lineage.Code     `json:"code,omitempty"`
	Data    []lineage.DataUse `json:"data,omitempty"`
}

// Logged is what was taken in of a call that logs to a run.
type Logged struct {
	Run    string `json:"run"`
	Points int    `json:"points"`
	Params int    `json:"params"`
}

// TraceFrom says where a trace begins and how far it goes.
type TraceFrom struct {
	// From is a version, a data set (NAME or NAME#NUMBER), a run, a commit, or the id of a
	// request.
	From      string
	Direction string
	Depth     int
	Most      int
	Artifacts bool
}
