// Package check is about tests of what is deployed: requests with what must come back, whatever serves the version.
package check

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"innerladder/internal/core/answers"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/span"
)

const (
	// mostCases is how many cases a file may have, mostValues how many values one case may go through.
	mostCases  = 500
	mostValues = 50
	// longestName is how long the name of a case may be.
	longestName = 200
)

// Cases are tests of what is deployed. A new kind of test is a field of Case: Requests says what it asks, Judge what
// must come back.
type Cases struct {
	// Base are values that all cases have; where nothing is said, an input is as in the sample of the version.
	Base  map[string]any `json:"base,omitempty" description:"inputs that all cases have that do not say otherwise"`
	Cases []Case         `json:"cases" required:"true"`
}

// Case is one test: one request, or several in which one input moves, and what must come back.
type Case struct {
	Name string `json:"name" required:"true"`
	// Inputs are values of inputs; Request is a whole request of the protocol in their place.
	Inputs  map[string]any `json:"inputs,omitempty"`
	Request string         `json:"request,omitempty" description:"a whole request in JSON, in place of inputs"`
	// Expect are outputs that must come back; numbers may be off by Tolerance, in their own unit.
	Expect    map[string]any `json:"expect,omitempty" description:"outputs that must come back"`
	Tolerance float64        `json:"tolerance,omitempty" description:"how far numbers may be off, in their own unit"`
	// Between are outputs with the least and the most that they may be.
	Between map[string][]float64 `json:"between,omitempty" description:"outputs with the least and the most"`
	// UnmovedBy are inputs with values that must change nothing, beyond Tolerance.
	UnmovedBy map[string][]any `json:"unmoved_by,omitempty" description:"an input with values that must change nothing"`
	// RisesWith and FallsWith are an input with ascending values, with which the output must rise, or fall.
	RisesWith map[string][]any `json:"rises_with,omitempty" description:"an input with values: the output must rise"`
	FallsWith map[string][]any `json:"falls_with,omitempty" description:"an input with values: the output must fall"`
	// Output is the one that is looked at where an input moves; the first when empty.
	Output string `json:"output,omitempty" description:"looked at where an input moves; the first when not given"`
	// Refused demands an error of the caller: a status from 400 to 499.
	Refused bool `json:"refused,omitempty" description:"it must be refused as the caller's error: 400 to 499"`
	// Within is how long an answer may take.
	Within span.Duration `json:"within,omitempty" description:"how long an answer may take, such as 50ms"`
}

// Check refuses cases that cannot be meant.
func (c *Cases) Check() error {
	if len(c.Cases) == 0 || len(c.Cases) > mostCases {
		return fault.New(fault.Invalid, "cases.count", "there are %d cases", len(c.Cases)).In("cases").
			Do("give 1 to %d", mostCases)
	}
	seen := map[string]bool{}
	for i := range c.Cases {
		at := fmt.Sprintf("cases[%d]", i)
		if err := c.Cases[i].check(at); err != nil {
			return err
		}
		if name := c.Cases[i].Name; seen[name] {
			return fault.New(fault.Invalid, "cases.name", "two cases are called %q", name).In(at + ".name").
				Do("give each a name of its own")
		}
		seen[c.Cases[i].Name] = true
	}
	return nil
}

