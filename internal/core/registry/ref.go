// Package registry knows what a model version is: its name, its signature, what it was
// made from, and how two of them differ.
package registry

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
)

// LongestName is the largest number of bytes in a name.
const LongestName = 63

var nameForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)

// CheckName says whether name can name a model, endpoint, environment or person; field
// is where it was given.
func CheckName(field, name string) error {
	if name == "" {
		return fault.New(fault.Invalid, "name.empty", "the name is empty").In(field).
			Do("give a name of small letters, digits and hyphens")
	}
	if len(name) > LongestName || !nameForm.MatchString(name) {
		return fault.New(fault.Invalid, "name.form", "%q cannot be a name", name).In(field).
			Do("use small letters, digits and inner hyphens, at most %d of them", LongestName)
	}
	return nil
}

// Ref is how a version is named: by its number, by the rung it stands on, or by a
// label. Nothing ever stands for "the newest".
type Ref struct {
	Model string
	// Number is the version's number; 0 when Name is set.
	Number int
	// Name is a rung's or a label's; empty when Number is set.
	Name string
}

// String is the ref as it is written: heat-demand@7, heat-demand@live, heat-demand@beta.
func (r Ref) String() string {
	if r.Number > 0 {
		return r.Model + "@" + strconv.Itoa(r.Number)
	}
	return r.Model + "@" + r.Name
}

// ParseRef reads a ref such as heat-demand@7 or heat-demand@live.
func ParseRef(field, s string) (Ref, error) {
	model, which, found := strings.Cut(s, "@")
	if !found || which == "" {
		return Ref{}, fault.New(fault.Invalid, "ref.no_version", "%q does not say which version", s).In(field).
			Do("write MODEL@NUMBER, such as %s@1, or MODEL@RUNG or MODEL@LABEL, such as %s@live; there is no default",
				orModel(model), orModel(model))
	}
	if err := CheckName(field, model); err != nil {
		return Ref{}, err
	}
	if n, err := strconv.Atoi(which); err == nil {
		if n < 1 {
			return Ref{}, fault.New(fault.Invalid, "ref.number", "%q names version %d", s, n).In(field).
				Do("versions are numbered from 1")
		}
		return Ref{Model: model, Number: n}, nil
	}
	if err := CheckName(field, which); err != nil {
		return Ref{}, err
	}
	return Ref{Model: model, Name: which}, nil
}

func orModel(s string) string {
	if s == "" {
		return "heat-demand"
	}
	return s
}

// CheckTag says whether a tag can be put on something.
func CheckTag(field, tag string) error {
	if tag == "" || len(tag) > LongestName ||
		strings.ContainsFunc(tag, func(r rune) bool { return r <= ' ' || r == 0x7f || r == ',' }) {
		return fault.New(fault.Invalid, "tag.form", "%q cannot be a tag", tag).In(field).
			Do("use one word without commas, at most %d bytes", LongestName)
	}
	return nil
}

// CheckLabel says whether a label can name a version; rungs are the names that it may
// not take.
func CheckLabel(field, label string, rungs []string) error {
	if err := CheckName(field, label); err != nil {
		return err
	}
	if _, err := strconv.Atoi(label); err == nil {
		return fault.New(fault.Invalid, "label.number", "%q cannot be a label: it reads as a version's number", label).
			In(field).Do("choose a word")
	}
	if slices.Contains(rungs, label) {
		return fault.New(fault.Invalid, "label.rung", "%q cannot be a label: it is a rung of the ladder", label).
			In(field).Do("choose another word; a version gets on a rung with: innerladder promote")
	}
	return nil
}

// DataRef names a data set, or one revision of it.
type DataRef struct {
	Name string
	// Number is the revision's number; 0 for all of them.
	Number int
}

// String is the ref as it is written: winters-2024#2.
func (r DataRef) String() string {
	if r.Number == 0 {
		return r.Name
	}
	return r.Name + "#" + strconv.Itoa(r.Number)
}

// ParseDataRef reads winters-2024 or winters-2024#2.
func ParseDataRef(field, s string) (DataRef, error) {
	name, number, numbered := strings.Cut(s, "#")
	if err := CheckName(field, name); err != nil {
		return DataRef{}, err
	}
	if !numbered {
		return DataRef{Name: name}, nil
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 {
		return DataRef{}, fault.New(fault.Invalid, "data.revision", "%q names no revision of a data set", s).In(field).
			Do("write NAME#NUMBER, such as %s#1", name)
	}
	return DataRef{name, n}, nil
}

// RunRef is how a run is named.
func RunRef(number int64) string { return "run-" + strconv.FormatInt(number, 10) }

// ParseRunRef reads run-12.
func ParseRunRef(field, s string) (int64, error) {
	digits, ok := strings.CutPrefix(strings.ToLower(s), "run-")
	n, err := strconv.ParseInt(digits, 10, 64)
	if !ok || err != nil || n < 1 {
		return 0, fault.New(fault.Invalid, "run.ref", "%q is no run", s).In(field).
			Do("write run-NUMBER, such as run-1; see them with: innerladder runs")
	}
	return n, nil
}
