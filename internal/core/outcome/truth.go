// Package outcome joins the truth, which comes later, to what was predicted, and measures how right each version is by
// what was joined.
package outcome

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/request"
)

// Truth is one row of it: what really was, for an earlier request.
type Truth struct {
	// Line is where it stood, from 1.
	Line int `json:"line,omitempty" description:"where it stood, from 1; reported back"`
	// Request is the id of the request; or else Keys are values of input columns, and At is when it was asked.
	Request string            `json:"request,omitempty" description:"what the header Inner-Ladder-Request said"`
	Keys    map[string]string `json:"keys,omitempty" description:"values of inputs that say which request it was"`
	At      *time.Time        `json:"at,omitempty" description:"when it was asked, where there is no id"`
	// Row is which row of the request it is of; without it the request has one row.
	Row *int `json:"row,omitempty" minimum:"0" description:"which row of the request, from 0; where it has several"`
	// Values are the truth by output.
	Values map[string]any `json:"values" required:"true" description:"the truth, by the name of the output"`
}

// Pair is a prediction with its truth: two numbers, or two classes.
type Pair struct {
	Request string    `json:"request"`
	Row     int       `json:"row"`
	Output  string    `json:"output"`
	At      time.Time `json:"at" description:"when it was predicted"`
	Version string    `json:"version"`
	Lane    string    `json:"lane"`
	// Arrived is when the truth was told.
	Arrived time.Time `json:"arrived" description:"when the truth was told"`
	// Number is set when both are numbers; else they are classes.
	Number         bool    `json:"number" description:"both are numbers; else they are classes"`
	Predicted      float64 `json:"predicted"`
	Truth          float64 `json:"truth"`
	PredictedClass string  `json:"predicted_class,omitempty"`
	TruthClass     string  `json:"truth_class,omitempty"`
}

// Fate is what became of a truth.
type Fate string

// The fates of truths.
const (
	Joined Fate = "joined"
	// Again: the same truth was told before.
	Again Fate = "again"
	// Other: another truth was told before, and stays.
	Other Fate = "other"
	// Replaced: it took the place of another.
	Replaced Fate = "replaced"
	// Unmatched: there is no such request in the log.
	Unmatched Fate = "unmatched"
	// Late: what the log had of that time is gone.
	Late Fate = "late"
	// Unclear: it could be of several rows or requests that answered otherwise.
	Unclear Fate = "unclear"
	// NotKept: the request is in the log, but not what was predicted.
	NotKept Fate = "not_kept"
	// Wrong: it cannot be a truth of what was predicted.
	Wrong Fate = "wrong"
)

// Fates lists them, in the order in which they are told.
func Fates() []Fate {
	return []Fate{Joined, Replaced, Again, Other, Unmatched, Late, Unclear, NotKept, Wrong}
}

// Enum lists them for the document of the API.
func (Fate) Enum() (out []any) {
	for _, f := range Fates() {
		out = append(out, f)
	}
	return out
}

// InWords is what a fate means.
func (f Fate) InWords() string {
	return map[Fate]string{
		Joined: "joined to what was predicted", Replaced: "took the place of another truth",
		Again: "told before", Other: "told otherwise before; what was told stays",
		Unmatched: "of no request that is in the log", Late: "of a time of which the log has nothing any more",
		Unclear: "of several rows, and it is not said of which", NotKept: "of requests whose answers are not kept",
		Wrong: "no truth of what was predicted",
	}[f]
}

// Join makes pairs of a truth and the request that it is of. Without any pair, the fate and a sentence say why.
func Join(t *Truth, k *request.Kept, classes bool) (pairs []Pair, fate Fate, why string) {
	rows := request.RowsOf(k)
	row := 0
	switch {
	case !k.Answered():
		return nil, Wrong, fmt.Sprintf("request %s was not answered by a version", k.ID)
	case len(k.Answer) == 0 || len(rows) == 0:
		return nil, NotKept, fmt.Sprintf("what request %s was answered is not kept: %s", k.ID, k.AnswerNote)
	case t.Row != nil:
		row = *t.Row
	case len(rows) > 1:
		return nil, Unclear, fmt.Sprintf("request %s has %d rows; say of which it is the truth", k.ID, len(rows))
	}
	if row < 0 || row >= len(rows) {
		return nil, Wrong, fmt.Sprintf("request %s has %d rows, and none %d", k.ID, len(rows), row)
	}
	for _, output := range slices.Sorted(maps.Keys(t.Values)) {
		predicted, there := rows[row].Outputs[output]
		if !there {
			return nil, Wrong, fmt.Sprintf("request %s was answered without a single value of %s; it has %s", k.ID,
				output, strings.Join(slices.Sorted(maps.Keys(rows[row].Outputs)), ", "))
		}
		p := Pair{
			Request: k.ID, Row: row, Output: output, At: k.Ended, Version: k.Version, Lane: k.Lane,
		}
		if why := p.fill(predicted, t.Values[output], classes); why != "" {
			return nil, Wrong, why
		}
		pairs = append(pairs, p)
	}
	return pairs, Joined, ""
}

// fill takes in what was predicted and what was true, or says why they do not go together.
func (p *Pair) fill(predicted, truth any, classes bool) (why string) {
	x, number := predicted.(float64)
	if truth == nil {
		return "the truth of " + p.Output + " is missing"
	}
	if !number || classes {
		if s, is := predicted.(string); is && strings.HasPrefix(s, "h:") && len(s) == 18 {
			return p.Output + " is kept as a hash, which tells nothing of it"
		}
		p.PredictedClass, p.TruthClass = class(predicted), class(truth)
		if p.PredictedClass == "" || p.TruthClass == "" || len(p.TruthClass) > longestClass {
			return fmt.Sprintf("%.60q is no class that %s could have", class(truth), p.Output)
		}
		return ""
	}
	y, is := truth.(float64)
	if text, isText := truth.(string); isText {
		var err error
		y, err = strconv.ParseFloat(strings.TrimSpace(text), 64)
		is = err == nil
	}
	if is && !(math.Abs(x) < largest && math.Abs(y) < largest) {
		return fmt.Sprintf("%.60q or its prediction is too large, or not finite", fmt.Sprint(truth))
	}
	if !is {
		return fmt.Sprintf("%.60q is no number, and %s is one", fmt.Sprint(truth), p.Output)
	}
	p.Number, p.Predicted, p.Truth = true, x, y
	return ""
}

// largest bounds numbers, so that the fourth powers of errors can be added up.
const largest = 1e60

// longestClass is how long the name of a class may be.
const longestClass = 200

// class is a value as the name of a class.
func class(v any) string {
	switch v := v.(type) {
	case string:
		return strings.TrimSpace(v)
	case bool:
		return strconv.FormatBool(v)
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return ""
}

// Same reports whether two pairs say the same truth.
func (p *Pair) Same(o *Pair) bool {
	return p.Number == o.Number && p.Truth == o.Truth && p.TruthClass == o.TruthClass
}

// Error is how far a number was off, prediction less truth; of classes 0 where it was right and else 1.
func (p *Pair) Error() float64 {
	switch {
	case p.Number:
		return p.Predicted - p.Truth
	case p.PredictedClass == p.TruthClass:
		return 0
	}
	return 1
}
