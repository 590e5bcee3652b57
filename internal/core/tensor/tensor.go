// Package tensor holds arrays of numbers, booleans or texts with any number of dimensions, laid out row by row, and
// what every reckoning with them needs: sizes, strides, and how shapes stretch to fit each other.
package tensor

import (
	"fmt"
	"math"
	"slices"
)

// Tensor is an array. Data is a slice of one of the types of Number, of bool or of string; its length is the product of
// Shape. A tensor is not changed once it has been made, so several may share their data.
type Tensor struct {
	Shape []int
	Data  any
}

// Float is what fractions are kept as.
type Float interface{ float32 | float64 }

// Number is everything that can be reckoned with.
type Number interface {
	Float | int8 | int16 | int32 | int64 | uint8 | uint16 | uint32 | uint64
}

// Largest is how many values one tensor may have. It bounds what a file can make us reserve.
const Largest = 1 << 28

// New makes a tensor of data with a shape.
func New[T Number | bool | string](data []T, shape ...int) *Tensor {
	return &Tensor{Shape: slices.Clone(shape), Data: data}
}

// Scalar is a tensor of one value without dimensions.
func Scalar[T Number | bool | string](v T) *Tensor { return &Tensor{Shape: []int{}, Data: []T{v}} }

// Count is how many values a shape has. A negative dimension and more than Largest values are refused.
func Count(shape []int) (int, error) {
	n := 1
	for _, d := range shape {
		if d < 0 {
			return 0, fmt.Errorf("the shape %v has a negative dimension", shape)
		}
		if d > 0 && n > Largest/d {
			return 0, fmt.Errorf("a tensor of the shape %v has more than %d values", shape, Largest)
		}
		n *= d
	}
	return n, nil
}

// Len is how many values the tensor has.
func (t *Tensor) Len() int {
	n := 1
	for _, d := range t.Shape {
		n *= d
	}
	return n
}

// With is the same values in another shape of as many.
func (t *Tensor) With(shape ...int) *Tensor { return &Tensor{Shape: slices.Clone(shape), Data: t.Data} }

// Datatype is the type of the values as the Open Inference Protocol calls it.
func (t *Tensor) Datatype() string {
	switch t.Data.(type) {
	case []float32:
		return "FP32"
	case []float64:
		return "FP64"
	case []int8:
		return "INT8"
	case []int16:
		return "INT16"
	case []int32:
		return "INT32"
	case []int64:
		return "INT64"
	case []uint8:
		return "UINT8"
	case []uint16:
		return "UINT16"
	case []uint32:
		return "UINT32"
	case []uint64:
		return "UINT64"
	case []bool:
		return "BOOL"
	case []string:
		return "BYTES"
	}
	return ""
}

// Make is a slice of n zero values of a datatype.
func Make(datatype string, n int) (any, error) {
	switch datatype {
	case "FP32":
		return make([]float32, n), nil
	case "FP64":
		return make([]float64, n), nil
	case "INT8":
		return make([]int8, n), nil
	case "INT16":
		return make([]int16, n), nil
	case "INT32":
		return make([]int32, n), nil
	case "INT64":
		return make([]int64, n), nil
	case "UINT8":
		return make([]uint8, n), nil
	case "UINT16":
		return make([]uint16, n), nil
	case "UINT32":
		return make([]uint32, n), nil
	case "UINT64":
		return make([]uint64, n), nil
	case "BOOL":
		return make([]bool, n), nil
	case "BYTES":
		return make([]string, n), nil
	}
	return nil, fmt.Errorf("the datatype %s is not reckoned with", datatype)
}

// Strides is how far apart in the data neighbours along each dimension are.
func Strides(shape []int) []int {
	out := make([]int, len(shape))
	n := 1
	for i := len(shape) - 1; i >= 0; i-- {
		out[i] = n
		n *= shape[i]
	}
	return out
}

// Axis is the dimension that a number means, which may count from the end.
func Axis(axis, rank int) (int, error) {
	if axis < -rank || axis >= max(rank, 1) {
		return 0, fmt.Errorf("there is no dimension %d among %d", axis, rank)
	}
	if axis < 0 {
		axis += rank
	}
	return axis, nil
}

// Around is how many values stand before a dimension, in it, and after it: the data is outer × size × inner.
func (t *Tensor) Around(axis int) (outer, size, inner int) {
	outer, inner = 1, 1
	for _, d := range t.Shape[:axis] {
		outer *= d
	}
	for _, d := range t.Shape[axis+1:] {
		inner *= d
	}
	return outer, t.Shape[axis], inner
}

// Broadcast is the shape that shapes stretch to: aligned at their ends, dimensions of 1 take any size.
func Broadcast(shapes ...[]int) ([]int, error) {
	rank := 0
	for _, s := range shapes {
		rank = max(rank, len(s))
	}
	out := make([]int, rank)
	for i := range out {
		out[i] = 1
	}
	for _, s := range shapes {
		for i, d := range s {
			at := rank - len(s) + i
			switch {
			case d == out[at] || d == 1:
			case out[at] == 1:
				out[at] = d
			default:
				return nil, fmt.Errorf("the shapes %v do not fit each other", shapes)
			}
		}
	}
	if _, err := Count(out); err != nil {
		return nil, err
	}
	return out, nil
}

