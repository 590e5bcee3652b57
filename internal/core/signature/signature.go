package signature

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
)

// becomes judges a column that is in both signatures.
func (c Column) becomes(t Column, kind string) Compatibility {
	wider := c.Type == t.Type || (c.Type == Integer && t.Type == Number)
	switch {
	case !slices.Equal(c.Shape, t.Shape), c.Unit != t.Unit, !wider && kind == "input",
		c.Type != t.Type && kind == "output":
		return Breaking
	case kind == "input" && c.Nullable && !t.Nullable, kind == "output" && !c.Nullable && t.Nullable:
		return Breaking
	case len(t.Levels) > 0 && slices.ContainsFunc(c.Levels,
		func(l string) bool { return !slices.Contains(t.Levels, l) }) && kind == "input":
		return Breaking
	case c.Type != t.Type || c.Nullable != t.Nullable || !slices.Equal(c.Levels, t.Levels):
		return Widened
	}
	return Compatible // only the range seen differs
}

// describe is the column in words.
func (c Column) describe() string {
	parts := []string{string(c.Type)}
	if len(c.Shape) > 0 {
		parts = append(parts, fmt.Sprintf("shape %v", c.Shape))
	}
	if c.Unit != "" {
		parts = append(parts, "in "+c.Unit)
	}
	if len(c.Levels) > 0 {
		parts = append(parts, strings.Join(c.Levels, " | "))
	}
	if c.Min != nil && c.Max != nil {
		parts = append(parts, fmt.Sprintf("%.4g to %.4g", *c.Min, *c.Max))
	}
	if c.Nullable {
		parts = append(parts, "may be missing")
	}
	return strings.Join(parts, ", ")
}

// datatype is how a column is sent in the Open Inference Protocol.
func (c Column) datatype() string {
	switch c.Type {
	case Integer:
		return "INT64"
	case Boolean:
		return "BOOL"
	case Text:
		return "BYTES"
	}
	return "FP64"
}

// SampleRequest is a request in the Open Inference Protocol (HTTP and JSON) that a
// model with this signature can answer: one row, from the rows seen where there are
// some, else from the ranges and levels that are known. Seen is the value of a column in one
// of those rows, or the zero Cell; nil when there are no rows.
func (s *Signature) SampleRequest(seen func(column string) Cell) json.RawMessage {
	type tensor struct {
		Name     string  `json:"name"`
		Shape    []int64 `json:"shape"`
		Datatype string  `json:"datatype"`
		Data     []any   `json:"data"`
	}
	inputs := []tensor{}
	for _, c := range s.Inputs {
		t := tensor{Name: c.Name, Shape: []int64{1}, Datatype: c.datatype()}
		values := 1
		for _, d := range c.Shape {
			if d < 1 {
				d = 1 // any size: the smallest
			}
			t.Shape = append(t.Shape, d)
			values = int(min(int64(values)*d, mostSampleValues+1))
		}
		if values > mostSampleValues {
			return nil // a request too large to be of use as a sample
		}
		v := c.example(seen)
		for range values {
			t.Data = append(t.Data, v)
		}
		inputs = append(inputs, t)
	}
	if len(inputs) == 0 {
		return nil
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if enc.Encode(map[string]any{"inputs": inputs}) != nil {
		return nil // not finite, which example never gives
	}
	return bytes.TrimSpace(b.Bytes())
}

// example is a value that the column can take.
func (c Column) example(of func(column string) Cell) any {
	var seen Cell
	if of != nil {
		seen = of(c.Name)
	}
	switch c.Type {
	case Boolean:
		return seen.Kind == BooleanCell && seen.Number == 1
	case Text:
		switch {
		case seen.Kind == TextCell:
			return seen.Text
		case len(c.Levels) > 0:
			return c.Levels[0]
		}
		return ""
	}
	x := 0.0
	switch {
	case seen.Kind == NumberCell:
		x = seen.Number
	case c.Min != nil && c.Max != nil:
		x = *c.Min + (*c.Max-*c.Min)/2
	case c.Min != nil:
		x = *c.Min
	case c.Max != nil:
		x = *c.Max
	}
	if c.Type == Integer {
		return int64(math.Max(math.Min(x, 1<<53), -1<<53))
	}
	if math.IsInf(x, 0) || math.IsNaN(x) {
		x = 0
	}
	return x
}

// Type is the type of one column.
type Type string

// The types.
const (
	Number  Type = "number"
	Integer Type = "integer"
	Boolean Type = "boolean"
	Text    Type = "text"
)

// Numeric reports whether values of the type can be computed with.
func (t Type) Numeric() bool { return t == Number || t == Integer }

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
			case !c.Type.Numeric() && (c.Min != nil || c.Max != nil):
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
		return c.Numeric()
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
		for _, name := range slices.Sorted(maps.Keys(declared)) {
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
