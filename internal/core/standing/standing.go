// Package standing is about the evaluation that every new version of a model is put to: what it is, and how far one is.
package standing

import (
	"fmt"
	"strconv"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/job"
)

// Incumbent stands for whoever answers main for the model by then, or stands on the highest rung where nothing answers.
const Incumbent = "incumbent"

// Standing is what new versions of a model are evaluated on. Another one in its place has the next number.
type Standing struct {
	Model   string `json:"model"`
	Project string `json:"project"`
	Number  int    `json:"number" description:"counts up with each change"`
	// Data is a data set with a known address, or From an address that is fetched for each version.
	Data string `json:"data,omitempty" description:"a data set whose address is known"`
	From string `json:"from,omitempty" description:"an address that is fetched for each version"`
	// Digest is the SHA-256 of a file that the service keeps, Name how that is called.
	Digest string `json:"digest,omitempty" description:"of the file with the rows, which the service keeps"`
	Name   string `json:"name,omitempty" description:"of that file"`
	// Judging is as that of an evaluation, but for Against, which is found out for each version: a ref such as
	// heat-demand@live, Incumbent, or nobody.
	job.Judging
	// After is the highest number of a version when it was set: versions above it are evaluated by themselves.
	After int       `json:"after" description:"versions with higher numbers are evaluated by themselves"`
	By    string    `json:"by"`
	SetAt time.Time `json:"set_at"`
}

// ID names it: heat-demand#2.
func (e *Standing) ID() string { return e.Model + "#" + strconv.Itoa(e.Number) }

// Rows is where its rows come from.
func (e *Standing) Rows() string { return e.Data + e.From + e.Name }

// Check refuses what cannot be meant.
func (e *Standing) Check() error {
	if (e.Data == "") == (e.From == "") && e.Digest == "" || e.Digest != "" && e.Rows() != e.Name {
		return fault.New(fault.Invalid, "standing.rows", "the rows are to come from a file, a data set or an address").
			In("data").Do("give one of them")
	}
	if e.From == "" {
		return nil
	}
	return job.CheckAddress("standing", e.From)
}

// State is how far a version is.
type State string

// The states. A version waits that cannot be asked yet, with why; what is judged has a report.
const (
	Waiting State = "waiting"
	Going   State = "going"
	Judged  State = "judged"
	Broken  State = "broken"
)

// Candidate is how far one version is with it.
type Candidate struct {
	Version string `json:"version"`
	State   State  `json:"state" enum:"waiting,going,judged,broken"`
	Job     string `json:"job,omitempty"`
	// Evidence is the report.
	Evidence string `json:"evidence,omitempty"`
	// Verdict is that of the report.
	Verdict string `json:"verdict,omitempty" enum:"passed,failed,none"`
	Why     string `json:"why,omitempty" description:"why it waits, or is broken"`
}

// Of is how far the version of a job is.
func Of(j *job.Job) Candidate {
	r := Candidate{Version: j.Scoring.Version, Job: j.ID, State: Going}
	switch {
	case j.State == job.Done:
		r.State, r.Evidence = Judged, j.Evaluating.Evidence
	case j.Ended():
		r.State, r.Why = Broken, fmt.Sprintf("%s: %s", j.State, j.Reason)
	}
	return r
}
