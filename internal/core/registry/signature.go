package registry

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// Type is the type of one column.
type Type string

// The types.
const (
	Number  Type = "number"
	Integer Type = "integer"
	Boolean Type = "boolean"
	Text    Type = "text"
)

// numeric reports whether values of the type can be computed with.
func (t Type) numeric() bool { return t == Number || t == Integer }

// Column is one input or output.
type Column struct {
	Name string `json:"name"`
	Type Type   `json:"type" enum:"number,integer,boolean,text"`
	// Shape is that of one row; empty for a scalar.
	Shape    []int64 `json:"shape,omitempty"`
	Unit     string  `json:"unit,omitempty"`
	Nullable bool    `json:"nullable" description:"values were missing in the sample"`
	// Min and Max are the range seen, numbers only.
	Min *float64 `json:"min,omitempty"`
	Max *float64 `json:"max,omitempty"`
	// Levels are the values seen, texts with few of them only.
	Levels []string `json:"levels,omitempty"`
}

// Signature is what goes into a model and what comes out.
type Signature struct {
	Inputs  []Column `json:"inputs"`
	Outputs []Column `json:"outputs"`
}

// Check says what is wrong with a signature that was written by hand.
func (s *Signature) Check(field string) error {
	bad := func(detail string, args ...any) error {
		return fault.New(fault.Invalid, "signature.wrong", detail, args...).In(field).
			Do(`write {"inputs": [{"name": "outdoor_c", "type": "number", "unit": "°C", "min": -40, "max": 40}], "outputs": […]}; types are number, integer, boolean and text`)
	}
	if len(s.Inputs)+len(s.Outputs) == 0 {
		return bad("the signature has neither inputs nor outputs")
	}
	for side, columns := range map[string][]Column{"input": s.Inputs, "output": s.Outputs} {
		seen := map[string]bool{}
		for i, c := range columns {
			switch {
			case c.Name == "":
				return bad("%s %d has no name", side, i+1)
			case seen[c.Name]:
				return bad("two %ss are named %q", side, c.Name)
			case !slices.Contains([]Type{Number, Integer, Boolean, Text}, c.Type):
				return bad("%s %q has the type %q", side, c.Name, c.Type)
			case !c.Type.numeric() && (c.Min != nil || c.Max != nil):
				return bad("%s %q is %s and has a range", side, c.Name, c.Type)
			case c.Type != Text && len(c.Levels) > 0:
				return bad("%s %q is %s and has levels", side, c.Name, c.Type)
			case c.Min != nil && c.Max != nil && *c.Min > *c.Max:
				return bad("%s %q ranges from %g to %g", side, c.Name, *c.Min, *c.Max)
			}
			for _, x := range []*float64{c.Min, c.Max} {
				if x != nil && (math.IsNaN(*x) || math.IsInf(*x, 0)) {
					return bad("the range of %s %q is not finite", side, c.Name)
				}
			}
			for _, d := range c.Shape {
				if d == 0 || d < -1 {
					return bad("%s %q has the shape %v", side, c.Name, c.Shape)
				}
			}
			seen[c.Name] = true
		}
	}
	return nil
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

// Names lists the names of columns.
func Names(columns []Column) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		out[i] = c.Name
	}
	return out
}

// Tensor is an input or output as a model server declares it in the Open Inference
// Protocol; -1 in a shape is a dimension of any size.
type Tensor struct {
	Name     string  `json:"name"`
	Datatype string  `json:"datatype"`
	Shape    []int64 `json:"shape"`
}

// rowSize is how many values of the tensor belong to one row, -1 when it is open. The
// first dimension is the batch.
func (t Tensor) rowSize() int64 {
	size := int64(1)
	for _, d := range t.Shape[min(1, len(t.Shape)):] {
		if d < 0 {
			return -1
		}
		size *= d
	}
	return size
}

// takes reports whether a column of type c can be sent as datatype without loss of
// meaning.
func takes(datatype string, c Type) bool {
	switch {
	case datatype == "BYTES":
		return c == Text
	case datatype == "BOOL":
		return c == Boolean
	case strings.HasPrefix(datatype, "FP") || datatype == "BF16":
		return c.numeric()
	case strings.HasPrefix(datatype, "INT"), strings.HasPrefix(datatype, "UINT"):
		return c == Integer
	}
	return false
}

// Fits compares the signature with what a model server declares and returns every
// reason why requests made for the signature would fail there; none when it fits. A
// server may take all inputs in one tensor, one value per input.
func (s *Signature) Fits(inputs, outputs []Tensor) (reasons []string) {
	reasons = fit("input", s.Inputs, inputs)
	return append(reasons, fit("output", s.Outputs, outputs)...)
}

func fit(kind string, columns []Column, tensors []Tensor) (reasons []string) {
	if len(columns) == 0 {
		return nil // nothing is known of this side
	}
	if packed(columns, tensors) {
		return nil
	}
	declared := map[string]Tensor{}
	for _, t := range tensors {
		declared[t.Name] = t
	}
	for _, c := range columns {
		t, ok := declared[c.Name]
		delete(declared, c.Name)
		switch {
		case !ok:
			reasons = append(reasons, fmt.Sprintf("the server declares no %s %q", kind, c.Name))
		case !takes(t.Datatype, c.Type):
			reasons = append(reasons, fmt.Sprintf("%s %q is %s in the signature and %s at the server", kind, c.Name,
				c.Type, t.Datatype))
		case t.rowSize() >= 0 && product(c.Shape) >= 0 && t.rowSize() != product(c.Shape):
			reasons = append(reasons, fmt.Sprintf("%s %q has %d values in a row of the signature and %d at the server",
				kind, c.Name, product(c.Shape), t.rowSize()))
		}
	}
	if kind == "input" { // outputs beyond the signature do no harm, inputs would be missing
		for _, name := range sortedKeys(declared) {
			reasons = append(reasons, fmt.Sprintf("the server wants an input %q that the signature does not have",
				name))
		}
	}
	return reasons
}

// packed reports whether one tensor carries all the columns side by side.
func packed(columns []Column, tensors []Tensor) bool {
	if len(tensors) != 1 || len(tensors[0].Shape) < 2 ||
		slices.ContainsFunc(columns, func(c Column) bool { return c.Name == tensors[0].Name }) {
		return false
	}
	var values int64
	for _, c := range columns {
		if !takes(tensors[0].Datatype, c.Type) {
			return false
		}
		values += product(c.Shape)
	}
	return tensors[0].rowSize() == values || tensors[0].rowSize() == -1
}

// product is how many values a shape holds, −1 when that is not fixed.
func product(shape []int64) int64 {
	p := int64(1)
	for _, d := range shape {
		if d < 0 {
			return -1
		}
		p *= d
	}
	return p
}
