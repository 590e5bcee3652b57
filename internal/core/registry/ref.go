// Package registry knows what a model version is: its name, its signature, what it was
// made from, and how two of them differ.
package registry

import (
	"slices"
	"strconv"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

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
	if err := naming.Check(field, model); err != nil {
		return Ref{}, err
	}
	if n, err := strconv.Atoi(which); err == nil {
		if n < 1 {
			return Ref{}, fault.New(fault.Invalid, "ref.number", "%q names version %d", s, n).In(field).
				Do("versions are numbered from 1")
		}
		return Ref{Model: model, Number: n}, nil
	}
	if err := naming.Check(field, which); err != nil {
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

// CheckLabel says whether a label can name a version; rungs are the names that it may
// not take.
func CheckLabel(field, label string, rungs []string) error {
	if err := naming.Check(field, label); err != nil {
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
