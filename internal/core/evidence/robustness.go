package evidence

import (
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
)

// Trouble is in which way things are not as they should be.
type Trouble string

// The kinds of trouble.
const (
	// TroubleAgain asks the very same rows again; TroubleBatch several with one request; TroubleAtOnce several requests
	// at the same time.
	TroubleAgain  Trouble = "again"
	TroubleBatch  Trouble = "batch"
	TroubleAtOnce Trouble = "at_once"
	// TroubleLowest and TroubleHighest give an input the ends of the reference profile, TroubleBelow and TroubleAbove
	// what is as far beyond as those are apart.
	TroubleLowest  Trouble = "lowest"
	TroubleHighest Trouble = "highest"
	TroubleBelow   Trouble = "below"
	TroubleAbove   Trouble = "above"
	// TroubleNoise moves numbers by a tenth of their standard deviation.
	TroubleNoise Trouble = "noise"
	// TroubleMissing has null for an input, TroubleLeftOut has no such input at all.
	TroubleMissing Trouble = "missing"
	TroubleLeftOut Trouble = "left_out"
	// TroubleUnknown gives an input a level that was never there, TroubleUnit a number in another unit.
	TroubleUnknown Trouble = "unknown_level"
	TroubleUnit    Trouble = "other_unit"
)

// Says names it in words.
func (t Trouble) Says() string { return strings.ReplaceAll(string(t), "_", " ") }

// usual reports whether a version must answer such rows: they are as those that it was made from.
func (t Trouble) usual() bool {
	return slices.Contains([]Trouble{TroubleAgain, TroubleLowest, TroubleHighest, TroubleNoise}, t)
}

// Same reports whether the rows are those of before, so that the answers must be, too.
func (t Trouble) Same() bool { return t == TroubleAgain || t == TroubleBatch || t == TroubleAtOnce }

// What a version does with trouble.
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

// Troubled is what a version did with one trouble.
type Troubled struct {
	Trouble Trouble `json:"trouble" enum:"again,batch,at_once,lowest,highest,below,above,noise,missing,left_out,unknown_level,other_unit"`
	Input   string  `json:"input,omitempty" description:"the input that it is about; none for all of them"`
	// What is its value, or what is done to it.
	What string `json:"what,omitempty" description:"its value, or what is done to it"`
	// Rows were asked. Of those Answered got a prediction, Refused an error of the caller, Broke neither.
	Rows     int `json:"rows"`
	Answered int `json:"answered"`
	Refused  int `json:"refused,omitempty"`
	Broke    int `json:"broke,omitempty"`
	// Moved is how far predictions moved: the root of the mean square, in standard deviations of the predictions for
	// the rows as they are; of classes the share that is another.
	Moved *float64 `json:"moved,omitempty" description:"in standard deviations of the predictions; of classes the share that is another"`
	// Differed are rows that were asked before and got another answer.
	Differed int `json:"differed,omitempty" description:"the same rows that got another answer than before"`
	// Slower is how many times as long a row took as before.
	Slower  *float64 `json:"slower,omitempty" description:"times as long for a row as one by one"`
	Verdict string   `json:"verdict" enum:"holds,refuses,moves,slows,breaks,unsteady,misreads"`
	// Why is what was said, or seen, first.
	Why string `json:"why,omitempty" description:"what was said first, or what was seen"`
}

// Fault reports whether it counts against the version: it broke, the same rows got other answers, an input is taken in
// another unit, or what is usual is refused.
func (t *Troubled) Fault() bool {
	return t.Broke > 0 || t.Verdict == Unsteady || t.Verdict == Misreads || t.Refused > 0 && t.Trouble.usual()
}

