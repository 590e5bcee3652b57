package evidence

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/metric"
)

// Evaluation is a report of predictions against the truth. Everything but the metrics
// may be left out.
type Evaluation struct {
	Rows int64  `json:"rows,omitempty"`
	Data string `json:"data,omitempty" description:"what it was evaluated on, such as winters-2024#2"`
	// Metrics by name; Limits what they had to keep, which makes the verdict.
	Metrics map[string]float64 `json:"metrics"`
	Limits  map[string]Limit   `json:"limits,omitempty"`
	// Bounds enclose metrics with 95 %; Undefined says which could not be measured, and why.
	Bounds    map[string][2]float64 `json:"bounds,omitempty" description:"bounds of metrics at 95 %, low and high"`
	Undefined []string              `json:"undefined,omitempty" description:"what could not be measured, and why"`
	Confusion *Confusion            `json:"confusion,omitempty"`
	// Classes are the measures of each class; Quantiles those of the residuals, prediction less truth.
	Classes   []ClassMeasures `json:"classes,omitempty" description:"the measures of each class"`
	Quantiles []Quantile      `json:"residual_quantiles,omitempty" description:"of prediction less truth"`
	Curves    []XYCurve       `json:"curves,omitempty"`
	Residuals *Histogram      `json:"residuals,omitempty"`
	// Groups are those of sensitive columns: quality and predictions, each with its interval.
	Groups []Group `json:"groups,omitempty" description:"of sensitive columns: quality and predictions, with intervals"`
	// Segments are the metrics of parts of the rows.
	Segments []Segment `json:"segments,omitempty"`
	// Worst are the rows that were worst, the worst first.
	Worst []WorstRow `json:"worst,omitempty" description:"the rows that were worst, the worst first"`
	// Against is how it compares with another version on the same rows.
	Against *Beside `json:"against,omitempty" description:"how it compares with another version on the same rows"`
	// Judged says by whom and on what it was made, where the service made it.
	Judged *Judged `json:"judged,omitempty" description:"how the service made it"`
}

// ClassMeasures are those of one class against the rest; absent where there is nothing to divide by.
type ClassMeasures struct {
	Class     string   `json:"class"`
	Rows      float64  `json:"rows" description:"whose truth it is, by their weight"`
	Precision *float64 `json:"precision,omitempty"`
	Recall    *float64 `json:"recall,omitempty"`
	F1        *float64 `json:"f1,omitempty"`
	ROCAUC    *float64 `json:"roc_auc,omitempty"`
	PRAUC     *float64 `json:"pr_auc,omitempty" description:"average precision"`
}

// Group is one level of a sensitive column. The intervals of all groups together hold with 95 %.
type Group struct {
	Column string `json:"column"`
	Level  string `json:"level"`
	Rows   int64  `json:"rows"`
	// Quality is the mean error and bias of numbers, or the share of classes that is right; Predictions are the mean,
	// or the share of each class.
	Quality     map[string]Between `json:"quality" description:"mae and bias, or accuracy"`
	Predictions map[string]Between `json:"predictions" description:"the mean, or the share of each class"`
}

// Quantile is a value below which a share lies.
type Quantile struct {
	Share float64 `json:"share"`
	Value float64 `json:"value"`
}

// WorstRow is a row with what was predicted and what was true.
type WorstRow struct {
	Row       int64          `json:"row" description:"in the table, from 1"`
	Truth     any            `json:"truth"`
	Predicted any            `json:"predicted"`
	Other     any            `json:"other,omitempty" description:"what the other version predicted"`
	Inputs    map[string]any `json:"inputs,omitempty"`
}

