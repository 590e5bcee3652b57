package registry

import (
	"fmt"
	"slices"
	"strings"
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
			reasons = append(reasons, fmt.Sprintf("%s %q is %s in the signature and %s at the server", kind, c.Name, c.Type, t.Datatype))
		case t.rowSize() >= 0 && t.rowSize() != product(c.Shape):
			reasons = append(reasons, fmt.Sprintf("%s %q has %d values in a row of the signature and %d at the server", kind, c.Name, product(c.Shape), t.rowSize()))
		}
	}
	if kind == "input" { // outputs beyond the signature do no harm, inputs would be missing
		for _, name := range sortedKeys(declared) {
			reasons = append(reasons, fmt.Sprintf("the server wants an input %q that the signature does not have", name))
		}
	}
	return reasons
}

// packed reports whether one tensor carries all the columns side by side.
func packed(columns []Column, tensors []Tensor) bool {
	if len(tensors) != 1 || len(tensors[0].Shape) < 2 || slices.ContainsFunc(columns, func(c Column) bool { return c.Name == tensors[0].Name }) {
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

func product(shape []int64) int64 {
	p := int64(1)
	for _, d := range shape {
		p *= d
	}
	return p
}
