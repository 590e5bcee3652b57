// Package custom is about signals of a team's own: numbers such as a cost or a revenue, which callers and jobs report
// for what a version has answered.
package custom

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/guard"
	"innerladder/internal/core/metric"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/outcome"
)

// Signal is what an endpoint's values of one name mean.
type Signal struct {
	Name   string     `json:"name"`
	Unit   string     `json:"unit,omitempty" description:"such as EUR"`
	Better metric.Way `json:"better" enum:"lower,higher" description:"which way is better"`
	About  string     `json:"about,omitempty" description:"what it is, and where it comes from"`
	MadeBy string     `json:"made_by"`
	MadeAt time.Time  `json:"made_at"`
}

// Full is how guards and watches name it.
func (s *Signal) Full() string { return Full(s.Name) }

// Full is how guards and watches name the custom signal of a name.
func Full(name string) string { return guard.Custom + "." + name }

const (
	// Most is how many signals of its own an endpoint can have.
	Most = 30
	// longestUnit and longestAbout bound what is said of one, longestID the name of a report.
	longestUnit  = 30
	longestAbout = 300
	longestID    = 100
	// largest bounds values, so that their squares can be added up.
	largest = 1e60
)

// Check says whether there can be such a signal.
func (s *Signal) Check() error {
	bad := func(field, remedy, what string, args ...any) error {
		return fault.New(fault.Invalid, "custom."+field, what, args...).In(field).Do("%s", remedy)
	}
	switch {
	case !guard.IsCustomName(s.Name):
		return bad("name", "use up to 40 small letters, digits and _, beginning with a letter, such as dispatch_cost",
			"%.60q is no name of a signal", s.Name)
	case len(s.Unit) > longestUnit || strings.ContainsFunc(s.Unit, naming.Hidden):
		return bad("unit", "give one such as EUR, in letters that can be seen", "%.60q is no unit", s.Unit)
	case len(s.About) > longestAbout || strings.ContainsFunc(s.About, naming.Hidden):
		return bad("about", fmt.Sprintf("use up to %d letters that can be seen", longestAbout),
			"what it is about has %d bytes, or letters that cannot be seen", len(s.About))
	case s.Better != metric.Lower && s.Better != metric.Higher:
		return bad("better", "say lower or higher: a guard must know which way is worse", "%.60q is no way", s.Better)
	}
	return nil
}

// Report is what is reported of one answer, or of the answers of a version at a time.
type Report struct {
	// Line is where it stood, from 1.
	Line int `json:"line,omitempty" description:"where it stood, from 1; reported back"`
	// Request is the id of the request; or else Version answered, and At is when.
	Request string     `json:"request,omitempty" description:"what the header Inner-Ladder-Request said"`
	Version string     `json:"version,omitempty" description:"MODEL@NUMBER, where there is no id of a request"`
	At      *time.Time `json:"at,omitempty" description:"when it answered, where there is no id of a request"`
	// ID tells it from other reports of the same request, or from all that are of none.
	ID string `json:"id,omitempty" description:"its name, by which it counts once; needed where there is no request"`
	// Values are numbers by the name of the signal.
	Values map[string]any `json:"values" required:"true" description:"numbers, by the name of the signal"`
}

// Value is one number of one signal, with what it is of.
type Value struct {
	Signal  string
	Request string
	ID      string
	Version string
	Lane    string
	Split   int
	// At is when it was answered, Arrived when the value was reported.
	At, Arrived time.Time
	X           float64
	// Seq numbers values in the order in which they were kept.
	Seq int64
}

// Check says whether a report can be looked at; at is where it stands.
func (r *Report) Check(at string) error {
	bad := func(field, remedy, what string, args ...any) error {
		return fault.New(fault.Invalid, "custom.report", what, args...).In(at+"."+field).Do("%s", remedy)
	}
	byVersion := r.Version != "" || r.At != nil
	switch {
	case len(r.Values) == 0:
		return bad("values", "give numbers by the name of the signal", "a report has no value")
	case r.Request != "" && byVersion:
		return bad("version", "leave version and at out where there is an id of a request",
			"a report has both an id of a request and a version or a time")
	case r.Request == "" && (r.Version == "" || r.At == nil):
		return bad("request", "give the id of the request, or the version that answered and when",
			"a report does not say what it is of")
	case r.Request == "" && strings.TrimSpace(r.ID) == "":
		return bad("id", "give each report a name of its own, such as the number of the order: told again it counts "+
			"once", "a report of no request has no id")
	case len(r.ID) > longestID || strings.ContainsFunc(r.ID, naming.Hidden):
		return bad("id", fmt.Sprintf("use up to %d letters that can be seen", longestID), "%.60q is no id", r.ID)
	}
	return nil
}

// Number reads the value of a signal, or says why it is none.
func Number(signal string, v any) (x float64, why string) {
	x, is := v.(float64)
	if text, isText := v.(string); isText {
		var err error
		x, err = strconv.ParseFloat(strings.TrimSpace(text), 64)
		is = err == nil
	}
	switch {
	case v == nil:
		return 0, "its " + signal + " is missing"
	case !is:
		return 0, fmt.Sprintf("%.60q is no number, which %s is", fmt.Sprint(v), signal)
	case !(math.Abs(x) < largest):
		return 0, fmt.Sprintf("%.60q is too large for %s, or not finite", fmt.Sprint(v), signal)
	}
	return x, ""
}

// InWords is what became of a report.
func InWords(f outcome.Fate) string {
	switch f {
	case outcome.Joined:
		return "taken in"
	case outcome.Replaced:
		return "took the place of other values"
	case outcome.Again:
		return "reported before; it counts once"
	case outcome.Other:
		return "reported otherwise before; what was reported stays"
	case outcome.Unmatched:
		return "of no request or version here"
	case outcome.Late:
		return "of a time of which single values are not kept any more"
	}
	return "no value that can be taken in"
}

// Same reports whether two values say the same.
func (v *Value) Same(o *Value) bool { return v.X == o.X && v.Version == o.Version && v.At.Equal(o.At) }