// Judged is how the service made a report.
type Judged struct {
	Job     string `json:"job"`
	Version string `json:"version" description:"who answered"`
	Table   string `json:"table"`
	Digest  string `json:"digest" description:"SHA-256 of the table"`
	Target  string `json:"target" description:"the column with the truth"`
	Output  string `json:"output"`
	By      string `json:"by" description:"the build of the service that judged"`
	// Standing is the standing evaluation that it was made for.
	Standing string `json:"standing,omitempty" description:"the standing evaluation that it was made for, MODEL#NUMBER"`
	// LeftOut counts rows that were put aside, or have no truth.
	LeftOut int64 `json:"left_out" description:"rows that were put aside or have no truth"`
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
	Name    string                `json:"name"`
	Rows    int64                 `json:"rows,omitempty"`
	Metrics map[string]float64    `json:"metrics"`
	Bounds  map[string][2]float64 `json:"bounds,omitempty" description:"bounds of metrics, low and high"`
	Worse   bool                  `json:"worse,omitempty" description:"surely worse than all rows together"`
}

// LoadReport is a load test in numbers.
type LoadReport struct {
	Requests int64   `json:"requests"`
	Errors   int64   `json:"errors"`
	Seconds  float64 `json:"seconds"`
	// LatencyMs has milliseconds by quantile: p50, p95, p99.
	LatencyMs map[string]float64 `json:"latency_ms"`
	// BoundsMs enclose them with 95 %, as far as so many requests can say.
	BoundsMs map[string][]float64 `json:"bounds_ms,omitempty" description:"bounds of those at 95 %, low and high"`
	// Failures are the errors by what they were.
	Failures map[string]int64 `json:"failures,omitempty" description:"the errors by what they were"`
	// Offered is how many a second were sent in the end, BendsAt from which rate on the version did not keep up.
	Offered float64          `json:"offered,omitempty" description:"how many a second were sent in the end"`
	BendsAt float64          `json:"bends_at,omitempty" description:"from which rate on it did not keep up"`
	Limits  map[string]Limit `json:"limits,omitempty" description:"of error_rate, rate, and quantiles such as p99"`
}

func readJSONReport(r io.Reader, kind string, into any) error {
	dec := json.NewDecoder(r)
	dec.DisallowUnknownFields()
	err := dec.Decode(into)
	if errors.Is(err, io.EOF) {
		return invalidReport(kind, "the report is empty")
	}
	if err != nil {
		return fault.New(fault.Invalid, "evidence."+kind, "this is no report of kind %s: %s", kind,
			strings.TrimPrefix(err.Error(), "json: ")).In("file").Do("see docs/guide.md for the form of such reports")
	}
	return nil
}

func invalidReport(kind, why string, args ...any) error {
	return fault.New(fault.Invalid, "evidence."+kind, why, args...).In("file").
		Do("see docs/guide.md for the form of such reports")
}

func readEvaluation(r io.Reader) (Findings, string, error) {
	var e Evaluation
	if err := readJSONReport(r, EvaluationKind, &e); err != nil {
		return Findings{}, "", err
	}
	if len(e.Metrics) == 0 {
		return Findings{}, "", invalidReport(EvaluationKind, "the report has no metrics")
	}
	if err := metric.Check(e.Metrics); err != nil {
		return Findings{}, "", err
	}
	if c := e.Confusion; c != nil {
		if len(c.Labels) < 2 || len(c.Labels) > 100 || len(c.Counts) != len(c.Labels) ||
			slices.ContainsFunc(c.Counts, func(row []int) bool {
				return len(row) != len(c.Labels) ||
					slices.Min(row) < 0
			}) {
			return Findings{}, "", invalidReport(EvaluationKind,
				"the confusion matrix is not square with 2 to 100 labels and counts from 0")
		}
	}
	for _, c := range e.Curves {
		if len(c.X) != len(c.Y) || len(c.X) < 2 || len(c.X) > 10_000 {
			return Findings{}, "", invalidReport(EvaluationKind,
				"the curve %q has %d x and %d y; there must be as many, from 2 to 10000", c.Name, len(c.X), len(c.Y))
		}
	}
	if h := e.Residuals; h != nil &&
		(len(h.Edges) != len(h.Counts)+1 || len(h.Counts) < 1 || len(h.Counts) > 1000 || !slices.IsSorted(h.Edges)) {
		return Findings{}, "", invalidReport(EvaluationKind,
			"the residuals have %d edges and %d counts; there must be one edge more, ascending", len(h.Edges),
			len(h.Counts))
	}
	broken, err := brokenLimits(EvaluationKind, e.Limits, e.Metrics)
	if err != nil {
		return Findings{}, "", err
	}
	says := describeMetrics(e.Metrics)
	if e.Rows > 0 {
		says += fmt.Sprintf(" on %d rows", e.Rows)
	}
	if e.Against != nil {
		if err := e.Against.check(); err != nil {
			return Findings{}, "", err
		}
		says += "; " + e.Against.Says()
	}
	return Findings{Metrics: e.Metrics, Evaluation: &e, Says: says + broken}, verdictOf(e.Limits, broken), nil
}

