package signature

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Type is the family of one column's values, which is what they can be reckoned with as.
type Type string

// The types.
const (
	Number  Type = "number"
	Integer Type = "integer"
	Boolean Type = "boolean"
	Text    Type = "text"
	Complex Type = "complex"
)

// Numeric reports whether values of the type can be computed with.
func (t Type) Numeric() bool { return t == Number || t == Integer }

// carried are the datatypes of the Open Inference Protocol.
var carried = []string{
	"BOOL", "UINT8", "UINT16", "UINT32", "UINT64", "INT8", "INT16", "INT32", "INT64",
	"FP16", "FP32", "FP64", "BF16", "BYTES",
}

// TypeOf is the family that an exact datatype belongs to: those of the protocol, and those that
// files of models declare beyond it (COMPLEX64, FP8E4M3FN, INT4 and their like); false for what
// is none.
func TypeOf(datatype string) (Type, bool) {
	switch {
	case datatype == "BYTES":
		return Text, true
	case datatype == "BOOL":
		return Boolean, true
	case datatype == "COMPLEX64", datatype == "COMPLEX128":
		return Complex, true
	case datatype == "BF16", withSize(datatype, "FP"):
		return Number, true
	case withSize(datatype, "INT"), withSize(datatype, "UINT"):
		return Integer, true
	}
	return "", false
}

// withSize reports whether a datatype is a name with a number of bits behind it.
func withSize(datatype, name string) bool {
	bits, found := strings.CutPrefix(datatype, name)
	return found && bits != "" && bits[0] >= '1' && bits[0] <= '9'
}

// ContainerKind is a way to hold a tensor, or to leave it out.
type ContainerKind string

// The kinds of containers.
const (
	// Optional may be absent.
	Optional ContainerKind = "optional"
	// Sequence holds any number.
	Sequence ContainerKind = "sequence"
	// Map holds one for each key.
	Map ContainerKind = "map"
	// Sparse holds the values that are not zero.
	Sparse ContainerKind = "sparse"
)

// Container is what a tensor comes in.
type Container struct {
	Kind ContainerKind `json:"kind" enum:"optional,sequence,map,sparse"`
	// Key is the datatype of a map's keys.
	Key string `json:"key,omitempty" description:"the datatype of a map's keys"`
}

// Column is one input or output.
type Column struct {
	Name string `json:"name"`
	Type Type   `json:"type" enum:"number,integer,boolean,text,complex"`
	// Datatype is the exact type of the values as the Open Inference Protocol names it; empty when
	// only the family is known, as of rows of a table.
	Datatype string `json:"datatype,omitempty" description:"the exact type of the values: BOOL, INT8 to INT64, UINT8 to UINT64, FP16, FP32, FP64, BF16, BYTES; absent when only the family is known"`
	// Shape has, with a datatype, every dimension of the tensor, -1 for one of any size; without
	// one it is that of one row, empty for a scalar.
	Shape []int64 `json:"shape,omitempty" description:"with a datatype every dimension of the tensor, -1 for one of any size; without one that of one row"`
	// Axes are the names of the dimensions, "" for those without; absent when none has one.
	Axes []string `json:"axes,omitempty" description:"the names of the dimensions, empty for those without a name"`
	// AnyShape is set when a datatype is declared without saying how many dimensions there are.
	AnyShape bool `json:"any_shape,omitempty" description:"the number of dimensions is open"`
	// Within is what the tensor comes in, the outermost first; empty for a plain tensor.
	Within []Container `json:"within,omitempty" description:"what the tensor comes in, the outermost first"`
	// Parts are what stands side by side in the last dimension, where one tensor carries several.
	Parts    []string `json:"parts,omitempty" description:"the names of what stands side by side in the last dimension"`
	Unit     string   `json:"unit,omitempty"`
	Nullable bool     `json:"nullable" description:"values were missing in the sample"`
	// Sensitive says that quality and predictions are looked at by its groups.
	Sensitive bool `json:"sensitive,omitempty" description:"quality and predictions are looked at by its groups"`
	// Min and Max are the range seen, numbers only.
	Min *float64 `json:"min,omitempty"`
	Max *float64 `json:"max,omitempty"`
	// Levels are the values seen, texts with few of them only.
	Levels []string `json:"levels,omitempty"`
}

// row is how many values of the column belong to one row, -1 when that is open.
func (c Column) row() int64 {
	switch {
	case c.Datatype == "":
		return product(c.Shape)
	case c.AnyShape:
		return -1
	}
	return product(c.Shape[min(1, len(c.Shape)):])
}

// optional reports whether a caller may leave the column out.
func (c Column) optional() bool {
	return c.Nullable || (len(c.Within) > 0 && c.Within[0].Kind == Optional)
}

// plain reports whether the column is a tensor that the protocol can carry.
func (c Column) plain() bool {
	within := c.Within
	if len(within) > 0 && within[0].Kind == Optional {
		within = within[1:]
	}
	return len(within) == 0 && (c.Datatype == "" || slices.Contains(carried, c.Datatype))
}

// product is how many values a shape holds, -1 when that is not fixed.
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

// TypeText is the exact type in words: "sequence of FP32 [batch, 3]", or the family.
func (c Column) TypeText() string {
	var out strings.Builder
	for _, w := range c.Within {
		switch {
		case w.Kind == Optional, w.Kind == Sparse:
			out.WriteString(string(w.Kind) + " ")
		case w.Key != "":
			fmt.Fprintf(&out, "%s by %s of ", w.Kind, w.Key)
		default:
			out.WriteString(string(w.Kind) + " of ")
		}
	}
	if c.Datatype == "" {
		out.WriteString(string(c.Type))
		if len(c.Shape) > 0 {
			fmt.Fprintf(&out, ", shape %v", c.Shape)
		}
		return out.String()
	}
	out.WriteString(c.Datatype + " " + c.shapeText())
	return out.String()
}

// shapeText writes the dimensions of a tensor: [batch, 3, any].
func (c Column) shapeText() string {
	if c.AnyShape {
		return "of any shape"
	}
	parts := make([]string, len(c.Shape))
	for i, d := range c.Shape {
		switch {
		case i < len(c.Axes) && c.Axes[i] != "":
			parts[i] = c.Axes[i]
		case d < 0:
			parts[i] = "any"
		default:
			parts[i] = strconv.FormatInt(d, 10)
		}
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

// describe is the column in words.
func (c Column) describe() string {
	parts := []string{c.TypeText()}
	if len(c.Parts) > 0 {
		parts = append(parts, "of "+strings.Join(c.Parts, ", "))
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
