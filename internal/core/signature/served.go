package signature

import (
	"fmt"
	"maps"
	"slices"
)

// Tensor is an input or output as a model server declares it in the Open Inference
// Protocol; -1 in a shape is a dimension of any size.
type Tensor struct {
	Name     string  `json:"name"`
	Datatype string  `json:"datatype"`
	Shape    []int64 `json:"shape"`
}

// Served is what a model server declares that it takes and gives.
type Served struct {
	Inputs  []Tensor `json:"inputs"`
	Outputs []Tensor `json:"outputs"`
}

// row is how many values of the tensor belong to one row, -1 when it is open. The
// first dimension is the batch.
func (t Tensor) row() int64 { return product(t.Shape[min(1, len(t.Shape)):]) }

// column is the tensor as a column of a signature.
func (t Tensor) column() Column {
	family, known := TypeOf(t.Datatype)
	if !known {
		family = Complex // nothing that we can compute with
	}
	return Column{Name: t.Name, Type: family, Datatype: t.Datatype, Shape: t.Shape}
}

// takes reports whether a column can be sent as a datatype without loss of meaning: what is
// declared exactly only as that, other columns as any of their family.
func takes(datatype string, c Column) bool {
	if c.Datatype != "" {
		return c.Datatype == datatype
	}
	family, known := TypeOf(datatype)
	return known && (family == c.Type || (family == Number && c.Type == Integer))
}

