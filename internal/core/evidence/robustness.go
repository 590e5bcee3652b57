package evidence

import (
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
)

// Disturbance is in which way things are not as they should be.
type Disturbance string

// The kinds of disturbance.
const (
	// DisturbanceAgain asks the very same rows again; DisturbanceBatch several with one request; DisturbanceAtOnce
	// several requests at the same time.
	DisturbanceAgain  Disturbance = "again"
	DisturbanceBatch  Disturbance = "batch"
	DisturbanceAtOnce Disturbance = "at_once"
	// DisturbanceLowest and DisturbanceHighest give an input the ends of the reference profile, DisturbanceBelow and
	// DisturbanceAbove what is as far beyond as those are apart.
	DisturbanceLowest  Disturbance = "lowest"
	DisturbanceHighest Disturbance = "highest"
	DisturbanceBelow   Disturbance = "below"
	DisturbanceAbove   Disturbance = "above"
	// DisturbanceNoise moves numbers by a tenth of their standard deviation.
	DisturbanceNoise Disturbance = "noise"
	// DisturbanceMissing has null for an input, DisturbanceLeftOut has no such input at all.
	DisturbanceMissing Disturbance = "missing"
	DisturbanceLeftOut Disturbance = "left_out"
	// DisturbanceUnknown gives an input a level that was never there, DisturbanceUnit a number in another unit.
	DisturbanceUnknown Disturbance = "unknown_level"
	DisturbanceUnit    Disturbance = "other_unit"
)

// Enum lists the kinds, for the document of the API.
func (Disturbance) Enum() []any {
	return []any{
		DisturbanceAgain, DisturbanceBatch, DisturbanceAtOnce, DisturbanceLowest, DisturbanceHighest, DisturbanceBelow,
		DisturbanceAbove, DisturbanceNoise, DisturbanceMissing, DisturbanceLeftOut, DisturbanceUnknown, DisturbanceUnit,
	}
}

// Says names it in words.
func (t Disturbance) Says() string { return strings.ReplaceAll(string(t), "_", " ") }

// usual reports whether a version must answer such rows: they are as those that it was made from.
func (t Disturbance) usual() bool {
	return slices.Contains([]Disturbance{DisturbanceAgain, DisturbanceLowest, DisturbanceHighest, DisturbanceNoise}, t)
}

// Same reports whether the rows are those of before, so that the answers must be, too.
func (t Disturbance) Same() bool {
	return t == DisturbanceAgain || t == DisturbanceBatch || t == DisturbanceAtOnce
}

// What a version does when it is disturbed.
const (
	// Holds says that nothing came of it; Refuses that it was turned away as the caller's error; Moves that predictions
	// were others; Slows that it took longer.
	Holds   = "holds"
	Refuses = "refuses"
	Moves   = "moves"
	Slows   = "slows"
	// Breaks says that it failed, was not answered in time, or answered what is no prediction; Unsteady that the same
	// rows got other answers; Misreads that it seems to take an input in another unit than it comes.
	Breaks   = "breaks"
	Unsteady = "unsteady"
	Misreads = "misreads"
)

// Disturbed is what a version did with one disturbance.
type Disturbed struct {
	Disturbance Disturbance `json:"disturbance"`
	Input       string      `json:"input,omitempty" description:"the input that it is about; none for all of them"`
	// What is its value, or what is done to it.
	What string `json:"what,omitempty" description:"its value, or what is done to it"`
	// Rows were asked. Of those Answered got a prediction, Refused an error of the caller, Broke neither.
	Rows     int `json:"rows"`
	Answered int `json:"answered"`
	Refused  int `json:"refused,omitempty"`
	Broke    int `json:"broke,omitempty"`
	// Moved is how far predictions moved: the root of the mean square, in standard deviations of the predictions for
	// the rows as they are; of classes the share that is another.
	Moved *float64 `json:"moved,omitempty" description:"in standard deviations of predictions; of classes, the share"`
	// Differed are rows that were asked before and got another answer.
	Differed int `json:"differed,omitempty" description:"the same rows that got another answer than before"`
	// Slower is how many times as long a row took as before.
	Slower  *float64 `json:"slower,omitempty" description:"times as long for a row as one by one"`
	Verdict string   `json:"verdict" enum:"holds,refuses,moves,slows,breaks,unsteady,misreads"`
	// Fault says that it counts against the version.
	Fault bool `json:"fault,omitempty" description:"it counts against the version"`
	// Why is what was said, or seen, first.
	Why string `json:"why,omitempty" description:"what was said first, or what was seen"`
}

