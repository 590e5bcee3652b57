// Package compute gives models that can be computed here one face, whatever they are written down in: named tensors in,
// named tensors out.
package compute

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/core/onnx"
	"innerladder/internal/core/pmml"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/tensor"
)

// Formats are those of files that can be computed, as registry contents name them.
var Formats = []string{"onnx", "pmml"}

// Model computes batches. It is safe for use by several goroutines at once.
type Model struct {
	// Served is what it takes and gives.
	Served signature.Served
	// Rows says that what it gives for a row does not depend on the others, so that rows of several requests may be
	// computed together.
	Rows bool
	run  func(in []*tensor.Tensor) ([]*tensor.Tensor, error)
}

// Load makes a model of the bytes of a file. With a signature, the columns that it names are put together where the
// file takes all of them as one tensor, and an only output gets the name that it has there.
func Load(format string, file []byte, s *signature.Signature) (*Model, error) {
	var m *Model
	switch format {
	case "onnx":
		p, err := onnx.Load(file)
		if err != nil {
			return nil, err
		}
		m = ofProgram(p)
	case "pmml":
		d, err := pmml.Load(bytes.NewReader(file))
		if err != nil {
			return nil, err
		}
		m = ofDocument(d)
	default:
		return nil, fmt.Errorf("files in the format %s are not computed here, only %s", format,
			strings.Join(Formats, " and "))
	}
	m.suit(s)
	m.Rows = m.Rows && m.apart()
	return m, nil
}

// ofProgram is a model of an ONNX program.
func ofProgram(p *onnx.Program) *Model {
	m := &Model{run: p.Run, Rows: true}
	side := func(values []onnx.Value) []signature.Tensor {
		var out []signature.Tensor
		for _, v := range values {
			shape := v.Shape
			if v.AnyShape {
				shape = []int64{-1}
			}
			m.Rows = m.Rows && len(v.Shape) > 0 && v.Shape[0] == -1
			out = append(out, signature.Tensor{Name: v.Name, Datatype: v.Datatype, Shape: shape})
		}
		return out
	}
	m.Served = signature.Served{Inputs: side(p.Inputs), Outputs: side(p.Outputs)}
	return m
}

// Run computes the outputs, in order, for inputs in order. Numbers of another datatype of the same family are taken,
// and a list where a table of one column is wanted, and the other way round.
func (m *Model) Run(in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	if len(in) != len(m.Served.Inputs) {
		return nil, fmt.Errorf("%d inputs are given where %d are taken", len(in), len(m.Served.Inputs))
	}
	suited := make([]*tensor.Tensor, len(in))
	for i, t := range in {
		var err error
		if suited[i], err = suit(t, m.Served.Inputs[i]); err != nil {
			return nil, err
		}
	}
	return m.run(suited)
}

// suit is a tensor as an input wants it.
func suit(t *tensor.Tensor, want signature.Tensor) (*tensor.Tensor, error) {
	if have := t.Datatype(); have != want.Datatype {
		from, _ := signature.TypeOf(have)
		to, _ := signature.TypeOf(want.Datatype)
		if from != to && (from != signature.Integer || to != signature.Number) {
			return nil, fmt.Errorf("input %q is %s where %s is taken", want.Name, have, want.Datatype)
		}
		var err error
		if t, err = t.As(want.Datatype); err != nil {
			return nil, fmt.Errorf("input %q: %w", want.Name, err)
		}
	}
	switch {
	case len(t.Shape) == 1 && len(want.Shape) == 2 && want.Shape[1] == 1:
		return t.With(t.Shape[0], 1), nil
	case len(t.Shape) == 2 && len(want.Shape) == 1 && t.Shape[1] == 1:
		return t.With(t.Shape[0]), nil
	}
	return t, nil
}