// Fits compares the signature with what a model server declares and returns every
// reason why requests made for the signature would fail there; none when it fits. A
// server may take all inputs in one tensor, one value per input.
func (s *Signature) Fits(served Served) (reasons []string) {
	reasons = fit("input", s.Inputs, served.Inputs)
	return append(reasons, fit("output", s.Outputs, served.Outputs)...)
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
		t, there := declared[c.Name]
		delete(declared, c.Name)
		switch {
		case !there && kind == "input" && c.optional():
			// whoever calls leaves it out
		case !there:
			reasons = append(reasons, fmt.Sprintf("the server declares no %s %q", kind, c.Name))
		case !c.plain():
			// The protocol has no such thing; the server gives it in a form of its own.
		case !takes(t.Datatype, c):
			reasons = append(reasons, fmt.Sprintf("%s %q is %s in the signature and %s at the server", kind, c.Name,
				c.TypeText(), t.Datatype))
		case c.Datatype == "" && !asWide(c, t):
			reasons = append(reasons, fmt.Sprintf("%s %q has %d values in a row of the signature and %d at the server",
				kind, c.Name, c.row(), t.row()))
		case c.Datatype != "" && !c.AnyShape && !holds(kind, t.Shape, c.Shape):
			reasons = append(reasons, fmt.Sprintf("%s %q has the shape %s in the signature and %s at the server", kind,
				c.Name, c.shapeText(), t.column().shapeText()))
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

// asWide reports whether a row of the column has as many values as one of the tensor, as far as
// both say it.
func asWide(c Column, t Tensor) bool { return t.row() < 0 || c.row() < 0 || t.row() == c.row() }

// holds reports whether a tensor that a server declares can be the one of a signature: as many
// dimensions, and no two sizes that differ. What the signature takes in any size, the server must
// take in any size; what it gives in any size, the server may give in one.
func holds(kind string, served, declared []int64) bool {
	return slices.EqualFunc(served, declared, func(s, d int64) bool {
		return s == d || s < 0 || (d < 0 && kind == "output")
	})
}

// packed reports whether one tensor carries all the columns side by side.
func packed(columns []Column, tensors []Tensor) bool {
	if len(tensors) != 1 || len(tensors[0].Shape) < 2 ||
		slices.ContainsFunc(columns, func(c Column) bool { return c.Name == tensors[0].Name }) {
		return false
	}
	var values int64
	for _, c := range columns {
		if !takes(tensors[0].Datatype, c) || c.row() < 0 {
			return false
		}
		values += c.row()
	}
	return tensors[0].row() == values || tensors[0].row() == -1
}

// Exactly is the signature as it is met at a server that it fits: where the signature leaves
// datatypes and shapes open, they are those that the server declares. Callers rely on that, as
// they must send what the server takes. A nil signature is all that the server declares.
func (s *Signature) Exactly(served Served) *Signature {
	if s == nil {
		s = &Signature{}
	}
	return &Signature{Inputs: exactly(s.Inputs, served.Inputs), Outputs: exactly(s.Outputs, served.Outputs)}
}

func exactly(columns []Column, tensors []Tensor) []Column {
	out := []Column{}
	switch {
	case len(columns) == 0:
		for _, t := range tensors {
			out = append(out, t.column())
		}
		return out
	case packed(columns, tensors):
		c := tensors[0].column()
		if len(columns) > 1 {
			c.Parts = parts(columns)
		}
		return append(out, c)
	}
	for _, c := range columns {
		i := slices.IndexFunc(tensors, func(t Tensor) bool { return t.Name == c.Name })
		switch {
		case i >= 0 && c.Datatype == "" && takes(tensors[i].Datatype, c) && asWide(c, tensors[i]):
			t := tensors[i].column()
			c.Type, c.Datatype, c.Shape = t.Type, t.Datatype, t.Shape
			if c.Type != Text {
				c.Levels = nil
			}
		case i >= 0 && c.Datatype == tensors[i].Datatype && c.AnyShape:
			c.Shape, c.AnyShape = tensors[i].Shape, false
		}
		out = append(out, c)
	}
	return out
}

// parts are the names of the values of columns side by side, x[0] and x[1] of one that has two.
func parts(columns []Column) (out []string) {
	for _, c := range columns {
		if c.row() == 1 {
			out = append(out, c.Name)
			continue
		}
		for i := range c.row() {
			out = append(out, fmt.Sprintf("%s[%d]", c.Name, i))
		}
	}
	return out
}

// Served is the signature as a server would declare it: the columns whose exact types are known.
func (s *Signature) Served() Served {
	side := func(columns []Column) []Tensor {
		out := []Tensor{}
		for _, c := range columns {
			if c.Datatype != "" && !c.AnyShape && len(c.Within) == 0 {
				out = append(out, Tensor{Name: c.Name, Datatype: c.Datatype, Shape: c.Shape})
			}
		}
		return out
	}
	return Served{Inputs: side(s.Inputs), Outputs: side(s.Outputs)}
}

// Answered holds the tensors of an answer against the outputs of an exact signature and returns
// every reason why its readers would stumble; none when it is as promised.
func (s *Signature) Answered(outputs []Tensor) (reasons []string) {
	for _, c := range s.Outputs {
		i := slices.IndexFunc(outputs, func(t Tensor) bool { return t.Name == c.Name })
		switch {
		case i < 0 && c.optional():
		case i < 0:
			reasons = append(reasons, fmt.Sprintf("the answer has no output %q", c.Name))
		case !c.plain():
		case !takes(outputs[i].Datatype, c):
			reasons = append(reasons, fmt.Sprintf("output %q of the answer is %s; %s is promised", c.Name,
				outputs[i].Datatype, c.TypeText()))
		case c.Datatype != "" && !c.AnyShape && !holds("output", outputs[i].Shape, c.Shape):
			reasons = append(reasons, fmt.Sprintf("output %q of the answer has the shape %v; %s is promised", c.Name,
				outputs[i].Shape, c.shapeText()))
		}
	}
	return reasons
}

// Equal reports whether two servers declare the same.
func (s Served) Equal(o Served) bool {
	same := func(a, b []Tensor) bool {
		return slices.EqualFunc(a, b, func(x, y Tensor) bool {
			return x.Name == y.Name && x.Datatype == y.Datatype && slices.Equal(x.Shape, y.Shape)
		})
	}
	return same(s.Inputs, o.Inputs) && same(s.Outputs, o.Outputs)
}