// Says is what was tried, and what came of it that counts, in words.
func (t *Troubled) Says() string {
	what := t.Trouble.Says()
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

// Of are the troubles of a kind that an input was put to.
func (r *RobustnessReport) Of(kind Trouble, input string) (out []Troubled) {
	for _, t := range r.Tried {
		if t.Trouble == kind && t.Input == input {
			out = append(out, t)
		}
	}
	return out
}

// RobustnessReport is what a version does when things are not as they should be, with rows drawn from a reference
// profile.
type RobustnessReport struct {
	// Rows were drawn like those of Like; of them Answered, Refused and Broke as they are.
	Rows     int    `json:"rows" description:"rows that were drawn, and are asked in every trouble"`
	Like     string `json:"like" description:"the version from whose reference profile the rows are drawn"`
	Answered int    `json:"answered" description:"of them, as they are"`
	Refused  int    `json:"refused,omitempty"`
	Broke    int    `json:"broke,omitempty"`
	// Why is what was said first of a row that got no prediction.
	Why    string `json:"why,omitempty" description:"what was said first of a row without a prediction"`
	Output string `json:"output" description:"the output that is looked at"`
	Unit   string `json:"unit,omitempty"`
	// Aside says that an output other than the first was named, which may be the one that matters least.
	Aside bool `json:"aside,omitempty" description:"an output other than the first was named"`
	// Spread is the standard deviation of the predictions; Classes says that there are none of numbers.
	Spread  float64 `json:"spread,omitempty" description:"standard deviation of the predictions for the rows"`
	Classes bool    `json:"classes,omitempty" description:"predictions are classes"`
	// Named says that whoever asked for it named Like; Incumbent is who answered callers then.
	Named     bool   `json:"named,omitempty" description:"the version like was named, and not found"`
	Incumbent string `json:"incumbent,omitempty" description:"who answered callers when it was begun"`
	// Off is how far the predictions lie from those of the reference profile: the mean distance of quantiles in its
	// standard deviations; of classes half the sum of the differences of shares.
	Off *float64 `json:"off,omitempty" description:"how far predictions lie from the reference profile, in its standard deviations; of classes the share that is another"`
	// Kept are inputs that no profile has, so that they stay as in the sample.
	Kept   []string         `json:"kept,omitempty" description:"inputs that stay as they are in the sample"`
	Tried  []Troubled       `json:"tried"`
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

// NoiseAllowed is how far noise may move predictions where nothing else is said.
func (r *RobustnessReport) NoiseAllowed() float64 {
	if r.Classes {
		return NoiseOfClasses
	}
	return NoiseOfNumbers
}

// counted are the measures that count troubles, all of which are at most 0 where nothing else is said.
var counted = []string{"breaks", "misreads", "refuses_usual", "unsteady"}

// Values are what limits are about. Breaks, unsteady and misreads count troubles, refuses_usual those rows or troubles
// that must be answered and were refused; noise, beyond, missing, unknown_level and other_unit are the furthest that
// predictions moved; slower is the most times as long that a row took with many at once.
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
		if t.Refused > 0 && t.Trouble.usual() {
			out["refuses_usual"]++
		}
		switch t.Trouble {
		case TroubleNoise, TroubleUnknown, TroubleUnit:
			most(string(t.Trouble), t.Moved)
		case TroubleBelow, TroubleAbove:
			most("beyond", t.Moved)
		case TroubleMissing, TroubleLeftOut:
			most("missing", t.Moved)
		case TroubleAtOnce:
			most("slower", t.Slower)
		}
	}
	return out
}

// RobustnessMeasures are the names of what limits may be about.
func RobustnessMeasures() []string {
	return slices.Concat(counted, []string{
		"beyond", "missing", "noise", "off", string(TroubleUnit), "slower", string(TroubleUnknown),
	})
}

// Allowed are the limits that hold where no others are said.
func (r *RobustnessReport) Allowed() map[string]Limit {
	out := map[string]Limit{}
	none, noise := 0.0, r.NoiseAllowed()
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
	says := fmt.Sprintf("%d troubles with %d rows: %s", len(r.Tried), r.Rows, strings.Join(parts, ", "))
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