func (c *Case) check(at string) error {
	bad := func(field, remedy, what string, args ...any) error {
		return fault.New(fault.Invalid, "cases."+field, what, args...).In(at+"."+field).Do("%s", remedy)
	}
	moves := len(c.UnmovedBy) + len(c.RisesWith) + len(c.FallsWith)
	switch {
	case strings.TrimSpace(c.Name) == "" || len(c.Name) > longestName:
		return bad("name", "say in a few words what must be so", "a case has no name, or a very long one")
	case c.Request != "" && !json.Valid([]byte(c.Request)):
		return bad("request", "write a request of the Open Inference Protocol in JSON", "the request is no JSON")
	case c.Request != "" && (len(c.Inputs) > 0 || moves > 0):
		return bad("request", "leave out the inputs and what moves, or the request",
			"a whole request has its own inputs")
	case !(c.Tolerance >= 0) || math.IsInf(c.Tolerance, 0):
		return bad("tolerance", "give how far numbers may be off, such as 0.1", "%v cannot be a tolerance", c.Tolerance)
	case c.Within < 0:
		return bad("within", "give a time such as 50ms", "%s cannot be kept", c.Within)
	case moves > 1:
		return bad("output", "make a case of each", "more than one input moves")
	case c.Refused && (moves > 0 || len(c.Expect)+len(c.Between) > 0):
		return bad("refused", "make two cases of it", "what is refused has no outputs")
	case !c.Refused && moves+len(c.Expect)+len(c.Between) == 0 && c.Within == 0:
		return bad("expect", "say one of expect, between, unmoved_by, rises_with, falls_with, refused, within",
			"nothing is demanded of %q", c.Name)
	}
	for name, b := range c.Between {
		if len(b) != 2 || !(b[0] <= b[1]) {
			return bad("between", "write OUTPUT: [least, most]", "the bounds of %s are %v", name, b)
		}
	}
	for _, moved := range []map[string][]any{c.UnmovedBy, c.RisesWith, c.FallsWith} {
		for name, values := range moved {
			if len(values) < 1 || len(values) > mostValues || len(values) < 2 && len(c.UnmovedBy) == 0 {
				return bad("output", fmt.Sprintf("give up to %d values", mostValues),
					"%s moves through %d values", name, len(values))
			}
		}
	}
	return nil
}

// moved is the input that moves, with its values; none where nothing moves.
func (c *Case) moved() (input string, values []any) {
	for _, m := range []map[string][]any{c.UnmovedBy, c.RisesWith, c.FallsWith} {
		for name, values := range m {
			return name, values
		}
	}
	return "", nil
}

