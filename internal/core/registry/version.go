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
	"innerladder/internal/core/sketch"
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
}

// Code is where the code that made a version was when it did.
type Code struct {
	Repository string `json:"repository,omitempty" description:"address of the origin, without credentials"`
	Commit     string `json:"commit"`
	Branch     string `json:"branch,omitempty"`
	Dirty      bool   `json:"dirty" description:"true when files differed from the commit"`
}

// Version is one immutable release of a model; only the rung it stands on moves.
type Version struct {
	Ref       string             `json:"ref" description:"MODEL@NUMBER"`
	Model     string             `json:"model"`
	Number    int                `json:"number"`
	Digest    string             `json:"digest" description:"SHA-256 over everything that makes the version what it is"`
	Note      string             `json:"note,omitempty"`
	Artifacts []Artifact         `json:"artifacts"`
	Metrics   map[string]float64 `json:"metrics"`
	Params    map[string]string  `json:"params"`
	Signature *Signature         `json:"signature,omitempty"`
	Code      *Code              `json:"code,omitempty"`
	Rung      string             `json:"rung"`
	RungSince time.Time          `json:"rung_since"`
	CreatedBy string             `json:"created_by"`
	CreatedAt time.Time          `json:"created_at"`
	// Profile is the reference profile; it is large and not part of listings.
	Profile *Profile `json:"-"`
}

// Profile is the reference profile of a version: the distributions of its inputs and
// outputs in the sample it was registered with.
type Profile struct {
	Rows    int                       `json:"rows"`
	Columns map[string]*sketch.Column `json:"columns"`
}

// lower names the metrics for which less is better, by the parts of their names.
var lower = []string{"rmse", "mae", "mape", "mse", "error", "loss", "brier", "bias", "latency", "ece"}

// LowerIsBetter reports whether a smaller value of the metric is the better one, by
// the field's habit for its name.
func LowerIsBetter(metric string) bool {
	m := strings.ToLower(metric)
	return slices.ContainsFunc(lower, func(part string) bool { return strings.Contains(m, part) })
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

// Identity is the digest of what makes a version what it is: the names and bytes of its
// artifacts, its metrics, parameters and signature. Who registered it, when, with which
// note and from which checkout are not part of it, so a pipeline that runs again gets
// the same version back.
func (v *Version) Identity() string {
	artifacts := slices.Clone(v.Artifacts)
	slices.SortFunc(artifacts, func(a, b Artifact) int { return cmp.Compare(a.Name, b.Name) })
	// encoding/json writes maps with sorted keys, so equal content gives equal bytes.
	b, err := json.Marshal(struct {
		Artifacts []Artifact
		Metrics   map[string]float64
		Params    map[string]string
		Signature *Signature
	}{artifacts, v.Metrics, v.Params, v.Signature})
	if err != nil {
		panic(err) // none of these can fail to encode once CheckMetrics has passed
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