// Stretched says which value of a tensor stands at each place of a larger one that it is stretched to.
type Stretched struct {
	// every is the length of what repeats itself; at is the place of each where that is not all there is to it.
	every int
	at    []int
}

// Stretch prepares to read a tensor of one shape as one of another, which Broadcast gave.
func Stretch(from, to []int) Stretched {
	for len(from) > 0 && from[0] == 1 { // what is repeated as a whole
		from = from[1:]
	}
	n := 1
	for _, d := range from {
		n *= d
	}
	if slices.Equal(from, to[len(to)-len(from):]) {
		return Stretched{every: max(n, 1)}
	}
	strides := Strides(from)
	step := make([]int, len(to))
	for i, d := range from {
		if d != 1 {
			step[len(to)-len(from)+i] = strides[i]
		}
	}
	return Stretched{at: Walk(to, step)}
}

// At is the place in the smaller tensor of place i in the larger one.
func (s Stretched) At(i int) int {
	switch {
	case s.at != nil:
		return s.at[i]
	case i < s.every:
		return i
	}
	return i % s.every
}

// Walk lists, for each place of a shape in order, the sum of its indices times the steps.
func Walk(shape, step []int) []int {
	n := 1
	for _, d := range shape {
		n *= d
	}
	out := make([]int, n)
	index := make([]int, len(shape))
	at := 0
	for i := range out {
		out[i] = at
		for d := len(shape) - 1; d >= 0; d-- {
			index[d]++
			at += step[d]
			if index[d] < shape[d] {
				break
			}
			at -= step[d] * shape[d]
			index[d] = 0
		}
	}
	return out
}

// Pick is a tensor of the values at some places, in a shape.
func (t *Tensor) Pick(at []int, shape ...int) *Tensor {
	out := &Tensor{Shape: slices.Clone(shape)}
	switch x := t.Data.(type) {
	case []float32:
		out.Data = pick(x, at)
	case []float64:
		out.Data = pick(x, at)
	case []int8:
		out.Data = pick(x, at)
	case []int16:
		out.Data = pick(x, at)
	case []int32:
		out.Data = pick(x, at)
	case []int64:
		out.Data = pick(x, at)
	case []uint8:
		out.Data = pick(x, at)
	case []uint16:
		out.Data = pick(x, at)
	case []uint32:
		out.Data = pick(x, at)
	case []uint64:
		out.Data = pick(x, at)
	case []bool:
		out.Data = pick(x, at)
	case []string:
		out.Data = pick(x, at)
	}
	return out
}

// pick takes the zero value for a place before the first.
func pick[T any](x []T, at []int) []T {
	out := make([]T, len(at))
	for i, j := range at {
		if j >= 0 {
			out[i] = x[j]
		}
	}
	return out
}

// Ints are the values as whole numbers. Fractions, texts, and what does not fit are refused.
func (t *Tensor) Ints() ([]int64, error) {
	switch x := t.Data.(type) {
	case []int64:
		return x, nil
	case []int8:
		return whole(x), nil
	case []int16:
		return whole(x), nil
	case []int32:
		return whole(x), nil
	case []uint8:
		return whole(x), nil
	case []uint16:
		return whole(x), nil
	case []uint32:
		return whole(x), nil
	case []uint64:
		for _, v := range x {
			if v > math.MaxInt64 {
				return nil, fmt.Errorf("%d is larger than whole numbers are reckoned with here", v)
			}
		}
		return whole(x), nil
	case []bool:
		out := make([]int64, len(x))
		for i, v := range x {
			if v {
				out[i] = 1
			}
		}
		return out, nil
	}
	return nil, fmt.Errorf("values of the type %s are no whole numbers", t.Datatype())
}

func whole[T Number](x []T) []int64 {
	out := make([]int64, len(x))
	for i, v := range x {
		out[i] = int64(v)
	}
	return out
}

// Floats are the values as fractions. Texts are refused.
func (t *Tensor) Floats() ([]float64, error) {
	switch x := t.Data.(type) {
	case []float64:
		return x, nil
	case []float32:
		out := make([]float64, len(x))
		for i, v := range x {
			out[i] = float64(v)
		}
		return out, nil
	case []uint64:
		out := make([]float64, len(x))
		for i, v := range x {
			out[i] = float64(v)
		}
		return out, nil
	case []string:
		return nil, fmt.Errorf("texts are no numbers")
	}
	x, err := t.Ints()
	if err != nil {
		return nil, err
	}
	out := make([]float64, len(x))
	for i, v := range x {
		out[i] = float64(v)
	}
	return out, nil
}
