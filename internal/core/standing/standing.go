// Package standing is about the evaluation that every new version of a model is put to: what it is, and how far one is.
package standing

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/evidence"
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
	// Target, Output, Weight, Segments and Limits are as those of an evaluation.
	Target   string                    `json:"target" description:"the column with the truth"`
	Output   string                    `json:"output,omitempty"`
	Weight   string                    `json:"weight,omitempty"`
	Segments []string                  `json:"segments" description:"columns whose levels are looked at; all inputs when empty"`
	Limits   map[string]evidence.Limit `json:"limits,omitempty"`
	// Against is who each version is held against: a ref, @REF of the same model, incumbent, or nobody.
	Against string `json:"against,omitempty" description:"a ref such as @live, or incumbent"`
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
	switch {
	case strings.TrimSpace(e.Target) == "":
		return fault.New(fault.Invalid, "evaluate.target", "no column with the truth is named").In("target").
			Do("name one")
	case (e.Data == "") == (e.From == "") && e.Digest == "", e.Digest != "" && e.Rows() != e.Name:
		return fault.New(fault.Invalid, "standing.rows", "the rows are to come from a file, a data set or an address").
			In("data").Do("give one of them")
	}
	scheme, _, _ := strings.Cut(e.From, "://")
	if e.From != "" && !slices.Contains([]string{"http", "https", "file"}, scheme) {
		return fault.New(fault.Invalid, "standing.rows", "%.200q is no address to fetch rows from", e.From).In("from").
			Do("give an https:// or file:// address, which the service can reach")
	}
	return nil
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
