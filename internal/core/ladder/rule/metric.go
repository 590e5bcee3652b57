package rule

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
)

// MetricRecorded demands at least one metric: claimed at registration, or measured by a report.
type MetricRecorded struct {
	// Measured has only those count that an attached report measured.
	Measured bool `json:"measured,omitempty"`
}

var metricRecordedKind = KindInfo{
	"metric_recorded", "at least one metric is known, claimed at registration or measured by a report",
	[]Setting{{"measured", "yes_no", "a report must have measured it: a claim does not count", nil}},
	as[MetricRecorded],
}

// Kind names it.
func (MetricRecorded) Kind() string { return metricRecordedKind.Kind }

// Evaluate counts the metrics.
func (m MetricRecorded) Evaluate(f Facts) Outcome {
	count, measured := max(len(f.Version.Metrics), f.MetricCount), max(len(f.Version.Measured), f.MeasuredCount)
	switch {
	case m.Measured && measured == 0 && count > 0:
		return waits(f.Version.Ref, "%s claimed at registration, and no report measured any: %s.",
			describeCount(count, "metric"), attachEvaluation(f.Version.Ref))
	case m.Measured && measured == 0, count == 0:
		return waits(f.Version.Ref, "No metric is known: %s.", attachEvaluation(f.Version.Ref))
	case m.Measured:
		return passed(f.Version.Ref, "%s measured by a report.", describeCount(measured, "metric"))
	}
	return passed(f.Version.Ref, "%s known, %d of them measured by a report.", describeCount(count, "metric"), measured)
}

// attachEvaluation says how a metric comes to be measured.
func attachEvaluation(ref string) string {
	return fmt.Sprintf("attach the report of an evaluation with innerladder attach %s -kind evaluation FILE", ref)
}

// Metric demands a value of a metric: within fixed limits, or no worse than the
// incumbent's by more than a margin.
type Metric struct {
	Metric  string   `json:"metric"`
	AtLeast *float64 `json:"at_least,omitempty"`
	AtMost  *float64 `json:"at_most,omitempty"`
	// NoWorseBy is how much worse than the incumbent it may be, in the metric's own unit;
	// NoWorseByShare the same as a share of the incumbent's value.
	NoWorseBy      *float64 `json:"no_worse_by,omitempty"`
	NoWorseByShare *float64 `json:"no_worse_by_share,omitempty"`
	// Better is lower or higher; empty where the metric's name says it.
	Better string `json:"better,omitempty"`
	// Measured has only a value count that an attached report measured.
	Measured bool `json:"measured,omitempty"`
}

var metricKind = KindInfo{"metric", "a metric keeps a limit, or is no worse than the incumbent's", []Setting{
	{"metric", "text", "its name, such as rmse", nil},
	{"at_least", "number", "the least it may be", nil},
	{"at_most", "number", "the most it may be", nil},
	{"no_worse_by", "number", "how much worse than the incumbent's it may be, in its own unit; 0 for not at all", nil},
	{"no_worse_by_share", "number", "the same as a share of the incumbent's value: 0.05 for 5 %", nil},
	{
		"better", "text", "which way is better, for no_worse_by, where the metric's name does not say it",
		[]string{"lower", "higher"},
	},
	{"measured", "yes_no", "a report must have measured it, and the incumbent's: a claim does not count", nil},
}, as[Metric]}

// Kind names it.
func (Metric) Kind() string { return metricKind.Kind }

func (m Metric) check(field string) error {
	if strings.TrimSpace(m.Metric) == "" {
		return fault.New(fault.Invalid, "requirement.metric", "a requirement names no metric").In(field + ".metric").
			Do("name one, such as rmse")
	}
	limits := 0
	for name, x := range map[string]*float64{
		"at_least": m.AtLeast, "at_most": m.AtMost, "no_worse_by": m.NoWorseBy,
		"no_worse_by_share": m.NoWorseByShare,
	} {
		if x == nil {
			continue
		}
		limits++
		if math.IsNaN(*x) || math.IsInf(*x, 0) || (strings.HasPrefix(name, "no_worse") && *x < 0) {
			return fault.New(fault.Invalid, "requirement.limit", "%s is %v", name, *x).In(field + "." + name).
				Do("give a finite number; a margin is not below 0")
		}
	}
	if limits == 0 {
		return fault.New(fault.Invalid, "requirement.limit", "nothing is demanded of %s", m.Metric).In(field).
			Do("give at_least, at_most, no_worse_by or no_worse_by_share")
	}
	if m.AtLeast != nil && m.AtMost != nil && *m.AtLeast > *m.AtMost {
		return fault.New(fault.Invalid, "requirement.limit", "no %s is at least %v and at most %v", m.Metric,
			*m.AtLeast, *m.AtMost).In(field).Do("exchange the two")
	}
	switch {
	case m.Better != "" && m.Better != "lower" && m.Better != "higher":
		return fault.New(fault.Invalid, "requirement.better", "%q is not which way %s is better", m.Better, m.Metric).
			In(field + ".better").Do("use lower or higher")
	case m.Better == "" && (m.NoWorseBy != nil || m.NoWorseByShare != nil) && !metric.SaysWhatIsBetter(m.Metric):
		return fault.New(fault.Invalid, "requirement.better",
			"the name %s does not say whether lower or higher is better", m.Metric).In(field + ".better").
			Do("add better: lower, or better: higher")
	}
	return nil
}