// CountsAgainst reports whether it counts against the version: it broke, the same rows got other answers, an input is
// taken in another unit, or what is usual is refused.
func (t *Disturbed) CountsAgainst() bool {
	return t.Broke > 0 || t.Verdict == Unsteady || t.Verdict == Misreads || t.Refused > 0 && t.Disturbance.usual()
}

// Says is what was tried, and what came of it that counts, in words.
func (t *Disturbed) Says() string {
	what := t.Disturbance.Says()
	switch {
	case t.Input != "":
		what = fmt.Sprintf("%s %s", t.Input, what)
	case t.What != "":
		what = t.What
	}
	if t.Why == "" {
		return what
	}
	return what + ": " + t.Why
}

// Of are the disturbances of a kind that an input was put to.
func (r *RobustnessReport) Of(kind Disturbance, input string) (out []Disturbed) {
	for _, t := range r.Tried {
		if t.Disturbance == kind && t.Input == input {
			out = append(out, t)
		}
	}
	return out
}

// Likeness says whose rows they are like that are drawn.
type Likeness struct {
	// Like is the version from whose reference profile they are drawn. Named says that whoever began it named that one;
	// Incumbent is who answered callers then.
	Like      string `json:"like" description:"the version from whose reference profile rows are drawn"`
	Named     bool   `json:"named,omitempty" description:"that version was named, and not found"`
	Incumbent string `json:"incumbent,omitempty" description:"who answered callers when it was begun"`
}

// RobustnessReport is what a version does when things are not as they should be, with rows drawn from a reference
// profile.
type RobustnessReport struct {
	Likeness
	// Rows were drawn; of them Answered, Refused and Broke as they are.
	Rows     int `json:"rows" description:"rows that were drawn, and are asked in every disturbance"`
	Answered int `json:"answered" description:"of them, as they are"`
	Refused  int `json:"refused,omitempty"`
	Broke    int `json:"broke,omitempty"`
	// Why is what was said first of a row that got no prediction.
	Why    string `json:"why,omitempty" description:"what was said first of a row without a prediction"`
	Output string `json:"output" description:"the output that is looked at"`
	Unit   string `json:"unit,omitempty"`
	// Aside says that an output other than the first was named, which may be the one that matters least.
	Aside bool `json:"aside,omitempty" description:"an output other than the first was named"`
	// Spread is the standard deviation of the predictions; Classes says that there are none of numbers.
	Spread  float64 `json:"spread,omitempty" description:"standard deviation of the predictions for the rows"`
	Classes bool    `json:"classes,omitempty" description:"predictions are classes"`
	// Off is how far the predictions lie from those of the reference profile: the mean distance of quantiles in its
	// standard deviations; of classes half the sum of the differences of shares.
	Off *float64 `json:"off,omitempty" description:"how far predictions lie from the reference profile's"`
	// Kept are inputs that no profile has, so that they stay as in the sample.
	Kept   []string         `json:"kept,omitempty" description:"inputs that stay as they are in the sample"`
	Tried  []Disturbed      `json:"tried"`
	Limits map[string]Limit `json:"limits,omitempty"`
	// Judged says how the service made it; Environment where it was asked.
	Judged      *Judged `json:"judged,omitempty"`
	Environment string  `json:"environment,omitempty"`
}

// The limits that hold where no others are said: how far noise may move numbers, and classes.
const (
	NoiseOfNumbers = 0.5
	NoiseOfClasses = 0.2
)

// counted are the measures that count disturbances, all of which are at most 0 where nothing else is said.
var counted = []string{"breaks", "misreads", "refuses_usual", "unsteady"}

