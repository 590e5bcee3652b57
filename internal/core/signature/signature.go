package signature

import (
	"math"
	"slices"

	"innerladder/internal/core/fault"
)

// Signature is what goes into a model and what comes out.
type Signature struct {
	Inputs  []Column `json:"inputs"`
	Outputs []Column `json:"outputs"`
}

// Check says what is wrong with a signature that was written by hand, and sets the types that
// follow from datatypes.
func (s *Signature) Check(field string) error {
	bad := func(detail string, args ...any) error {
		return fault.New(fault.Invalid, "signature.wrong", detail, args...).In(field).
			Do(`write {"inputs": [{"name": "outdoor_c", "type": "number", "unit": "°C", "min": -40, "max": 40}], ` +
				`"outputs": […]}; types are number, integer, boolean and text; an exact one is ` +
				`"datatype": "FP32", "shape": [-1, 3]`)
	}
	if len(s.Inputs)+len(s.Outputs) == 0 {
		return bad("the signature has neither inputs nor outputs")
	}
	for _, part := range []struct {
		side    string
		columns []Column
	}{{"input", s.Inputs}, {"output", s.Outputs}} {
		seen := map[string]bool{}
		for i := range part.columns {
			c := &part.columns[i]
			switch {
			case c.Name == "":
				return bad("%s %d has no name", part.side, i+1)
			case seen[c.Name]:
				return bad("two %ss are named %q", part.side, c.Name)
			}
			seen[c.Name] = true
			for _, check := range []func(*Column) string{checkType, checkValues, checkShape} {
				if wrong := check(c); wrong != "" {
					return bad("%s %q %s", part.side, c.Name, wrong)
				}
			}
		}
	}
	return nil
}

// checkType says what is wrong with the type of a column, and completes it.
func checkType(c *Column) string {
	if c.Datatype != "" {
		t, known := TypeOf(c.Datatype)
		switch {
		case !known:
			return "has the datatype \"" + c.Datatype + "\""
		case c.Type == "":
			c.Type = t
		case c.Type != t:
			return "has the type \"" + string(c.Type) + "\" and the datatype " + c.Datatype
		}
	}
	if !slices.Contains([]Type{Number, Integer, Boolean, Text, Complex}, c.Type) {
		return "has the type \"" + string(c.Type) + "\""
	}
	for _, w := range c.Within {
		_, key := TypeOf(w.Key)
		switch {
		case !slices.Contains([]ContainerKind{Optional, Sequence, Map, Sparse}, w.Kind):
			return "is within \"" + string(w.Kind) + "\""
		case w.Kind == Map && !key:
			return "is within a map whose keys have the datatype \"" + w.Key + "\""
		}
	}
	return ""
}

// checkValues says what is wrong with the values that a column is said to have.
func checkValues(c *Column) string {
	switch {
	case !c.Type.Numeric() && (c.Min != nil || c.Max != nil):
		return "is " + string(c.Type) + " and has a range"
	case c.Type != Text && len(c.Levels) > 0:
		return "is " + string(c.Type) + " and has levels"
	case c.Min != nil && c.Max != nil && *c.Min > *c.Max:
		return "has a range that ends before it begins"
	}
	for _, x := range []*float64{c.Min, c.Max} {
		if x != nil && (math.IsNaN(*x) || math.IsInf(*x, 0)) {
			return "has a range that is not finite"
		}
	}
	return ""
}

// checkShape says what is wrong with the shape of a column.
func checkShape(c *Column) string {
	least := int64(0)
	if c.Datatype == "" {
		least = 1
	}
	for _, d := range c.Shape {
		if d < least && d != -1 {
			return "has a dimension that is neither a size nor -1"
		}
	}
	switch {
	case c.Datatype == "" && (len(c.Axes) > 0 || c.AnyShape || len(c.Within) > 0):
		return "has dimensions or containers but no datatype"
	case len(c.Axes) > len(c.Shape):
		return "names more dimensions than it has"
	case c.AnyShape && len(c.Shape) > 0:
		return "has a shape and is of any shape"
	}
	return ""
}

// Types lists what each column is declared as.
func (s *Signature) Types() map[string]Type {
	out := map[string]Type{}
	if s != nil {
		for _, c := range slices.Concat(s.Inputs, s.Outputs) {
			out[c.Name] = c.Type
		}
	}
	return out
}

// Input finds an input by its name; nil where there is none, or no signature.
func (s *Signature) Input(name string) *Column {
	if s == nil {
		return nil
	}
	return columnOf(s.Inputs, name)
}

// Output finds an output by its name; nil where there is none, or no signature.
func (s *Signature) Output(name string) *Column {
	if s == nil {
		return nil
	}
	return columnOf(s.Outputs, name)
}

func columnOf(all []Column, name string) *Column {
	for i := range all {
		if all[i].Name == name {
			return &all[i]
		}
	}
	return nil
}

// Names lists the names of columns.
func Names(columns []Column) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.Name
	}
	return out
}
