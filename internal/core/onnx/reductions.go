package onnx

import (
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/tensor"
)

// reductions are the operators that make one value of many along some dimensions.
func reductions() map[string]operator {
	sum := func(x []float64) float64 {
		s := 0.0
		for _, v := range x {
			s += v
		}
		return s
	}
	squares := func(x []float64) float64 {
		s := 0.0
		for _, v := range x {
			s += v * v
		}
		return s
	}
	out := map[string]operator{"CumSum": {run: cumSum}}
	for name, f := range map[string]func([]float64) float64{
		"ReduceSum": sum, "ReduceSumSquare": squares,
		"ReduceMean": func(x []float64) float64 { return sum(x) / float64(len(x)) },
		"ReduceProd": func(x []float64) float64 {
			p := 1.0
			for _, v := range x {
				p *= v
			}
			return p
		},
		"ReduceMax": func(x []float64) float64 {
			if len(x) == 0 {
				return math.Inf(-1)
			}
			return slices.Max(x)
		},
		"ReduceMin": func(x []float64) float64 {
			if len(x) == 0 {
				return math.Inf(1)
			}
			return slices.Min(x)
		},
		"ReduceL1": func(x []float64) float64 {
			s := 0.0
			for _, v := range x {
				s += math.Abs(v)
			}
			return s
		},
		"ReduceL2":        func(x []float64) float64 { return math.Sqrt(squares(x)) },
		"ReduceLogSum":    func(x []float64) float64 { return math.Log(sum(x)) },
		"ReduceLogSumExp": logSumExp,
	} {
		out[name] = operator{run: reduce(f)}
	}
	return out
}

// logSumExp does not overflow where its result does not.
func logSumExp(x []float64) float64 {
	if len(x) == 0 {
		return math.Inf(-1)
	}
	top := slices.Max(x)
	if math.IsInf(top, 0) {
		return top
	}
	s := 0.0
	for _, v := range x {
		s += math.Exp(v - top)
	}
	return top + math.Log(s)
}

// reduce takes its dimensions as an input in new versions, as an attribute before; without any it takes all.
func reduce(f func([]float64) float64) operation {
	return func(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		t := in[0]
		list, err := n.list(in, 1, "axes")
		if err != nil {
			return nil, err
		}
		if len(list) == 0 && n.int("noop_with_empty_axes", 0) != 0 {
			return one(t, nil)
		}
		over, err := axes(list, len(t.Shape))
		if err != nil {
			return nil, err
		}
		x, err := t.Floats()
		if err != nil {
			return nil, err
		}
		var kept, gone, to []int // what stays is laid out before what goes
		strides := tensor.Strides(t.Shape)
		var keptStep, goneStep []int
		for i, d := range t.Shape {
			if len(list) == 0 || slices.Contains(over, i) {
				gone, goneStep = append(gone, d), append(goneStep, strides[i])
				if n.int("keepdims", 1) != 0 {
					to = append(to, 1)
				}
				continue
			}
			kept, keptStep, to = append(kept, d), append(keptStep, strides[i]), append(to, d)
		}
		begin, within := tensor.Walk(kept, keptStep), tensor.Walk(gone, goneStep)
		out, part := make([]float64, len(begin)), make([]float64, len(within))
		for i, b := range begin {
			for j, w := range within {
				part[j] = x[b+w]
			}
			out[i] = f(part)
		}
		return one(tensor.New(out, to...).As(t.Datatype()))
	}
}

func cumSum(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	list, err := in[1].Ints()
	if err != nil {
		return nil, err
	}
	if len(list) != 1 {
		return nil, fmt.Errorf("%d dimensions", len(list))
	}
	axis, err := tensor.Axis(int(list[0]), len(t.Shape))
	if err != nil {
		return nil, err
	}
	x, err := t.Floats()
	if err != nil {
		return nil, err
	}
	exclusive, reverse := n.int("exclusive", 0) != 0, n.int("reverse", 0) != 0
	outer, d, inner := t.Around(axis)
	out := make([]float64, len(x))
	for o := range outer {
		for i := range inner {
			sum := 0.0
			for j := range d {
				k := j
				if reverse {
					k = d - 1 - j
				}
				at := (o*d+k)*inner + i
				if exclusive {
					out[at] = sum
				}
				sum += x[at]
				if !exclusive {
					out[at] = sum
				}
			}
		}
	}
	return one(tensor.New(out, t.Shape...).As(t.Datatype()))
}
