package rule

import (
	"math"
	"strconv"
	"strings"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/registry"
)

// MetricRecorded demands at least one metric of the registration.
type MetricRecorded struct{}

var metricRecordedKind = KindInfo{
	"metric_recorded", "at least one metric was recorded at registration",
	[]Setting{},
	as[MetricRecorded],
}

// Kind names it.
func (MetricRecorded) Kind() string { return metricRecordedKind.Kind }

// Evaluate counts the metrics.
func (MetricRecorded) Evaluate(f Facts) Outcome {
	count := max(len(f.Version.Metrics), f.MetricCount)
	if count == 0 {
		return failed(f.Version.Ref, "No metric was recorded; register the version with -metric NAME=VALUE.")
	}
	return passed(f.Version.Ref, "%s recorded.", describeCount(count, "metric"))
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
	// From is where the value comes from: the registration, or the newest evaluation.
	From string `json:"from,omitempty"`
}

const FromEvaluation = "evaluation"

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
	{
		"from", "text", "what is looked at: what was given at registration, or the newest report of an evaluation",
		[]string{"registration", FromEvaluation},
	},
}, as[Metric]}

// Kind names it.
func (Metric) Kind() string { return metricKind.Kind }

func (m Metric) check(field string) error {
	if strings.TrimSpace(m.Metric) == "" {
		return fault.New(fault.Invalid, "requirement.metric", "a requirement names no metric").In(field + ".metric").
			Do("name one, such as rmse")
	}
	if m.From != "" && m.From != "registration" && m.From != FromEvaluation {
		return fault.New(fault.Invalid, "requirement.from", "a metric cannot come from %q", m.From).In(field + ".from").
			Do("use registration or evaluation")
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

// value finds the metric of a version, with what shows it.
func (m Metric) value(v *registry.Version, reports []evidence.Evidence) (x float64, proof string, there bool) {
	if m.From != FromEvaluation {
		x, there = v.Metrics[m.Metric]
		return x, v.Ref, there
	}
	e := newest(reports, evidence.EvaluationKind)
	if e == nil {
		return 0, "", false
	}
	x, there = e.Metrics[m.Metric]
	return x, e.ID, there
}

// Evaluate compares the value with the limits and with the incumbent.
func (m Metric) Evaluate(f Facts) Outcome {
	x, proof, there := m.value(f.Version, f.Evidence)
	switch {
	case !there && m.From == FromEvaluation && proof == "":
		return waits(f.Version.Ref, "No report of an evaluation is attached that has %s.", m.Metric)
	case !there && m.From == FromEvaluation:
		return waits(proof, "The newest report of an evaluation has no %s.", m.Metric)
	case !there:
		return failed(f.Version.Ref, "No %s was recorded at registration.", m.Metric)
	case m.AtLeast != nil && x < *m.AtLeast:
		return failed(proof, "%s is %s and must be at least %s.", m.Metric, short(x), short(*m.AtLeast))
	case m.AtMost != nil && x > *m.AtMost:
		return failed(proof, "%s is %s and must be at most %s.", m.Metric, short(x), short(*m.AtMost))
	}
	if m.NoWorseBy == nil && m.NoWorseByShare == nil {
		return passed(proof, "%s is %s, %s.", m.Metric, short(x), m.limits())
	}
	if f.Incumbent == nil {
		return passed(proof, "%s is %s; nobody stands on %s to be worse than.", m.Metric, short(x), f.To)
	}
	was, _, there := m.value(f.Incumbent, f.IncumbentEvidence)
	if !there {
		return passed(proof, "%s is %s; %s has none to be worse than.", m.Metric, short(x), f.Incumbent.Ref)
	}
	worse := metric.Worsening(m.Metric, was, x,
		m.Better == "lower" || (m.Better == "" && metric.LowerIsBetter(m.Metric)))
	allowed := math.Inf(1)
	if m.NoWorseBy != nil {
		allowed = *m.NoWorseBy
	}
	if m.NoWorseByShare != nil {
		allowed = min(allowed, *m.NoWorseByShare*math.Abs(was))
	}
	// What differs in the last binary digits only is not worse.
	if worse > allowed+1e-12*max(math.Abs(x), math.Abs(was)) {
		return failed(proof, "%s is %s, %s worse than %s with %s; %s is allowed.", m.Metric, short(x), short(worse),
			f.Incumbent.Ref, short(was), short(allowed))
	}
	return passed(proof, "%s is %s, %s has %s.", m.Metric, short(x), f.Incumbent.Ref, short(was))
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
