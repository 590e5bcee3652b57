package registry

import (
	"cmp"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
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
	// DocumentKind and PictureKind are for people to look at.
	DocumentKind = "document"
	PictureKind  = "picture"
)

// EvidenceKinds lists them.
func EvidenceKinds() []string {
	return []string{TestsKind, EvaluationKind, LoadKind, ShadowKind, DocumentKind, PictureKind}
}

// CheckEvidenceKind says whether there is a kind.
func CheckEvidenceKind(field, kind string) error {
	if slices.Contains(EvidenceKinds(), kind) {
		return nil
	}
	return fault.New(fault.Invalid, "evidence.kind", "%q is no kind of evidence", kind).In(field).Do("use one of %s", strings.Join(EvidenceKinds(), ", "))
}

// The verdicts of evidence.
const (
	VerdictPassed = "passed"
	VerdictFailed = "failed"
	// Unjudged says that the report itself says neither, nor did who attached it.
	Unjudged = "none"
)

// Evidence is a report attached to a version; immutable. Of several of a kind the newest
// counts.
type Evidence struct {
	ID      string    `json:"id" description:"E-NUMBER"`
	Version string    `json:"version"`
	Project string    `json:"project"`
	Kind    string    `json:"kind" enum:"tests,evaluation,load,shadow,document,picture"`
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
}

// EvidenceID writes the number of evidence as people do.
func EvidenceID(n int64) string { return "E-" + strconv.FormatInt(n, 10) }

// ParseEvidenceID reads E-12.
func ParseEvidenceID(field, s string) (int64, error) {
	digits, ok := strings.CutPrefix(strings.ToUpper(s), "E-")
	n, err := strconv.ParseInt(digits, 10, 64)
	if !ok || err != nil || n < 1 {
		return 0, fault.New(fault.Invalid, "evidence.id", "%q names no evidence", s).In(field).Do("write E-NUMBER, such as E-1")
	}
	return n, nil
}

// TestReport is a test run in numbers.
type TestReport struct {
	Total    int     `json:"total"`
	Failures int     `json:"failures"`
	Errors   int     `json:"errors"`
	Skipped  int     `json:"skipped"`
	Seconds  float64 `json:"seconds"`
	// Suites has the same per suite; Failed the first hundred that failed.
	Suites []TestSuite  `json:"suites,omitempty"`
	Failed []FailedTest `json:"failed,omitempty" description:"the first hundred"`
}

// Ran is how many tests were not skipped.
func (t TestReport) Ran() int { return t.Total - t.Skipped }

// TestSuite is one suite of a test run.
type TestSuite struct {
	Name    string  `json:"name"`
	Total   int     `json:"total"`
	Failed  int     `json:"failed"`
	Skipped int     `json:"skipped"`
	Seconds float64 `json:"seconds"`
}

// FailedTest is a test that failed.
type FailedTest struct {
	Suite   string `json:"suite,omitempty"`
	Name    string `json:"name"`
	Message string `json:"message,omitempty"`
}

// Evaluation is a report of predictions against the truth. Everything but the metrics
// may be left out.
type Evaluation struct {
	Rows int64  `json:"rows,omitempty"`
	Data string `json:"data,omitempty" description:"what it was evaluated on, such as winters-2024#2"`
	// Metrics by name; Limits what they had to keep, which makes the verdict.
	Metrics   map[string]float64 `json:"metrics"`
	Limits    map[string]Limit   `json:"limits,omitempty"`
	Confusion *Confusion         `json:"confusion,omitempty"`
	Curves    []XYCurve          `json:"curves,omitempty"`
	Residuals *Histogram         `json:"residuals,omitempty"`
	// Segments are the metrics of parts of the rows.
	Segments []Segment `json:"segments,omitempty"`
}

// Limit bounds a metric.
type Limit struct {
	AtLeast *float64 `json:"at_least,omitempty"`
	AtMost  *float64 `json:"at_most,omitempty"`
}

// Confusion counts predicted classes by true class: Counts[i][j] rows of class Labels[i]
// were predicted as Labels[j].
type Confusion struct {
	Labels []string `json:"labels"`
	Counts [][]int  `json:"counts"`
}

// XYCurve is a curve to draw: receiver operating characteristic, precision and recall,
// calibration.
type XYCurve struct {
	Name string    `json:"name"`
	XLab string    `json:"x_label,omitempty"`
	YLab string    `json:"y_label,omitempty"`
	X    []float64 `json:"x"`
	Y    []float64 `json:"y"`
}

