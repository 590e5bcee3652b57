package wire

import (
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/signature"
)

// Vocabulary is what a search can name.
type Vocabulary struct {
	Metrics []string `json:"metrics"`
	Rungs   []string `json:"rungs"`
	Formats []string `json:"formats"`
}

// Registration is what is said about a version when it is registered.
type Registration struct {
	Model string `json:"model"`
	// Project, Task, Description and Owner are for a model that is new.
	Project     string             `json:"project,omitempty" description:"of a new model; needed where you can choose"`
	Task        string             `json:"task,omitempty" enum:"regression,classification,other" description:"of a new model; read off the target when not given"`
	Description string             `json:"description,omitempty" description:"of a new model"`
	Owner       string             `json:"owner,omitempty" description:"of a new model; whoever registers when not given"`
	Note        string             `json:"note,omitempty"`
	Metrics     map[string]float64 `json:"metrics,omitempty" description:"with a run, its last values when not given"`
	// Meanings say what metrics mean, for all versions of the model.
	Meanings   metric.Meanings    `json:"metric_meanings,omitempty" description:"by metric, for all versions"`
	Params     map[string]string  `json:"params,omitempty" description:"with a run, its parameters when not given"`
	Importance map[string]float64 `json:"importance,omitempty" description:"how much each input counts"`
	Code       *lineage.Code      `json:"code,omitempty" description:"with a run, its code when not given"`
	Run        string             `json:"run,omitempty" description:"the run it came out of, such as run-12"`
	Targets    []string           `json:"targets,omitempty" description:"columns of the sample that are outputs"`
	Units      map[string]string  `json:"units,omitempty" description:"unit by column of the sample"`
	Sensitive  []string           `json:"sensitive,omitempty" description:"inputs by whose groups it is judged"`
	// Signature is one that was written by hand; ranges and levels that it leaves open
	// are filled in from the sample.
	Signature    *signature.Signature  `json:"signature,omitempty" description:"written by hand; else it is read from the sample or the model file"`
	Data         []lineage.DataUse     `json:"data,omitempty" description:"data sets it used; with a run, those of the run too"`
	Parents      []lineage.Parent      `json:"parents,omitempty" description:"versions it was made from"`
	Dependencies []registry.Dependency `json:"dependencies,omitempty" description:"packages it needs; else they are read from the part requirements"`
	Card         string                `json:"card,omitempty" description:"Markdown; else the part card"`
	Tags         []string              `json:"tags,omitempty"`
	Properties   map[string]string     `json:"properties,omitempty"`
	Labels       []string              `json:"labels,omitempty" description:"labels to put on the version, from wherever they are"`
	Tolerance    float64               `json:"tolerance,omitempty" description:"how far a number of a known answer may be off, in its own unit"`
	Uploads      []UploadUse           `json:"uploads,omitempty" description:"files that were uploaded in pieces"`
	Sources      []Source              `json:"sources,omitempty" description:"files to take from addresses"`
}

// UploadUse says what an upload in pieces is for.
type UploadUse struct {
	ID   string `json:"id" required:"true"`
	Part Part   `json:"part" required:"true"`
	Name string `json:"name,omitempty" description:"of the file; the upload's own when not given"`
}

// Source is a file at an address.
type Source struct {
	Address string `json:"address" required:"true" description:"https:// or file://"`
	Name    string `json:"name,omitempty" description:"of the artifact; the last part of the address when not given"`
	// Digest, when given, must be that of the bytes.
	Digest string `json:"digest,omitempty" description:"SHA-256 that the bytes must have"`
	// ReferenceOnly writes digest and size down and does not keep the bytes.
	ReferenceOnly bool `json:"reference_only,omitempty" description:"only write down digest and size"`
}

// Registered is a version that was registered, now or before.
type Registered struct {
	registry.Version
	Created bool `json:"created" description:"false when the same content was registered before"`
	// Remarks say what was passed over while reading the files.
	Remarks []string `json:"remarks,omitempty"`
}

// Foreseen is what a registration would make, and what the project's gates would say of it.
type Foreseen struct {
	Version registry.Version `json:"version" description:"as it would be registered; its number is the next one"`
	// Known is the version that has the same content already.
	Known   string     `json:"known,omitempty" description:"the version that has the same content already"`
	Remarks []string   `json:"remarks,omitempty" description:"what was passed over while reading the files"`
	Gate    GateReport `json:"gate" description:"what the gates up to the highest rung would say"`
	// Signature is what the incumbent takes and gives; Changes how the new one differs from it.
	Signature     *signature.Signature    `json:"incumbent_signature,omitempty"`
	Changes       []signature.Change      `json:"changes" description:"how its signature differs from the incumbent's"`
	Compatibility signature.Compatibility `json:"compatibility" enum:"compatible,widened,breaking,unknown"`
}

// Deleted says what was deleted.
type Deleted struct {
	Version string `json:"version"`
	Reason  string `json:"reason"`
}

// Collected is what a collection of files found.
type Collected struct {
	DryRun  bool     `json:"dry_run"`
	Files   int      `json:"files" description:"files that no version needs"`
	Bytes   int64    `json:"bytes"`
	Uploads int64    `json:"uploads" description:"bytes of uploads that nobody touched for a day"`
	Digests []string `json:"digests" description:"SHA-256 of the first thousand"`
}

// Uploading is an upload that comes in pieces.
type Uploading struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Size     int64  `json:"size,omitempty" description:"bytes expected; absent when not said"`
	Offset   int64  `json:"offset" description:"bytes that have come"`
	Complete bool   `json:"complete"`
	Digest   string `json:"digest,omitempty" description:"SHA-256 of the whole, once it is complete"`
}

// LookedAt is what can be read off a file before anything is registered.
type LookedAt struct {
	Name string `json:"name"`
	Size int64  `json:"size"`
	// Digest is empty for files that were not uploaded.
	Digest       string                `json:"digest,omitempty"`
	Contents     *registry.Contents    `json:"contents,omitempty"`
	Signature    *signature.Signature  `json:"signature,omitempty" description:"of a table, with all columns as inputs unless targets were named"`
	Rows         int                   `json:"rows,omitempty"`
	Card         *registry.Card        `json:"card,omitempty"`
	Dependencies []registry.Dependency `json:"dependencies,omitempty"`
	Report       string                `json:"report,omitempty" description:"the kind of evidence that it is"`
	Says         string                `json:"says,omitempty" description:"what the report says, in a few words"`
	Remarks      []string              `json:"remarks,omitempty"`
}
