package evidence

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
)

// ReplayReport is what came of asking a version what callers had asked another before, from the log of requests: the
// answers side by side, as of a shadow, and what is beyond that. Its copies are the requests that were asked again.
type ReplayReport struct {
	ShadowReport
	// Replayed were asked again. Of those FailedThen got no answer from the other; Recovered of these were answered
	// now.
	Replayed   uint64 `json:"replayed" description:"requests that were asked again"`
	FailedThen uint64 `json:"failed_then,omitempty" description:"that had failed before"`
	Recovered  uint64 `json:"recovered,omitempty" description:"of those that had failed before, answered now"`
	// Found were in the log and could be asked again; LeftOut could not, by why.
	Found   int64            `json:"found,omitempty" description:"in the log, of which those were drawn"`
	LeftOut map[string]int64 `json:"left_out,omitempty" description:"in the log and not asked again, by why"`
	// Failures are what failed now, by why.
	Failures map[string]uint64 `json:"failures,omitempty" description:"what failed now, by why"`
	// Segments are parts of the rows by their inputs, those first in which both differ most.
	Segments []Segment `json:"segments,omitempty" description:"parts of the rows, where both differ most first"`
	// Truth is how right both were, where the truth is known by now.
	Truth *Evaluation `json:"truth,omitempty" description:"how right both were, where the truth is known"`
	// Limits are of disagreement, error_rate, slower, or measures of the truth.
	Limits map[string]Limit `json:"limits,omitempty"`
	// Judged says how the service made it.
	Judged *Judged `json:"judged,omitempty" description:"how the service made it"`
}

// Values are what limits are about.
func (r *ReplayReport) Values() map[string]float64 {
	out := map[string]float64{}
	if r.Requests > 0 {
		out["disagreement"] = float64(r.Disagreed) / float64(r.Requests)
	}
	if r.Copies > 0 {
		out["error_rate"] = float64(r.Failed) / float64(r.Copies)
	}
	if r.Slower != nil {
		out["slower"] = r.Slower.Value
	}
	if r.Truth != nil {
		maps.Copy(out, r.Truth.Metrics)
	}
	return out
}

// Sentence is the report in words.
func (r *ReplayReport) Sentence() string { return r.compared("requests") }

func readReplay(r io.Reader) (Findings, string, error) {
	var s ReplayReport
	if err := readJSONReport(r, ReplayKind, &s); err != nil {
		return Findings{}, "", err
	}
	if s.Replayed < 1 || s.Disagreed > s.Requests || s.Failed > s.Copies || s.Requests > s.Replayed {
		return Findings{}, "", invalidReport(ReplayKind, "%d of %d requests that were asked again were answered "+
			"differently", s.Disagreed, s.Replayed)
	}
	values := s.Values()
	broken, err := brokenLimits(ReplayKind, s.Limits, values)
	if err != nil {
		return Findings{}, "", err
	}
	says := fmt.Sprintf("%d requests asked again", s.Replayed)
	if s.Requests > 0 {
		says += fmt.Sprintf(", %.3g %% answered differently", 100*values["disagreement"])
	}
	if s.Failed > 0 {
		says += fmt.Sprintf(", %.3g %% failed", 100*values["error_rate"])
	}
	if s.Truth != nil && s.Truth.Against != nil {
		says += fmt.Sprintf("; on %d with the truth %s", s.Truth.Against.Rows, s.Truth.Against.Says())
	}
	return Findings{Replay: &s, Metrics: values, Says: says + broken}, verdictOf(s.Limits, broken), nil
}

// LeftOutSays says which requests were not asked again, and why.
func (r *ReplayReport) LeftOutSays() string {
	var parts []string
	for _, why := range slices.Sorted(maps.Keys(r.LeftOut)) {
		parts = append(parts, fmt.Sprintf("%d: %s", r.LeftOut[why], why))
	}
	return strings.Join(parts, "; ")
}