// suit fits the model to a signature.
func (m *Model) suit(s *signature.Signature) {
	if s == nil {
		return
	}
	if out := m.Served.Outputs; len(s.Outputs) == 1 && len(out) == 1 {
		out[0].Name = s.Outputs[0].Name
	}
	in := m.Served.Inputs
	if len(in) != 1 || len(in[0].Shape) != 2 || len(s.Inputs) < 2 || int64(len(s.Inputs)) != in[0].Shape[1] {
		return
	}
	table, inner := in[0], m.run
	var columns []signature.Tensor
	for _, c := range s.Inputs {
		if !c.Type.Numeric() || len(c.Shape) > 1 || c.Name == table.Name {
			return
		}
		columns = append(columns, signature.Tensor{Name: c.Name, Datatype: table.Datatype, Shape: []int64{-1}})
	}
	m.Served.Inputs = columns
	m.run = func(in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		packed, err := stacked(in, columns)
		if err != nil {
			return nil, err
		}
		return inner([]*tensor.Tensor{packed})
	}
}

// stacked puts columns side by side.
func stacked(in []*tensor.Tensor, names []signature.Tensor) (*tensor.Tensor, error) {
	rows, width := in[0].Len(), len(in)
	if width > 0 && rows > tensor.Largest/width {
		return nil, fmt.Errorf("%d rows are too many", rows)
	}
	out := make([]float64, rows*width)
	for j, t := range in {
		x, err := t.Floats()
		if err != nil {
			return nil, err
		}
		if len(x) != rows {
			return nil, fmt.Errorf("input %q has %d rows, %q has %d", names[j].Name, len(x), names[0].Name, rows)
		}
		for i, v := range x {
			out[i*width+j] = v
		}
	}
	return tensor.New(out, rows, width).As(names[0].Datatype)
}

// Sample is a batch of some rows that a model of these inputs takes: small numbers that differ, and empty texts. Where
// a size other than that of the batch is open it is 1.
func Sample(inputs []signature.Tensor, rows int) ([]*tensor.Tensor, error) {
	var out []*tensor.Tensor
	for k, in := range inputs {
		shape := make([]int, len(in.Shape))
		for i, d := range in.Shape {
			shape[i] = int(max(1, d))
			if i == 0 && d < 0 {
				shape[i] = rows
			}
		}
		n, err := tensor.Count(shape)
		if err != nil {
			return nil, err
		}
		t := tensor.New(make([]string, n), shape...)
		if in.Datatype != "BYTES" {
			x := make([]float64, n)
			for i := range x {
				x[i] = float64((i*7+k*3)%5) / 2
			}
			if t, err = tensor.New(x, shape...).As(in.Datatype); err != nil {
				return nil, err
			}
		}
		out = append(out, t)
	}
	return out, nil
}

// apart makes sure that rows do not depend on each other: two that are computed together give what each gives alone.
// Where that cannot be tried it is not so.
func (m *Model) apart() bool {
	both, err := Sample(m.Served.Inputs, 2)
	if err != nil {
		return false
	}
	together, err := m.Run(both)
	if err != nil {
		return false
	}
	for row := range 2 {
		one := make([]*tensor.Tensor, len(both))
		for i, t := range both {
			one[i] = Part(t, row, row+1)
		}
		alone, err := m.Run(one)
		if err != nil {
			return false
		}
		for i, t := range alone {
			if len(together[i].Shape) == 0 || together[i].Shape[0] != 2 || !alike(Part(together[i], row, row+1), t) {
				return false
			}
		}
	}
	return true
}

// alike compares but for rounding.
func alike(a, b *tensor.Tensor) bool {
	x, errX := a.Floats()
	y, errY := b.Floats()
	if errX != nil || errY != nil {
		s, _ := a.Data.([]string)
		t, _ := b.Data.([]string)
		return slices.Equal(s, t)
	}
	return slices.EqualFunc(x, y, func(a, b float64) bool {
		return a == b || a != a && b != b || max(a-b, b-a) <= 1e-5*max(1, a, -a)
	})
}

// Part is some rows of a tensor.
func Part(t *tensor.Tensor, from, to int) *tensor.Tensor {
	each := 1
	for _, d := range t.Shape[1:] {
		each *= d
	}
	at := make([]int, (to-from)*each)
	for i := range at {
		at[i] = from*each + i
	}
	return t.Pick(at, append([]int{to - from}, t.Shape[1:]...)...)
}
