package request

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
)

// Filter says which requests of a log are looked for; what is empty narrows nothing.
type Filter struct {
	// From and To bound when they ended: [From, To).
	From, To time.Time
	Lane     string
	Version  string
	Key      string
	Outcome  Outcome
	Reason   string
	Status   int
	// Slower is the least time from the request read to the answer written.
	Slower time.Duration
	// Trouble is set where only failures, refusals and requests that another version answered are wanted.
	Trouble bool
	// Where are conditions on columns; all must hold.
	Where []Condition
}

// Check says whether a filter can be looked for.
func (f Filter) Check() error {
	if f.Outcome != "" && !slices.Contains(Outcomes(), f.Outcome) {
		names := make([]string, 0, len(Outcomes()))
		for _, o := range Outcomes() {
			names = append(names, string(o))
		}
		return fault.New(fault.Invalid, "requests.outcome", "%q is no way in which requests end", f.Outcome).
			In("outcome").Do("use one of %s", strings.Join(names, ", "))
	}
	if !f.From.IsZero() && !f.To.IsZero() && !f.From.Before(f.To) {
		return fault.New(fault.Invalid, "requests.span", "nothing lies from %s to %s", f.From.Format(time.RFC3339),
			f.To.Format(time.RFC3339)).In("from").Do("give a from that is before to")
	}
	return nil
}

// Day reports whether any of a day, 2026-11-25 say, lies in the span that is looked for.
func (f Filter) Day(day string) bool {
	return (f.From.IsZero() || day >= f.From.UTC().Format(time.DateOnly)) &&
		(f.To.IsZero() || day <= f.To.UTC().Format(time.DateOnly))
}

// Condition is one on the values of an input or an output: one row that fulfils it is enough.
type Condition struct {
	Column string
	// Is is one of = != < <= > >= ; with null, = and != ask whether a value is missing.
	Is    string
	Value string
	// number is the value as a number, where it is one.
	number   float64
	isNumber bool
}

// ParseCondition reads a condition such as wind<3, mix=harbour or outdoor_c=null.
func ParseCondition(text string) (Condition, error) {
	at := strings.IndexAny(text, "=<>!")
	if at > 0 {
		c := Condition{Column: strings.TrimSpace(text[:at])}
		for _, is := range []string{"!=", "<=", ">=", "=", "<", ">"} {
			value, found := strings.CutPrefix(text[at:], is)
			if !found || c.Column == "" {
				continue
			}
			c.Is, c.Value = is, strings.TrimSpace(value)
			number, err := strconv.ParseFloat(c.Value, 64)
			c.number, c.isNumber = number, err == nil
			if equal := is == "=" || is == "!="; equal || c.isNumber {
				return c, nil
			}
		}
	}
	return Condition{}, fault.New(fault.Invalid, "requests.where", "%q is no condition on a column", text).In("where").
		Do("write COLUMN=VALUE, COLUMN!=VALUE, or COLUMN<NUMBER with <, <=, > or >=; null stands for a missing value")
}

// String writes the condition as it is read.
func (c Condition) String() string { return c.Column + c.Is + c.Value }

// of reports whether one value fulfils the condition.
func (c Condition) of(v any) bool {
	if v == nil || c.Value == "null" {
		missing := v == nil && c.Value == "null"
		return missing == (c.Is == "=") && (c.Is == "=" || c.Is == "!=")
	}
	if number, ok := v.(float64); ok && c.isNumber {
		switch c.Is {
		case "<":
			return number < c.number
		case "<=":
			return number <= c.number
		case ">":
			return number > c.number
		case ">=":
			return number >= c.number
		}
		return (number == c.number) == (c.Is == "=")
	}
	text, ok := v.(string)
	if truth, is := v.(bool); is {
		text, ok = strconv.FormatBool(truth), true
	}
	return (c.Is == "=" || c.Is == "!=") && (ok && text == c.Value) == (c.Is == "=")
}

// Columns are the values of the inputs and outputs of a request, by name, row after row.
type Columns map[string][]any

// ColumnsOf takes what is kept of a request apart, as far as it can be. An output does not hide an input of the same
// name: it stands behind it.
func ColumnsOf(e *Kept) Columns {
	out := Columns{}
	for _, body := range []json.RawMessage{e.Request, e.Answer} {
		var m message
		if json.Unmarshal(body, &m) != nil {
			continue
		}
		for _, t := range slices.Concat(m.Inputs, m.Outputs) {
			out[t.Name] = append(out[t.Name], t.values()...)
		}
	}
	return out
}

func flat(into []any, v any) []any {
	switch v := v.(type) {
	case []any:
		for _, item := range v {
			into = flat(into, item)
		}
		return into
	case map[string]any: // no tensor has such values
		return append(into, nil)
	}
	return append(into, v)
}

// Holds reports whether all conditions hold for the columns of a request.
func (f Filter) Holds(columns Columns) bool {
	for _, c := range f.Where {
		if !slices.ContainsFunc(columns[c.Column], c.of) {
			return false
		}
	}
	return true
}