func readLoad(r io.Reader) (Findings, string, error) {
	var l LoadReport
	if err := readJSONReport(r, LoadKind, &l); err != nil {
		return Findings{}, "", err
	}
	if l.Requests < 1 || l.Errors < 0 || l.Errors > l.Requests || !(l.Seconds > 0) {
		return Findings{}, "", invalidReport(LoadKind, "%d requests, %d errors, %v seconds is no load test", l.Requests,
			l.Errors, l.Seconds)
	}
	values := map[string]float64{
		"error_rate": float64(l.Errors) / float64(l.Requests),
		"rate":       float64(l.Requests) / l.Seconds,
	}
	for q, ms := range l.LatencyMs {
		values[q] = ms
	}
	if err := metric.Check(values); err != nil {
		return Findings{}, "", err
	}
	broken, err := brokenLimits(LoadKind, l.Limits, values)
	if err != nil {
		return Findings{}, "", err
	}
	says := fmt.Sprintf("%d requests at %.4g/s, %.3g %% errors", l.Requests, values["rate"], values["error_rate"]*100)
	for _, q := range slices.Sorted(maps.Keys(l.LatencyMs)) {
		says += fmt.Sprintf(", %s %.4g ms", q, l.LatencyMs[q])
	}
	return Findings{Metrics: values, Load: &l, Says: says + broken}, verdictOf(l.Limits, broken), nil
}

func readShadow(r io.Reader) (Findings, string, error) {
	var s ShadowReport
	if err := readJSONReport(r, ShadowKind, &s); err != nil {
		return Findings{}, "", err
	}
	if s.Requests < 1 || s.Disagreed > s.Requests || s.Failed > s.Copies {
		return Findings{}, "", invalidReport(ShadowKind, "%d of %d requests were answered differently", s.Disagreed,
			s.Requests)
	}
	share := float64(s.Disagreed) / float64(s.Requests)
	metrics := map[string]float64{"disagreement": share}
	says := fmt.Sprintf("%d requests, %.3g %% answered differently", s.Requests, share*100)
	if s.Copies > 0 {
		metrics["error_rate"] = float64(s.Failed) / float64(s.Copies)
		says += fmt.Sprintf(", %.3g %% of %d copies failed", 100*metrics["error_rate"], s.Copies)
	}
	return Findings{Shadow: &s, Metrics: metrics, Says: says}, Unjudged, nil
}

// CheckLimits says which limit has no value to be held against.
func CheckLimits(limits map[string]Limit, values map[string]float64) error {
	for name := range limits {
		if x, there := values[name]; !there || math.IsNaN(x) {
			return fmt.Errorf("there is no %s to hold the limit against; there are %s", name,
				strings.Join(slices.Sorted(maps.Keys(values)), ", "))
		}
	}
	return nil
}

// brokenLimits says which limits are not kept, empty when all are.
func brokenLimits(kind string, limits map[string]Limit, values map[string]float64) (string, error) {
	var broken []string
	for _, name := range slices.Sorted(maps.Keys(limits)) {
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
	names := slices.Sorted(maps.Keys(m))
	for _, name := range names[:min(len(names), 3)] {
		parts = append(parts, fmt.Sprintf("%s %.4g", name, m[name]))
	}
	if len(names) > 3 {
		parts = append(parts, fmt.Sprintf("%d more", len(names)-3))
	}
	return strings.Join(parts, ", ")
}
