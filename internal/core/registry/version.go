package registry

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"math"
	"regexp"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/lineage"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/profile"
	"innerladder/internal/core/signature"
)

// Task is what a model is for.
type Task string

// The tasks.
const (
	Regression     Task = "regression"
	Classification Task = "classification"
	Other          Task = "other"
)

// ParseTask reads a task.
func ParseTask(field, s string) (Task, error) {
	switch t := Task(s); t {
	case Regression, Classification, Other:
		return t, nil
	}
	return "", fault.New(fault.Invalid, "model.task", "%q is no task", s).In(field).
		Do("use regression, classification or other")
}

// Artifact is one file of a version.
type Artifact struct {
	Name   string `json:"name"`
	Digest string `json:"digest" description:"SHA-256 of the bytes, in hexadecimal"`
	Size   int64  `json:"size" description:"bytes"`
	// Stored is false when only the digest was written down and the bytes are at the
	// address.
	Stored bool `json:"stored" description:"false when the bytes are not kept here but only referenced"`
	// Address is where the bytes came from, when they came from an address.
	Address  string   `json:"address,omitempty"`
	Contents Contents `json:"contents"`
}

// Attachment is a file that belongs to a version and is no part of the model: a
// document, a notebook, a picture.
type Attachment struct {
	Name    string    `json:"name"`
	Digest  string    `json:"digest" description:"SHA-256 of the bytes, in hexadecimal"`
	Size    int64     `json:"size" description:"bytes"`
	Media   string    `json:"media" description:"media type, read from the bytes"`
	AddedBy string    `json:"added_by"`
	AddedAt time.Time `json:"added_at"`
}

var separators = regexp.MustCompile(`[-_.]+`)

// PackageName is a package's name in the form in which names are compared (PEP 503): case does
// not count, and neither do dots, dashes and underscores.
func PackageName(s string) string { return separators.ReplaceAllString(strings.ToLower(s), "-") }

// Dependency is a package that a version needs to run.
type Dependency struct {
	Name string `json:"name"`
	// Want is the versions that will do, as they were written: ==1.4.2, >=2,<3; empty
	// for any.
	Want string `json:"want,omitempty"`
	// Extra is what else the line said: extras, markers, an address.
	Extra string `json:"extra,omitempty"`
}

// Version is one release of a model. What it was registered with is immutable; the
// rung it stands on, its note, tags, properties, labels and attachments may change.
type Version struct {
	Ref       string     `json:"ref" description:"MODEL@NUMBER"`
	Project   string     `json:"project"`
	Model     string     `json:"model"`
	Number    int        `json:"number"`
	Digest    string     `json:"digest" description:"SHA-256 over everything that makes the version what it is"`
	Note      string     `json:"note,omitempty"`
	Artifacts []Artifact `json:"artifacts"`
	// Metrics are those that count: measured, or where no report has them, claimed.
	Metrics  map[string]float64         `json:"metrics" description:"measured by a report, else as claimed"`
	Measured map[string]metric.Measured `json:"measured,omitempty" description:"those that a report measured"`
	// Meanings are what its model's metrics mean.
	Meanings     metric.Meanings      `json:"meanings,omitempty" description:"what its metrics mean, where it was said"`
	Params       map[string]string    `json:"params"`
	Importance   map[string]float64   `json:"importance,omitempty" description:"how much each input counts, as the trainer measured it"`
	Signature    *signature.Signature `json:"signature,omitempty"`
	Code         *lineage.Code        `json:"code,omitempty"`
	Run          string               `json:"run,omitempty" description:"the run it came out of, such as run-12"`
	Data         []lineage.DataUse    `json:"data,omitempty"`
	Parents      []lineage.Parent     `json:"parents,omitempty"`
	Dependencies []Dependency         `json:"dependencies,omitempty"`
	Card         *Card                `json:"card,omitempty"`
	// SampleRequest is one that the version can answer, in the Open Inference Protocol.
	SampleRequest json.RawMessage   `json:"sample_request,omitempty"`
	Labels        []string          `json:"labels,omitempty"`
	Tags          []string          `json:"tags,omitempty"`
	Properties    map[string]string `json:"properties,omitempty"`
	Attachments   []Attachment      `json:"attachments,omitempty"`
	ProfileRows   int               `json:"profile_rows,omitempty" description:"rows behind the reference profile; 0 when there is none"`
	Rung          string            `json:"rung"`
	RungSince     time.Time         `json:"rung_since"`
	// RungBy is the promotion by which it stepped there; empty when it came there otherwise.
	RungBy string `json:"rung_by,omitempty" description:"the promotion by which it came there; absent when it came there otherwise"`
	// Emergency is set while it stands where it stepped past a gate.
	Emergency Emergency `json:"emergency,omitempty" enum:"to_review,reviewed" description:"it stepped there past the gate: to_review until someone other than its author signs that this was right"`
	// RolledBack is set while a way back took it out of an endpoint that it has not answered for
	// since.
	RolledBack *RolledBack `json:"rolled_back,omitempty" description:"when it was last taken out of an endpoint"`
	// KnownAnswers are what it must answer; nil while none are known.
	KnownAnswers *answers.Known `json:"known_answers,omitempty" description:"what it must answer, which proves what a server runs"`
	CreatedBy    string         `json:"created_by"`
	CreatedAt    time.Time      `json:"created_at"`
	// Profile is the reference profile; it is large and read on its own.
	Profile *profile.Profile `json:"-"`
}