// known is a metric of a version that counts, with what shows it.
type known struct {
	value       float64
	proof, data string
}

// of finds the metric of a version; where there is none that counts, it says what is wrong.
func (m Metric) of(v *registry.Version) (k known, lacks string) {
	x, there := v.Metrics[m.Metric]
	by, measured := v.Measured[m.Metric]
	switch {
	case !there:
		return k, fmt.Sprintf("No %s of %s is known", m.Metric, v.Ref)
	case m.Measured && !measured:
		return k, fmt.Sprintf("The %s of %s is only claimed, as %s", m.Metric, v.Ref, short(x))
	case measured:
		return known{x, by.Evidence, by.Data}, ""
	}
	return known{x, v.Ref, ""}, ""
}

// Evaluate compares the value with the limits and with the incumbent.
func (m Metric) Evaluate(f Facts) Outcome {
	is, lacks := m.of(f.Version)
	switch {
	case lacks != "":
		return waits(f.Version.Ref, "%s: %s.", lacks, attachEvaluation(f.Version.Ref))
	case m.AtLeast != nil && is.value < *m.AtLeast:
		return failed(is.proof, "%s is %s and must be at least %s.", m.Metric, short(is.value), short(*m.AtLeast))
	case m.AtMost != nil && is.value > *m.AtMost:
		return failed(is.proof, "%s is %s and must be at most %s.", m.Metric, short(is.value), short(*m.AtMost))
	}
	claimed := m.claimed(f.Version)
	if m.NoWorseBy == nil && m.NoWorseByShare == nil {
		return passed(is.proof, "%s is %s, %s%s.", m.Metric, short(is.value), m.limits(), claimed)
	}
	if f.Incumbent == nil {
		return passed(is.proof, "%s is %s%s; nobody stands on %s to be worse than.", m.Metric, short(is.value), claimed,
			f.To)
	}
	was, lacks := m.of(f.Incumbent)
	if lacks != "" {
		return waits(f.Incumbent.Ref, "%s, with which it is compared: %s.", lacks,
			attachEvaluation(f.Incumbent.Ref))
	}
	mean := f.Version.Meanings[m.Metric]
	if m.Better != "" {
		mean.Better = metric.Way(m.Better)
	}
	worse := metric.Worsening(m.Metric, was.value, is.value, mean.LowerIsBetter(m.Metric))
	allowed := math.Inf(1)
	if m.NoWorseBy != nil {
		allowed = *m.NoWorseBy
	}
	if m.NoWorseByShare != nil {
		allowed = min(allowed, *m.NoWorseByShare*math.Abs(was.value))
	}
	// What differs in the last binary digits only is not worse.
	if worse > allowed+1e-12*max(math.Abs(is.value), math.Abs(was.value)) {
		return failed(is.proof, "%s is %s%s, %s worse than %s with %s%s%s; %s is allowed.", m.Metric, short(is.value),
			claimed, short(worse), f.Incumbent.Ref, short(was.value), m.claimed(f.Incumbent), elsewhere(is, was),
			short(allowed))
	}
	return passed(is.proof, "%s is %s%s, %s has %s%s%s.", m.Metric, short(is.value), claimed, f.Incumbent.Ref,
		short(was.value), m.claimed(f.Incumbent), elsewhere(is, was))
}

// claimed says what was claimed of a version where a report measured something else.
func (m Metric) claimed(v *registry.Version) string {
	by, measured := v.Measured[m.Metric]
	switch {
	case !measured:
		return " (claimed)"
	case by.Differs:
		return fmt.Sprintf(" (claimed: %s)", short(*by.Claimed))
	}
	return ""
}

// elsewhere says that two values were measured on other data.
func elsewhere(is, was known) string {
	if is.data == "" || was.data == "" || is.data == was.data {
		return ""
	}
	return fmt.Sprintf(" (measured on %s, not on %s)", was.data, is.data)
}

func (m Metric) limits() string {
	var parts []string
	if m.AtLeast != nil {
		parts = append(parts, "at least "+short(*m.AtLeast))
	}
	if m.AtMost != nil {
		parts = append(parts, "at most "+short(*m.AtMost))
	}
	return strings.Join(parts, " and ")
}

func short(x float64) string { return strconv.FormatFloat(x, 'g', 4, 64) }
