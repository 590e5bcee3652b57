package registry

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
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

// Code is where the code that made a version was when it did.
type Code struct {
	Repository string `json:"repository,omitempty" description:"address of the origin, without credentials"`
	Commit     string `json:"commit"`
	Branch     string `json:"branch,omitempty"`
	Dirty      bool   `json:"dirty" description:"true when files differed from the commit"`
}

// DataUse is a data set that a version or a run used.
type DataUse struct {
	// Data is NAME#NUMBER, a revision of a data set.
	Data string `json:"data" description:"NAME#NUMBER"`
	Role string `json:"role" enum:"trained-on,validated-on,evaluated-on"`
}

// Parent is a version that another was made from.
type Parent struct {
	Version  string `json:"version" description:"MODEL@NUMBER"`
	Relation string `json:"relation" description:"how, such as fine-tuned"`
}

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
	Ref          string             `json:"ref" description:"MODEL@NUMBER"`
	Project      string             `json:"project"`
	Model        string             `json:"model"`
	Number       int                `json:"number"`
	Digest       string             `json:"digest" description:"SHA-256 over everything that makes the version what it is"`
	Note         string             `json:"note,omitempty"`
	Artifacts    []Artifact         `json:"artifacts"`
	Metrics      map[string]float64 `json:"metrics"`
	Params       map[string]string  `json:"params"`
	Importance   map[string]float64 `json:"importance,omitempty" description:"how much each input counts, as the trainer measured it"`
	Signature    *Signature         `json:"signature,omitempty"`
	Code         *Code              `json:"code,omitempty"`
	Run          string             `json:"run,omitempty" description:"the run it came out of, such as run-12"`
	Data         []DataUse          `json:"data,omitempty"`
	Parents      []Parent           `json:"parents,omitempty"`
	Dependencies []Dependency       `json:"dependencies,omitempty"`
	Card         *Card              `json:"card,omitempty"`
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
	CreatedBy string    `json:"created_by"`
	CreatedAt time.Time `json:"created_at"`
	// Profile is the reference profile; it is large and read on its own.
	Profile *Profile `json:"-"`
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

// lower and higher name the metrics for which less or more is better, by the parts of
// their names.
var (
	lower = []string{
		"rmse", "rmsle", "mae", "mape", "mse", "error", "loss", "brier", "bias", "latency", "ece",
		"perplexity", "deviance", "crps", "pinball", "false_positive", "false_negative",
	}
	higher = []string{
		"accuracy", "f1", "auc", "r2", "precision", "recall", "sensitivity", "specificity", "kappa",
		"mcc", "matthews", "ndcg", "explained_variance", "likelihood", "iou", "dice",
	}
)

// LowerIsBetter reports whether a smaller value of the metric is the better one, by
// the field's habit for its name; of a name that says nothing, more is taken to be better.
func LowerIsBetter(metric string) bool { return named(lower, metric) }

// SaysWhatIsBetter reports whether the name of a metric says which way is better.
func SaysWhatIsBetter(metric string) bool { return named(lower, metric) || named(higher, metric) }

func named(parts []string, metric string) bool {
	m := strings.ToLower(metric)
	return slices.ContainsFunc(parts, func(part string) bool { return strings.Contains(m, part) })
}

// CheckMetrics refuses metrics that are no numbers.
func CheckMetrics(metrics map[string]float64) error {
	for _, name := range sortedKeys(metrics) {
		if v := metrics[name]; name == "" || math.IsNaN(v) || math.IsInf(v, 0) {
			return fault.New(fault.Invalid, "version.metric", "metric %q is %v", name, v).In("metrics").
				Do("give every metric a name and a finite number")
		}
	}
	return nil
}

// CheckImportance refuses importances that are no numbers.
func CheckImportance(importance map[string]float64) error {
	for _, name := range sortedKeys(importance) {
		if v := importance[name]; name == "" || math.IsNaN(v) || math.IsInf(v, 0) {
			return fault.New(fault.Invalid, "version.importance", "the importance of %q is %v", name, v).
				In("importance").
				Do("give every input's name a finite number")
		}
	}
	return nil
}

// Identity is the digest of what makes a version what it is: the names and bytes of its
// artifacts, its metrics, parameters, importances, signature, card, dependencies,
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
	parents := slices.SortedFunc(slices.Values(v.Parents), func(a, b Parent) int {
		return cmp.Or(cmp.Compare(a.Version, b.Version), cmp.Compare(a.Relation, b.Relation))
	})
	data := slices.SortedFunc(slices.Values(v.Data), func(a, b DataUse) int {
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
		Signature    *Signature
		Importance   map[string]float64 `json:",omitempty"`
		Card         string             `json:",omitempty"`
		Dependencies []Dependency       `json:",omitempty"`
		Parents      []Parent           `json:",omitempty"`
		Data         []DataUse          `json:",omitempty"`
	}{files, v.Metrics, v.Params, v.Signature, v.Importance, card, v.Dependencies, parents, data})
	if err != nil {
		panic(err) // none of these can fail to encode once they have been checked
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