// Histogram counts values between edges; there is one count less than edges.
type Histogram struct {
	Unit   string    `json:"unit,omitempty"`
	Edges  []float64 `json:"edges"`
	Counts []int     `json:"counts"`
}

// Segment is the metrics of a part of the rows.
type Segment struct {
	Name    string             `json:"name"`
	Rows    int64              `json:"rows,omitempty"`
	Metrics map[string]float64 `json:"metrics"`
}

// LoadReport is a load test in numbers.
type LoadReport struct {
	Requests int64   `json:"requests"`
	Errors   int64   `json:"errors"`
	Seconds  float64 `json:"seconds"`
	// LatencyMs has milliseconds by quantile: p50, p95, p99.
	LatencyMs map[string]float64 `json:"latency_ms"`
	Limits    map[string]Limit   `json:"limits,omitempty" description:"of error_rate, rate (per second), and quantiles such as p99"`
}

// ShadowReport is what came of answering copies of real requests.
type ShadowReport struct {
	Requests  uint64 `json:"requests"`
	Disagreed uint64 `json:"disagreed"`
	// Against is the version whose answers the callers got.
	Against string `json:"against,omitempty" description:"MODEL@NUMBER"`
}

// ReadEvidence reads a report of a kind. given is the verdict of who attached it, empty
// for none; it cannot overrule what the report says itself.
func ReadEvidence(kind, given string, r io.Reader) (Findings, string, error) {
	if given != "" && given != VerdictPassed && given != VerdictFailed {
		return Findings{}, "", fault.New(fault.Invalid, "evidence.verdict", "%q is no verdict", given).In("verdict").Do("use passed or failed, or leave it out")
	}
	var f Findings
	var own string
	var err error
	switch kind {
	case TestsKind:
		f, own, err = readTests(r)
	case EvaluationKind:
		f, own, err = readEvaluation(r)
	case LoadKind:
		f, own, err = readLoad(r)
	case ShadowKind:
		f, own, err = readShadow(r)
	default:
		own = Unjudged
	}
	switch {
	case err != nil:
		return f, "", err
	case own == Unjudged && given != "":
		return f, given, nil
	case given == VerdictPassed && own == VerdictFailed:
		return f, "", fault.New(fault.Refused, "evidence.verdict", "the report failed: %s", f.Says).In("verdict").Do("attach it without a verdict; what a report says cannot be overruled")
	}
	if given == VerdictFailed {
		own = VerdictFailed // one may be stricter than the report
	}
	return f, own, nil
}

const (
	mostFailed  = 100
	mostSuites  = 200
	longestText = 400
)

