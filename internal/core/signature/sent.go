package signature

import (
	"fmt"
	"math"
	"slices"
)

// Sent is an input as a caller sent it: its values are numbers, texts, booleans, or nil for a missing one.
type Sent struct {
	Tensor
	Values []any
}

// Misfit says why inputs are none that a version with the signature takes; empty when they are. What values a column
// usually has is not asked: that is watched, and no fault of the caller.
func (s *Signature) Misfit(inputs []Sent) string {
	if len(s.Inputs) == 0 {
		return "" // nothing is known of it
	}
	tensors := make([]Tensor, len(inputs))
	for i, in := range inputs {
		tensors[i] = in.Tensor
		if slices.ContainsFunc(tensors[:i], func(t Tensor) bool { return t.Name == in.Name }) {
			return fmt.Sprintf("input %q is sent twice", in.Name)
		}
	}
	if packed(s.Inputs, tensors) {
		return misfit(Column{Name: inputs[0].Name, Type: s.Inputs[0].Type, AnyShape: true}, inputs[0])
	}
	for _, c := range s.Inputs {
		i := slices.IndexFunc(inputs, func(in Sent) bool { return in.Name == c.Name })
		if i < 0 && c.optional() {
			continue
		}
		if i < 0 {
			return fmt.Sprintf("input %q (%s) is missing", c.Name, c.TypeText())
		}
		if why := misfit(c, inputs[i]); why != "" {
			return why
		}
	}
	for _, in := range inputs {
		if s.Input(in.Name) == nil {
			return fmt.Sprintf("there is no input %.100q", in.Name)
		}
	}
	return ""
}

// misfit says why what was sent is not what a column takes.
func misfit(c Column, in Sent) string {
	switch {
	case !c.plain():
		return "" // the protocol has no such thing; the server takes it in a form of its own
	case !takes(in.Datatype, c):
		return fmt.Sprintf("input %q is sent as %.40q; it is %s", c.Name, in.Datatype, c.TypeText())
	case c.Datatype == "" && !c.AnyShape && !asWide(c, in.Tensor):
		return fmt.Sprintf("input %q has %d values in a row; it takes %d", c.Name, in.row(), c.row())
	case c.Datatype != "" && !c.AnyShape && !holds("output", in.Shape, c.Shape):
		return fmt.Sprintf("input %q has the shape %v; it takes %s", c.Name, in.Shape, c.shapeText())
	}
	low, high := math.Inf(-1), math.Inf(1)
	if c.Type == Integer {
		low, high = bounds(in.Datatype)
	}
	for i, v := range in.Values {
		if !isOf(c.Type, v, low, high) {
			return fmt.Sprintf("value %d of input %q is %.60v; it takes %s", i+1, c.Name, v, c.TypeText())
		}
	}
	return ""
}

// isOf reports whether a value can be one of a type; a missing one always can.
func isOf(t Type, v any, low, high float64) bool {
	switch v := v.(type) {
	case nil:
		return true
	case float64:
		return t == Number || t == Integer && v == math.Trunc(v) && low <= v && v <= high
	case bool:
		return t == Boolean
	case string:
		return t == Text
	}
	return false
}
