// Package answers holds the known answers of a version: sample requests with the outputs that it
// must give. They prove which model a server really runs.
package answers

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

const (
	// Most is the most cases that a version may carry: each is sent to every address.
	Most = 100
	// relative is how far a number may be off in proportion to what it must be: what single
	// precision and another order of sums may differ by.
	relative = 1e-5
	// absolute is how far it may be off in any case, unless the version says its own.
	absolute = 1e-6
	// mostTold is how many differences are told.
	mostTold = 3
)

// Origin says where known answers come from.
type Origin string

const (
	// Registered ones were given by whoever registered the version.
	Registered Origin = "registered"
	// Confirmed ones were given by its server, and confirmed by somebody.
	Confirmed Origin = "confirmed"
)

// Known are the known answers of a version. They never change once they are known.
type Known struct {
	Cases []Case `json:"cases"`
	// Tolerance is how far a number may be off, in its own unit, beside a hundred-thousandth of
	// what it must be.
	Tolerance float64   `json:"tolerance" description:"how far a number may be off, in its own unit, beside a hundred-thousandth of what it must be"`
	Origin    Origin    `json:"origin" enum:"registered,confirmed"`
	By        string    `json:"by"`
	At        time.Time `json:"at"`
}

// Case is one request with what it must give.
type Case struct {
	// Request is a request of the Open Inference Protocol that is sent as it is; without one, it
	// is made of Inputs.
	Request json.RawMessage `json:"request,omitempty" description:"sent as it is"`
	// Inputs are the values of one row, by column.
	Inputs map[string]any `json:"inputs,omitempty" description:"the values of one row, by column"`
	// Outputs are the values that must come back, flat, by output.
	Outputs map[string][]any `json:"outputs" description:"the values that must come back, by output"`
}

// Check says what is wrong with known answers, and sets what follows.
func (k *Known) Check() error {
	bad := func(detail string, args ...any) error {
		return fault.New(fault.Invalid, "answers.wrong", detail, args...).In("answers").
			Do("give rows with all inputs and at least one output, or requests of the protocol with their answers")
	}
	switch {
	case len(k.Cases) == 0:
		return bad("no answer is known")
	case len(k.Cases) > Most:
		return bad("%d answers are too many; each is sent to every address", len(k.Cases))
	case math.IsNaN(k.Tolerance) || math.IsInf(k.Tolerance, 0) || k.Tolerance < 0:
		return fault.New(fault.Invalid, "answers.tolerance", "%v cannot be a tolerance", k.Tolerance).In("tolerance").
			Do("give how far a number may be off, in its own unit, such as 0.001")
	}
	for i, c := range k.Cases {
		if len(c.Outputs) == 0 {
			return bad("answer %d has no output", i+1)
		}
	}
	if k.Tolerance == 0 {
		k.Tolerance = absolute
	}
	return nil
}

// Of is what is sent for a case to a server that takes an exact signature; nil when the
// protocol cannot carry it.
func (c Case) Of(s *signature.Signature) json.RawMessage {
	if len(c.Request) > 0 {
		return c.Request
	}
	return s.Request(func(column string) any { return c.Inputs[column] })
}

// Difference is an output that is not what it must be, with its values in words.
type Difference struct{ Output, Want, Got string }

// String says what must be and what is.
func (d Difference) String() string {
	return fmt.Sprintf("%s must be %s and is %s", d.Output, d.Want, d.Got)
}

// Since says what was and what is now.
func (d Difference) Since() string { return fmt.Sprintf("%s was %s, now %s", d.Output, d.Want, d.Got) }

// Beside says what two gave at the same time, the one that is held against the other first.
func (d Difference) Beside() string {
	return fmt.Sprintf("%s is %s, and %s by the first", d.Output, d.Got, d.Want)
}

// Differences finds where an answer is not what a case must give, both side by side;
// empty when it is. Outputs beyond those that are known do no harm.
func (k *Known) Differences(c Case, got map[string][]any) (out []Difference) {
	for _, name := range slices.Sorted(maps.Keys(c.Outputs)) {
		want := c.Outputs[name]
		has, there := got[name]
		switch {
		case !there:
			out = append(out, Difference{name, list(want), "not there"})
		case len(has) != len(want):
			out = append(out, Difference{name, list(want), list(has)})
		default:
			for i := range want {
				if !k.same(want[i], has[i]) {
					out = append(out, Difference{name, list(want), list(has)})
					break
				}
			}
		}
	}
	return out
}

// Told puts the differences of several cases, by their number, into one sentence.
func Told(differences map[int][]string) string {
	var parts []string
	for _, n := range slices.Sorted(maps.Keys(differences)) {
		if len(parts) == mostTold {
			parts = append(parts, fmt.Sprintf("and %d more", len(differences)-mostTold))
			break
		}
		parts = append(parts, fmt.Sprintf("known answer %d: %s", n, strings.Join(differences[n], ", ")))
	}
	return strings.Join(parts, "; ")
}

// same reports whether a value is what it must be.
func (k *Known) same(want, got any) bool {
	w, number := want.(float64)
	g, gotNumber := got.(float64)
	if number && gotNumber {
		return math.Abs(w-g) <= k.Tolerance+relative*math.Abs(w)
	}
	return !number && !gotNumber && want == got
}

// list writes some values of an output.
func list(values []any) string {
	const most = 6
	parts := []string{}
	for i, v := range values {
		if i == most {
			parts = append(parts, "…")
			break
		}
		switch v := v.(type) {
		case float64:
			parts = append(parts, strconv.FormatFloat(v, 'g', 7, 64))
		case string:
			parts = append(parts, fmt.Sprintf("%.40q", v))
		default:
			parts = append(parts, fmt.Sprint(v))
		}
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return "[" + strings.Join(parts, " ") + "]"
}