// Values are what limits are about. Breaks, unsteady and misreads count disturbances, refuses_usual those rows or
// disturbances that must be answered and were refused; noise, beyond, missing, unknown_level and other_unit are the
// furthest that predictions moved; slower is the most times as long that a row took with many at once.
func (r *RobustnessReport) Values() map[string]float64 {
	out := map[string]float64{}
	for _, name := range counted {
		out[name] = 0
	}
	if r.Broke > 0 {
		out["breaks"]++
	}
	if r.Refused > 0 {
		out["refuses_usual"]++
	}
	if r.Off != nil {
		out["off"] = *r.Off
	}
	most := func(name string, x *float64) {
		if x != nil {
			out[name] = math.Max(out[name], *x)
		}
	}
	for i := range r.Tried {
		t := &r.Tried[i]
		switch {
		case t.Broke > 0:
			out["breaks"]++
		case t.Verdict == Unsteady, t.Verdict == Misreads:
			out[t.Verdict]++
		}
		if t.Refused > 0 && t.Disturbance.usual() {
			out["refuses_usual"]++
		}
		switch t.Disturbance {
		case DisturbanceNoise, DisturbanceUnknown, DisturbanceUnit:
			most(string(t.Disturbance), t.Moved)
		case DisturbanceBelow, DisturbanceAbove:
			most("beyond", t.Moved)
		case DisturbanceMissing, DisturbanceLeftOut:
			most("missing", t.Moved)
		case DisturbanceAtOnce:
			most("slower", t.Slower)
		}
	}
	return out
}

// RobustnessMeasures are the names of what limits may be about.
func RobustnessMeasures() []string {
	return slices.Concat(counted, []string{
		"beyond", "missing", "noise", "off", string(DisturbanceUnit), "slower", string(DisturbanceUnknown),
	})
}

// Allowed are the limits that hold where no others are said.
func (r *RobustnessReport) Allowed() map[string]Limit {
	out := map[string]Limit{}
	none, noise := 0.0, NoiseOfNumbers
	if r.Classes {
		noise = NoiseOfClasses
	}
	for _, name := range counted {
		out[name] = Limit{AtMost: &none}
	}
	if _, there := r.Values()["noise"]; there {
		out["noise"] = Limit{AtMost: &noise}
	}
	return out
}

// Broken says which limits are not kept, empty when all are. Limits of what there is no measure of are kept.
func (r *RobustnessReport) Broken(limits map[string]Limit) string {
	values := r.Values()
	limits = maps.Clone(limits)
	maps.DeleteFunc(limits, func(name string, _ Limit) bool { _, there := values[name]; return !there })
	broken, err := brokenLimits(RobustnessKind, limits, values)
	if err != nil {
		return "; " + err.Error()
	}
	return broken
}

// Sentence is the report in words.
func (r *RobustnessReport) Sentence() string {
	by := map[string]int{}
	for _, t := range r.Tried {
		by[t.Verdict]++
	}
	var parts []string
	for _, v := range []string{Breaks, Misreads, Unsteady, Refuses, Moves, Slows, Holds} {
		if by[v] > 0 {
			parts = append(parts, fmt.Sprintf("%s %d", v, by[v]))
		}
	}
	says := fmt.Sprintf("%d disturbances with %d rows: %s", len(r.Tried), r.Rows, strings.Join(parts, ", "))
	if r.Answered < r.Rows {
		says = fmt.Sprintf("%d of %d usual rows are answered; ", r.Answered, r.Rows) + says
	}
	return says
}

func readRobustness(in io.Reader) (Findings, string, error) {
	var r RobustnessReport
	if err := readJSONReport(in, RobustnessKind, &r); err != nil {
		return Findings{}, "", err
	}
	if r.Rows < 1 || r.Answered+r.Refused+r.Broke != r.Rows {
		return Findings{}, "", invalidReport(RobustnessKind, "of %d rows %d were answered, %d refused, and %d broke",
			r.Rows, r.Answered, r.Refused, r.Broke)
	}
	values := r.Values()
	broken, err := brokenLimits(RobustnessKind, r.Limits, values)
	if err != nil {
		return Findings{}, "", err
	}
	return Findings{Robustness: &r, Metrics: values, Says: r.Sentence() + broken}, verdictOf(r.Limits, broken), nil
}