// RolledBack says that a guard or a person took a version out of an endpoint for a reason.
type RolledBack struct {
	Endpoint string    `json:"endpoint"`
	Split    int       `json:"split" description:"the split that was left"`
	Instead  string    `json:"instead" description:"the version that answered main in its place"`
	By       string    `json:"by"`
	At       time.Time `json:"at"`
	Why      string    `json:"why"`
	Alert    string    `json:"alert,omitempty" description:"absent when a person decided it"`
	Incident string    `json:"incident,omitempty" description:"I-NUMBER of the page about it"`
}

// noPraise is the verdict on a metric of the version. One that was rolled back is not called
// better for what was measured before: what it did under traffic counts more.
func (v *Version) noPraise(verdict string) string {
	if v.RolledBack != nil && verdict == "better" {
		return "changed"
	}
	return verdict
}

// Emergency marks a version that stepped on its rung past the gate.
type Emergency string

// EmergencyMark is the mark while the review is open, and after.
func EmergencyMark(open bool) Emergency {
	if open {
		return "to_review"
	}
	return "reviewed"
}

// Size is the sum of the sizes of the artifacts in bytes.
func (v *Version) Size() int64 {
	n := int64(0)
	for _, a := range v.Artifacts {
		n += a.Size
	}
	return n
}

// CheckImportance refuses importances that are no numbers.
func CheckImportance(importance map[string]float64) error {
	for _, name := range slices.Sorted(maps.Keys(importance)) {
		if v := importance[name]; name == "" || math.IsNaN(v) || math.IsInf(v, 0) {
			return fault.New(fault.Invalid, "version.importance", "the importance of %q is %v", name, v).
				In("importance").
				Do("give every input's name a finite number")
		}
	}
	return nil
}

// Identity is the digest of what makes a version what it is: the names and bytes of its
// artifacts, the metrics that it is registered with, parameters, importances, signature, card, dependencies,
// parents and data. Who registered it, when, from which run and checkout, and all that
// may change later are not part of it, so a pipeline that runs again gets the same
// version back.
func (v *Version) Identity() string {
	type file struct {
		Name   string
		Digest string
		Size   int64
	}
	files := make([]file, len(v.Artifacts))
	for i, a := range v.Artifacts {
		files[i] = file{a.Name, a.Digest, a.Size}
	}
	slices.SortFunc(files, func(a, b file) int { return cmp.Compare(a.Name, b.Name) })
	parents := slices.SortedFunc(slices.Values(v.Parents), func(a, b lineage.Parent) int {
		return cmp.Or(cmp.Compare(a.Version, b.Version), cmp.Compare(a.Relation, b.Relation))
	})
	data := slices.SortedFunc(slices.Values(v.Data), func(a, b lineage.DataUse) int {
		return cmp.Or(cmp.Compare(a.Data, b.Data), cmp.Compare(a.Role, b.Role))
	})
	card := ""
	if v.Card != nil {
		card = v.Card.Text
	}
	// encoding/json writes maps with sorted keys, so equal content gives equal bytes.
	b, err := json.Marshal(struct {
		Artifacts    []file
		Metrics      map[string]float64
		Params       map[string]string
		Signature    *signature.Signature
		Importance   map[string]float64 `json:",omitempty"`
		Card         string             `json:",omitempty"`
		Dependencies []Dependency       `json:",omitempty"`
		Parents      []lineage.Parent   `json:",omitempty"`
		Data         []lineage.DataUse  `json:",omitempty"`
	}{files, v.Metrics, v.Params, v.Signature, v.Importance, card, v.Dependencies, parents, data})
	if err != nil {
		panic(err) // none of these can fail to encode once they have been checked
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}
