package evidence

import (
	"io"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// The kinds of evidence.
const (
	// TestsKind is the report of a test run, as JUnit XML.
	TestsKind = "tests"
	// EvaluationKind is a report of predictions against the truth, JSON of our own form.
	EvaluationKind = "evaluation"
	// LoadKind is the report of a load test, JSON of our own form.
	LoadKind = "load"
	// ShadowKind is the report of answers to copies of real requests, JSON of our own form.
	ShadowKind = "shadow"
	// ReplayKind is the report of requests that were asked again, JSON of our own form.
	ReplayKind = "replay"
	// CasesKind is the report of cases that a deployed version was asked, as JUnit XML.
	CasesKind = "check"
	// RobustnessKind is the report of what a version does when things are not as they should be, JSON of our own form.
	RobustnessKind = "robustness"
	// ImportanceKind is the report of the inputs that a version relies on, JSON of our own form.
	ImportanceKind = "importance"
	// DocumentKind and PictureKind are for people to look at.
	DocumentKind = "document"
	PictureKind  = "picture"
)

// Kinds lists them.
func Kinds() []string {
	return []string{
		TestsKind, EvaluationKind, LoadKind, ShadowKind, ReplayKind, CasesKind, RobustnessKind, ImportanceKind,
		DocumentKind, PictureKind,
	}
}

// CheckKind says whether there is a kind.
func CheckKind(field, kind string) error {
	if slices.Contains(Kinds(), kind) {
		return nil
	}
	return fault.New(fault.Invalid, "evidence.kind", "%q is no kind of evidence", kind).In(field).
		Do("use one of %s", strings.Join(Kinds(), ", "))
}

// The verdicts of evidence.
const (
	VerdictPassed = "passed"
	VerdictFailed = "failed"
	// Unjudged says that the report itself says neither, nor did who attached it.
	Unjudged = "none"
)

// largest is how many bytes of a report are read.
const largest = 64 << 20

// CheckSize refuses a report that is too large to be read; documents and pictures are not read. kind
// is empty where it is still to be told.
func CheckSize(kind, name string, size int64) error {
	if size <= largest || kind == DocumentKind || kind == PictureKind {
		return nil
	}
	return fault.New(fault.TooLarge, "evidence.large", "%s has %d bytes", name, size).In("file").
		Do("attach a report of at most %d MiB", largest>>20)
}

// Evidence is a report attached to a version; immutable. Of several of a kind the newest
// counts.
type Evidence struct {
	ID      string `json:"id" description:"E-NUMBER"`
	Version string `json:"version"`
	Project string `json:"project"`
	// Kind is one of Kinds.
	Kind string `json:"kind" enum:"tests,evaluation,load,shadow,replay,check,robustness,importance,document,picture"`
	// Name, Digest, Size and Media are of the file.
	Name    string    `json:"name" description:"of the file"`
	Digest  string    `json:"digest" description:"SHA-256 of the bytes, in hexadecimal"`
	Size    int64     `json:"size" description:"bytes"`
	Media   string    `json:"media"`
	Verdict string    `json:"verdict" enum:"passed,failed,none"`
	AddedBy string    `json:"added_by"`
	AddedAt time.Time `json:"added_at"`
	Findings
}

// Findings are what was read off a report.
type Findings struct {
	// Says is the report in a few words.
	Says       string             `json:"says,omitempty"`
	Metrics    map[string]float64 `json:"metrics,omitempty"`
	Tests      *TestReport        `json:"tests,omitempty"`
	Evaluation *Evaluation        `json:"evaluation,omitempty"`
	Load       *LoadReport        `json:"load,omitempty"`
	Shadow     *ShadowReport      `json:"shadow,omitempty"`
	Replay     *ReplayReport      `json:"replay,omitempty"`
	Robustness *RobustnessReport  `json:"robustness,omitempty"`
	Importance *ImportanceReport  `json:"importance,omitempty"`
}

// OwnEvaluation is the report of an evaluation that the service made itself, about this version; nil where it is none.
// Whoever attaches a report cannot say so of theirs.
func (e *Evidence) OwnEvaluation() *Evaluation {
	if r := e.Evaluation; e.AddedBy == naming.Service && r != nil && r.Judged != nil && r.Judged.Version == e.Version {
		return r
	}
	return nil
}

// OwnReplay is the report of a replay that the service made itself, about this version; nil where it is none.
func (e *Evidence) OwnReplay() *ReplayReport {
	if r := e.Replay; e.AddedBy == naming.Service && r != nil && r.Judged != nil && r.Judged.Version == e.Version {
		return r
	}
	return nil
}

// OwnRobustness is the report of a version's robustness that the service made itself; nil where it is none.
func (e *Evidence) OwnRobustness() *RobustnessReport {
	if r := e.Robustness; e.AddedBy == naming.Service && r != nil && r.Judged != nil && r.Judged.Version == e.Version {
		return r
	}
	return nil
}

// OwnTests is how the service made a report of tests itself, about this version; nil where it did not.
func (e *Evidence) OwnTests() *Checked {
	if t := e.Tests; e.AddedBy == naming.Service && t != nil && t.Checked != nil && t.Checked.Version == e.Version {
		return t.Checked
	}
	return nil
}

// CheckForeign refuses a report that claims to be made by the service, of whoever attaches one.
func (f *Findings) CheckForeign() error {
	if (f.Evaluation == nil || f.Evaluation.Judged == nil) && (f.Replay == nil || f.Replay.Judged == nil) &&
		(f.Tests == nil || f.Tests.Checked == nil) && (f.Robustness == nil || f.Robustness.Judged == nil) &&
		(f.Importance == nil || f.Importance.Judged == nil) {
		return nil
	}
	return fault.New(fault.Refused, "evidence.own", "the report says that the service made it").In("file").
		Do("have the service make it, with innerladder evaluate, replay, check, robustness or importance; or leave " +
			"out what says so")
}

// Measures is what a report measured: metrics, and the data it did so on. Only an evaluation measures.
func (e Evidence) Measures() (metrics map[string]float64, data string) {
	if e.Kind != EvaluationKind {
		return nil, ""
	}
	if e.Evaluation != nil {
		data = e.Evaluation.Data
	}
	return e.Metrics, data
}

// ids are how evidence is known.
var ids = naming.Numbered{Prefix: "E-", What: "evidence"}

// ID writes the number of evidence as people do.
func ID(n int64) string { return ids.ID(n) }

// ParseID reads E-12.
func ParseID(field, s string) (int64, error) { return ids.Parse(field, s) }

// Read reads a report of a kind. given is the verdict of who attached it, empty
// for none; it cannot overrule what the report says itself.
func Read(kind, given string, r io.Reader) (Findings, string, error) {
	if given != "" && given != VerdictPassed && given != VerdictFailed {
		return Findings{}, "", fault.New(fault.Invalid, "evidence.verdict", "%q is no verdict", given).In("verdict").
			Do("use passed or failed, or leave it out")
	}
	var f Findings
	var own string
	var err error
	switch kind {
	case TestsKind, CasesKind:
		f, own, err = readTests(r)
	case EvaluationKind:
		f, own, err = readEvaluation(r)
	case LoadKind:
		f, own, err = readLoad(r)
	case ShadowKind:
		f, own, err = readShadow(r)
	case ReplayKind:
		f, own, err = readReplay(r)
	case ImportanceKind:
		f, own, err = readImportance(r)
	case RobustnessKind:
		f, own, err = readRobustness(r)
	default:
		own = Unjudged
	}
	switch {
	case err != nil:
		return f, "", err
	case own == Unjudged && given != "":
		return f, given, nil
	case given == VerdictPassed && own == VerdictFailed:
		return f, "", fault.New(fault.Refused, "evidence.verdict", "the report failed: %s", f.Says).In("verdict").
			Do("attach it without a verdict; what a report says cannot be overruled")
	}
	if given == VerdictFailed {
		own = VerdictFailed // one may be stricter than the report
	}
	return f, own, nil
}
