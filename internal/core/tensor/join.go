package tensor

import (
	"fmt"
	"slices"
)

// Join lays tensors one after the other along a dimension.
func Join(in []*Tensor, axis int) (*Tensor, error) {
	to := slices.Clone(in[0].Shape)
	for _, t := range in[1:] {
		same := len(t.Shape) == len(to) && t.Datatype() == in[0].Datatype()
		for i := 0; same && i < len(to); i++ {
			same = i == axis || t.Shape[i] == to[i]
		}
		if !same {
			return nil, fmt.Errorf("%s of the shape %v cannot be put behind %s of the shape %v", t.Datatype(), t.Shape,
				in[0].Datatype(), in[0].Shape)
		}
		to[axis] += t.Shape[axis]
	}
	if _, err := Count(to); err != nil {
		return nil, err
	}
	switch in[0].Data.(type) {
	case []float32:
		return joined[float32](in, axis, to), nil
	case []float64:
		return joined[float64](in, axis, to), nil
	case []int64:
		return joined[int64](in, axis, to), nil
	case []bool:
		return joined[bool](in, axis, to), nil
	case []string:
		return joined[string](in, axis, to), nil
	}
	wide := make([]*Tensor, len(in))
	for i, t := range in {
		var err error
		if wide[i], err = t.As("INT64"); err != nil {
			return nil, err
		}
	}
	return joined[int64](wide, axis, to).As(in[0].Datatype())
}

func joined[T Number | bool | string](in []*Tensor, axis int, to []int) *Tensor {
	outer := 1
	for _, d := range to[:axis] {
		outer *= d
	}
	n, _ := Count(to)
	out := make([]T, 0, n)
	for o := range outer {
		for _, t := range in {
			x := t.Data.([]T)
			part := len(x) / max(outer, 1)
			out = append(out, x[o*part:(o+1)*part]...)
		}
	}
	return New(out, to...)
}