// junitCase and its fellows are the parts of JUnit XML that are read; the format has no
// standard, and these are what all writers agree on.
type junitCase struct {
	Name      string        `xml:"name,attr"`
	Class     string        `xml:"classname,attr"`
	Time      string        `xml:"time,attr"`
	Failure   *junitMessage `xml:"failure"`
	Error     *junitMessage `xml:"error"`
	Skipped   *junitMessage `xml:"skipped"`
	SuiteName string        `xml:"-"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (m junitMessage) String() string {
	s := strings.TrimSpace(cmp.Or(m.Message, m.Text))
	if len(s) > longestText {
		s = strings.ToValidUTF8(s[:longestText], "") + "…"
	}
	return s
}

// readTests reads JUnit XML element by element: suites may be nested, and reports large.
// What the cases say counts, not the sums that the suites carry.
func readTests(r io.Reader) (Findings, string, error) {
	bad := func(why string, args ...any) (Findings, string, error) {
		return Findings{}, "", fault.New(fault.Invalid, "evidence.tests", "this is no report of tests in JUnit XML: "+why, args...).In("file").Do("attach a JUnit XML file, with the element testsuite or testsuites outside")
	}
	dec := xml.NewDecoder(r)
	dec.Strict = true
	var t TestReport
	var open []int // indices of the suites we are in
	root := false
	for {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return bad("%v", err)
		}
		switch el := token.(type) {
		case xml.StartElement:
			if !root && el.Name.Local != "testsuites" && el.Name.Local != "testsuite" {
				return bad("its first element is %s", el.Name.Local)
			}
			root = true
			switch el.Name.Local {
			case "testsuite":
				name := ""
				for _, a := range el.Attr {
					if a.Name.Local == "name" {
						name = a.Value
					}
				}
				t.Suites = append(t.Suites, TestSuite{Name: name})
				open = append(open, len(t.Suites)-1)
			case "testcase":
				var c junitCase
				if err := dec.DecodeElement(&c, &el); err != nil {
					return bad("%v", err)
				}
				var suite *TestSuite
				if len(open) > 0 {
					suite = &t.Suites[open[len(open)-1]]
				}
				t.count(c, suite)
			}
		case xml.EndElement:
			if el.Name.Local == "testsuite" && len(open) > 0 {
				open = open[:len(open)-1]
			}
		}
	}
	if !root {
		return bad("it is empty")
	}
	t.Suites = slices.DeleteFunc(t.Suites, func(s TestSuite) bool { return s.Total == 0 })
	t.Suites = t.Suites[:min(len(t.Suites), mostSuites)]
	return Findings{Tests: &t, Says: t.says()}, t.verdict(), nil
}

func (t *TestReport) count(c junitCase, suite *TestSuite) {
	if suite == nil {
		suite = &TestSuite{}
	}
	seconds, _ := strconv.ParseFloat(strings.ReplaceAll(c.Time, ",", ""), 64)
	if seconds > 0 && !math.IsInf(seconds, 0) {
		t.Seconds += seconds
		suite.Seconds += seconds
	}
	t.Total++
	suite.Total++
	message := c.Failure
	switch {
	case c.Failure != nil:
		t.Failures++
	case c.Error != nil:
		t.Errors++
		message = c.Error
	case c.Skipped != nil:
		t.Skipped++
		suite.Skipped++
		return
	default:
		return
	}
	suite.Failed++
	if len(t.Failed) < mostFailed {
		name := c.Name
		if c.Class != "" {
			name = c.Class + ": " + c.Name
		}
		t.Failed = append(t.Failed, FailedTest{suite.Name, name, message.String()})
	}
}

func (t TestReport) verdict() string {
	if t.Failures+t.Errors > 0 || t.Ran() == 0 {
		return VerdictFailed
	}
	return VerdictPassed
}

func (t TestReport) says() string {
	if t.Ran() == 0 {
		return strings.TrimSuffix(fmt.Sprintf("no test was run, %d skipped", t.Skipped), ", 0 skipped")
	}
	noun := "tests"
	if t.Ran() == 1 {
		noun = "test"
	}
	s := fmt.Sprintf("%d %s in %s", t.Ran(), noun, time.Duration(t.Seconds*float64(time.Second)).Round(time.Millisecond))
	if t.Skipped > 0 {
		s += fmt.Sprintf(", %d skipped", t.Skipped)
	}
	if bad := t.Failures + t.Errors; bad > 0 {
		return fmt.Sprintf("%d of %s failed", bad, s)
	}
	return s + ", all passed"
}

func readJSONReport(r io.Reader, kind string, into any) error {
	dec := json.NewDecoder(r)
	dec.DisallowUnknownFields()
	if err := dec.Decode(into); err != nil {
		return fault.New(fault.Invalid, "evidence."+kind, "this is no report of kind %s: %s", kind, strings.TrimPrefix(err.Error(), "json: ")).In("file").Do("see docs/guide.md for the form of such reports")
	}
	return nil
}

func invalidReport(kind, why string, args ...any) error {
	return fault.New(fault.Invalid, "evidence."+kind, why, args...).In("file").Do("see docs/guide.md for the form of such reports")
}

func readEvaluation(r io.Reader) (Findings, string, error) {
	var e Evaluation
	if err := readJSONReport(r, EvaluationKind, &e); err != nil {
		return Findings{}, "", err
	}
	if len(e.Metrics) == 0 {
		return Findings{}, "", invalidReport(EvaluationKind, "the report has no metrics")
	}
	if err := CheckMetrics(e.Metrics); err != nil {
		return Findings{}, "", err
	}
	if c := e.Confusion; c != nil {
		if len(c.Labels) < 2 || len(c.Labels) > 100 || len(c.Counts) != len(c.Labels) || slices.ContainsFunc(c.Counts, func(row []int) bool { return len(row) != len(c.Labels) || slices.Min(row) < 0 }) {
			return Findings{}, "", invalidReport(EvaluationKind, "the confusion matrix is not square with 2 to 100 labels and counts from 0")
		}
	}
	for _, c := range e.Curves {
		if len(c.X) != len(c.Y) || len(c.X) < 2 || len(c.X) > 10_000 {
			return Findings{}, "", invalidReport(EvaluationKind, "the curve %q has %d x and %d y; there must be as many, from 2 to 10000", c.Name, len(c.X), len(c.Y))
		}
	}
	if h := e.Residuals; h != nil && (len(h.Edges) != len(h.Counts)+1 || len(h.Counts) < 1 || len(h.Counts) > 1000 || !slices.IsSorted(h.Edges)) {
		return Findings{}, "", invalidReport(EvaluationKind, "the residuals have %d edges and %d counts; there must be one edge more, ascending", len(h.Edges), len(h.Counts))
	}
	broken, err := brokenLimits(EvaluationKind, e.Limits, e.Metrics)
	if err != nil {
		return Findings{}, "", err
	}
	says := describeMetrics(e.Metrics)
	if e.Rows > 0 {
		says += fmt.Sprintf(" on %d rows", e.Rows)
	}
	return Findings{Metrics: e.Metrics, Evaluation: &e, Says: says + broken}, verdictOf(e.Limits, broken), nil
}

func readLoad(r io.Reader) (Findings, string, error) {
	var l LoadReport
	if err := readJSONReport(r, LoadKind, &l); err != nil {
		return Findings{}, "", err
	}
	if l.Requests < 1 || l.Errors < 0 || l.Errors > l.Requests || !(l.Seconds > 0) {
		return Findings{}, "", invalidReport(LoadKind, "%d requests, %d errors, %v seconds is no load test", l.Requests, l.Errors, l.Seconds)
	}
	values := map[string]float64{"error_rate": float64(l.Errors) / float64(l.Requests), "rate": float64(l.Requests) / l.Seconds}
	for q, ms := range l.LatencyMs {
		values[q] = ms
	}
	if err := CheckMetrics(values); err != nil {
		return Findings{}, "", err
	}
	broken, err := brokenLimits(LoadKind, l.Limits, values)
	if err != nil {
		return Findings{}, "", err
	}
	says := fmt.Sprintf("%d requests at %.4g/s, %.3g %% errors", l.Requests, values["rate"], values["error_rate"]*100)
	for _, q := range sortedKeys(l.LatencyMs) {
		says += fmt.Sprintf(", %s %.4g ms", q, l.LatencyMs[q])
	}
	return Findings{Metrics: values, Load: &l, Says: says + broken}, verdictOf(l.Limits, broken), nil
}

func readShadow(r io.Reader) (Findings, string, error) {
	var s ShadowReport
	if err := readJSONReport(r, ShadowKind, &s); err != nil {
		return Findings{}, "", err
	}
	if s.Requests < 1 || s.Disagreed > s.Requests {
		return Findings{}, "", invalidReport(ShadowKind, "%d of %d requests were answered differently", s.Disagreed, s.Requests)
	}
	share := float64(s.Disagreed) / float64(s.Requests)
	return Findings{Shadow: &s, Metrics: map[string]float64{"disagreement": share}, Says: fmt.Sprintf("%d requests, %.3g %% answered differently", s.Requests, share*100)}, Unjudged, nil
}

// brokenLimits says which limits are not kept, empty when all are.
func brokenLimits(kind string, limits map[string]Limit, values map[string]float64) (string, error) {
	var broken []string
	for _, name := range sortedKeys(limits) {
		x, there := values[name]
		l := limits[name]
		switch {
		case !there:
			return "", invalidReport(kind, "there is a limit of %s and no value", name)
		case l.AtLeast == nil && l.AtMost == nil:
			return "", invalidReport(kind, "the limit of %s says neither at_least nor at_most", name)
		case l.AtLeast != nil && x < *l.AtLeast:
			broken = append(broken, fmt.Sprintf("%s is below %.4g", name, *l.AtLeast))
		case l.AtMost != nil && x > *l.AtMost:
			broken = append(broken, fmt.Sprintf("%s is above %.4g", name, *l.AtMost))
		}
	}
	if len(broken) == 0 {
		return "", nil
	}
	return "; " + strings.Join(broken, ", "), nil
}

func verdictOf(limits map[string]Limit, broken string) string {
	switch {
	case broken != "":
		return VerdictFailed
	case len(limits) > 0:
		return VerdictPassed
	}
	return Unjudged
}

// describeMetrics writes the first few metrics.
func describeMetrics(m map[string]float64) string {
	var parts []string
	names := sortedKeys(m)
	for _, name := range names[:min(len(names), 3)] {
		parts = append(parts, fmt.Sprintf("%s %.4g", name, m[name]))
	}
	if len(names) > 3 {
		parts = append(parts, fmt.Sprintf("%d more", len(names)-3))
	}
	return strings.Join(parts, ", ")
}