// Requests are what is sent for a case to a server that takes an exact signature: one, or one for each value of the
// input that moves, in that order; before those of unmoved_by comes the one that must not change. Sample is the sample
// request of the version. An error says what cannot be sent.
func (c *Cases) Requests(i int, exact *signature.Signature, sample json.RawMessage) ([]json.RawMessage, error) {
	one := &c.Cases[i]
	if one.Request != "" {
		return []json.RawMessage{json.RawMessage(one.Request)}, nil
	}
	values := maps.Clone(c.Base)
	if values == nil {
		values = map[string]any{}
	}
	maps.Copy(values, one.Inputs)
	if one.Refused {
		r, err := raw(sample, values)
		return []json.RawMessage{r}, err
	}
	input, through := one.moved()
	if input == "" {
		r, err := exact.Override(sample, values)
		return []json.RawMessage{r}, err
	}
	var out []json.RawMessage
	if len(one.UnmovedBy) > 0 {
		r, err := exact.Override(sample, values)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	for _, v := range through {
		values[input] = v
		r, err := exact.Override(sample, values)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// raw is a request with other values, whatever they are: what must be refused does not fit.
func raw(sample json.RawMessage, values map[string]any) (json.RawMessage, error) {
	var r struct {
		Inputs []map[string]any `json:"inputs"`
	}
	if err := json.Unmarshal(sample, &r); err != nil {
		return nil, err
	}
	for name, v := range values {
		found := false
		for _, in := range r.Inputs {
			if in["name"] == name {
				found = true
				list, is := v.([]any)
				if !is {
					list = []any{v}
				}
				in["data"] = list
			}
		}
		if !found {
			r.Inputs = append(r.Inputs, map[string]any{
				"name": name, "datatype": "BYTES", "shape": []int{1}, "data": []any{v},
			})
		}
	}
	return json.Marshal(r)
}

// Answer is what came back for one request.
type Answer struct {
	// Status is 0 where nothing came back, and Why says why.
	Status int
	Why    string
	Took   time.Duration
	// Outputs are flat, by name; nil where the answer cannot be read.
	Outputs map[string][]any
}

// Judge says what is wrong with the answers to the requests of a case, empty when nothing is.
func (c *Case) Judge(got []Answer) string {
	for i, a := range got {
		if why := c.came(&a); why != "" {
			return c.at(i) + why
		}
	}
	if c.Refused {
		return ""
	}
	if why := c.expects(got[0].Outputs); why != "" {
		return why
	}
	if _, values := c.moved(); values != nil {
		return c.moves(got)
	}
	return ""
}

// at says which of several requests it was.
func (c *Case) at(i int) string {
	input, values := c.moved()
	if len(c.UnmovedBy) > 0 {
		i--
	}
	if input == "" || i < 0 {
		return ""
	}
	return fmt.Sprintf("with %s %v ", input, values[i])
}

// came says what is wrong with how an answer came.
func (c *Case) came(a *Answer) string {
	switch {
	case a.Status == 0:
		return "it was not answered: " + a.Why
	case c.Refused && a.Status < 400:
		return fmt.Sprintf("it was answered with status %d, and must be refused", a.Status)
	case c.Refused && a.Status >= 500:
		return fmt.Sprintf("it failed with status %d, and must be refused as the caller's error", a.Status)
	case !c.Refused && a.Status != 200:
		return strings.TrimSuffix(fmt.Sprintf("it was answered with status %d: %s", a.Status, a.Why), ": ")
	case c.Within > 0 && a.Took > time.Duration(c.Within):
		return fmt.Sprintf("it took %s, and may take %s", a.Took.Round(time.Microsecond), c.Within)
	case !c.Refused && a.Outputs == nil:
		return "the answer is not of the protocol"
	}
	return ""
}

// expects holds outputs against what must come back.
func (c *Case) expects(got map[string][]any) string {
	known, want := answers.Known{Tolerance: c.Tolerance}, answers.Case{Outputs: map[string][]any{}}
	for name, v := range c.Expect {
		list, is := v.([]any)
		if !is {
			list = []any{v}
		}
		want.Outputs[name] = list
	}
	var wrong []string
	for _, d := range known.Differences(want, got) {
		wrong = append(wrong, d.String())
	}
	for _, name := range slices.Sorted(maps.Keys(c.Between)) {
		b := c.Between[name]
		values, there := got[name]
		if !there {
			wrong = append(wrong, name+" is not there")
		}
		for _, v := range values {
			if x, is := v.(float64); !is || x < b[0] || x > b[1] {
				wrong = append(wrong, fmt.Sprintf("%s must be from %v to %v and is %v", name, b[0], b[1], v))
				break
			}
		}
	}
	return strings.Join(wrong, ", ")
}

// moves looks at an output while an input moves.
func (c *Case) moves(got []Answer) string {
	output := c.Output
	if names := slices.Sorted(maps.Keys(got[0].Outputs)); output == "" && len(names) > 0 {
		output = names[0]
	}
	first, there := got[0].Outputs[output]
	if !there || len(first) == 0 {
		return output + " is not there"
	}
	known := answers.Known{Tolerance: c.Tolerance}
	last := math.NaN()
	for i, a := range got {
		values := a.Outputs[output]
		if len(c.UnmovedBy) > 0 {
			want := answers.Case{Outputs: map[string][]any{output: first}}
			if d := known.Differences(want, a.Outputs); len(d) > 0 {
				return fmt.Sprintf("%s%s, so it is moved", c.at(i), d[0].String())
			}
			continue
		}
		if len(values) == 0 {
			return c.at(i) + output + " is not there"
		}
		x, is := values[0].(float64)
		if !is {
			return fmt.Sprintf("%s%s is %v, which is no number", c.at(i), output, values[0])
		}
		rises := len(c.RisesWith) > 0
		switch {
		case i == 0:
		case rises && !(x >= last-c.Tolerance), !rises && !(x <= last+c.Tolerance):
			return fmt.Sprintf("%s%s is %.6g, after %.6g", c.at(i), output, x, last)
		}
		last = x
	}
	begin, is := first[0].(float64)
	rises, falls := len(c.RisesWith) > 0, len(c.FallsWith) > 0
	if is && (rises && !(last > begin) || falls && !(last < begin)) {
		return fmt.Sprintf("%s is %.6g at the first value, and %.6g at the last", output, begin, last)
	}
	return ""
}
