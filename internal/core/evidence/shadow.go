package evidence

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/sketch"
)

// ShadowReport is what came of answering copies of real requests, each held against the answer that its caller got.
type ShadowReport struct {
	// Requests were answered by both and compared, Disagreed of them were different.
	Requests  uint64 `json:"requests" description:"answered by both and compared"`
	Disagreed uint64 `json:"disagreed"`
	// Against is the version whose answers the callers got.
	Against string `json:"against,omitempty" description:"MODEL@NUMBER"`
	// Tolerance is how far apart numbers could be that agreed, as a share of the larger.
	Tolerance float64 `json:"tolerance,omitempty" description:"how far apart numbers could be that agreed, as a share"`
	// Copies were sent, Failed of them got no answer or an error; Dropped were not sent, because there was no room.
	Copies  uint64 `json:"copies,omitempty" description:"sent to it"`
	Failed  uint64 `json:"failed,omitempty" description:"of the copies"`
	Dropped uint64 `json:"dropped,omitempty" description:"not sent, because there was no room"`
	// Unread were answered and could not be compared.
	Unread uint64 `json:"unread,omitempty" description:"answered, and too large or not of a form to be compared"`
	// Slower is how many times as long it took as the other, as the geometric mean over requests.
	Slower *Between `json:"slower,omitempty" description:"times as long as the other, request by request"`
	// Outputs are those of the other, one by one.
	Outputs []OutputDifference `json:"outputs,omitempty"`
	// Endpoint, Rollout, From and Until say where and when.
	Endpoint string     `json:"endpoint,omitempty"`
	Rollout  string     `json:"rollout,omitempty" description:"R-NUMBER"`
	From     *time.Time `json:"from,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
}

// Between is a figure with its interval of 95 %.
type Between struct {
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// OutputDifference is how one output differed, over rows.
type OutputDifference struct {
	Name      string `json:"name"`
	Rows      uint64 `json:"rows" description:"compared"`
	Differing uint64 `json:"differing" description:"rows that were different"`
	Lacking   uint64 `json:"lacking,omitempty" description:"rows that it did not give, or not in the same shape"`
	// Numbers are about the sizes of differences of numbers, in the unit of the output.
	Numbers *Apart `json:"numbers,omitempty" description:"how far apart numbers were, in the unit of the output"`
	// Kappa is Cohen's, of classes.
	Kappa *float64 `json:"kappa,omitempty" description:"Cohen's, of classes: agreement beyond chance, 1 for always"`
	// Classes are what both said where they differed, the most frequent first.
	Classes []ClassDifference `json:"classes,omitempty" description:"where classes differed, the most frequent first"`
}

// Apart says how far apart numbers were.
type Apart struct {
	// Mean, Median and P95 are of the sizes of the differences; Bias is the mean of the difference with its sign, of
	// outputs that are one number.
	Mean   float64 `json:"mean"`
	Median float64 `json:"median"`
	P95    float64 `json:"p95"`
	Bias   float64 `json:"bias" description:"mean of its number less the other's"`
}

// ClassDifference is what one said where the other said something else.
type ClassDifference struct {
	Was  string `json:"was" description:"what the other said"`
	Said string `json:"said"`
	Rows uint64 `json:"rows"`
}

// mostClasses is how many differing classes a report names of an output.
const mostClasses = 10

// OfPaired is the report of a version that answered copies: c are the counts of its copies.
func OfPaired(p *sketch.Paired, c sketch.Counts, against string, tolerance float64) ShadowReport {
	out := ShadowReport{
		Requests: p.Pairs, Disagreed: p.Disagreed, Against: against, Tolerance: tolerance, Copies: c.Requests,
		Failed: c.Failed(), Dropped: p.Dropped, Unread: p.Unread,
	}
	const normal = 1.959964 // the 97.5 % point
	if ratio, logError := p.Slower(); ratio > 0 {
		out.Slower = &Between{ratio, ratio * math.Exp(-normal*logError), ratio * math.Exp(normal*logError)}
	}
	for _, name := range slices.Sorted(maps.Keys(p.Outputs)) {
		d := p.Outputs[name]
		o := OutputDifference{Name: name, Rows: d.Rows, Differing: d.Differing, Lacking: d.Lacking}
		if n := d.Numbers(); n > 0 {
			o.Numbers = &Apart{d.MeanSize(), d.Size(0.5), d.Size(0.95), d.Sum / float64(n)}
		}
		if kappa, there := d.Kappa(); there {
			o.Kappa = &kappa
		}
		d.Classes(func(was, said string, rows uint64) {
			if was != said && len(o.Classes) < mostClasses {
				o.Classes = append(o.Classes, ClassDifference{was, said, rows})
			}
		})
		out.Outputs = append(out.Outputs, o)
	}
	return out
}

// Sentence is the report in words.
func (s *ShadowReport) Sentence() string {
	if s.Requests == 0 {
		return "No answer to a copy could be compared yet."
	}
	return s.compared("copies")
}

// compared is the report in words; sent names what was sent, such as copies.
func (s *ShadowReport) compared(sent string) string {
	var out []string
	if s.Requests > 0 {
		out = append(out, fmt.Sprintf("Of %d requests that both answered, %d were answered differently (%.3g %%).",
			s.Requests, s.Disagreed, 100*float64(s.Disagreed)/float64(s.Requests)))
	}
	for _, o := range s.Outputs {
		if o.Lacking > 0 {
			out = append(out, fmt.Sprintf("%s was not given, or in another shape, in %d rows.", o.Name, o.Lacking))
		}
		if n := o.Numbers; n != nil {
			out = append(out, fmt.Sprintf(
				"%s is %.3g apart in the middle and %.3g at the 95th percentile; on average %+.3g.", o.Name, n.Median,
				n.P95, n.Bias))
		}
		if o.Kappa != nil {
			out = append(out, fmt.Sprintf("%s has a kappa of %.3g.", o.Name, *o.Kappa))
		}
	}
	if s.Slower != nil {
		out = append(out, fmt.Sprintf("It took %.3g times as long (%.3g to %.3g).", s.Slower.Value, s.Slower.Low,
			s.Slower.High))
	}
	if s.Failed > 0 {
		out = append(out, fmt.Sprintf("%d of %d %s failed.", s.Failed, s.Copies, sent))
	}
	if s.Dropped > 0 {
		out = append(out, fmt.Sprintf("%d copies were not sent, because there was no room.", s.Dropped))
	}
	return strings.Join(out, " ")
}
