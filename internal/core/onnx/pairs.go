package onnx

import (
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/tensor"
)

// comparisons are the operators that take values of several tensors which are stretched to each other's shape.
func comparisons() map[string]operator {
	out := map[string]operator{
		"Add": {run: arithmetic(add[float32], add[float64], add[int64])},
		"Sub": {run: arithmetic(subtract[float32], subtract[float64], subtract[int64])},
		"Mul": {run: arithmetic(multiply[float32], multiply[float64], multiply[int64])},
		"Div": {run: arithmetic(divide[float32], divide[float64], divideWhole)},
		"Pow": {run: power}, "Mod": {run: modulo}, "PRelu": {run: slopes},
		"BitShift": {run: bitShift},
		"And":      {run: logical(func(a, b bool) bool { return a && b })},
		"Or":       {run: logical(func(a, b bool) bool { return a || b })},
		"Xor":      {run: logical(func(a, b bool) bool { return a != b })},
		"Equal":    {run: equal},
		"Less":     {run: compared(less[float64], less[int64])},
		"Greater": {run: compared(func(a, b float64) bool { return a > b },
			func(a, b int64) bool { return a > b })},
		"LessOrEqual": {run: compared(func(a, b float64) bool { return a <= b },
			func(a, b int64) bool { return a <= b })},
		"GreaterOrEqual": {run: compared(func(a, b float64) bool { return a >= b },
			func(a, b int64) bool { return a >= b })},
		"Min":  {run: folded(arithmetic(lower[float32], lower[float64], lower[int64]))},
		"Max":  {run: folded(arithmetic(higher[float32], higher[float64], higher[int64]))},
		"Sum":  {run: folded(arithmetic(add[float32], add[float64], add[int64]))},
		"Mean": {run: mean}, "Where": {run: where},
	}
	for name, op := range out {
		op.prepare = aligned
		out[name] = op
	}
	return out
}

// aligned refuses the way in which shapes were stretched before version 7, where a node says where the smaller one
// begins.
func aligned(n *node) error {
	if _, said := n.attributes["axis"]; said {
		return fmt.Errorf("the place where shapes are aligned (version %d)", n.opset)
	}
	return nil
}

// slopes gives each channel a slope of its own; before version 7 they may be a plain list.
func slopes(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	by := in[1]
	if rank := len(in[0].Shape); n.opset < 7 && len(by.Shape) == 1 && rank > 2 {
		to := make([]int, rank-1)
		for i := range to {
			to[i] = 1
		}
		to[0] = by.Len()
		by = by.With(to...)
	}
	return arithmetic(prelu[float32], prelu[float64], prelu[int64])(n, []*tensor.Tensor{in[0], by})
}

type reckoned interface{ float32 | float64 | int64 }

func add[T reckoned](a, b T) T            { return a + b }
func subtract[T reckoned](a, b T) T       { return a - b }
func multiply[T reckoned](a, b T) T       { return a * b }
func divide[T tensor.Float](a, b T) T     { return a / b }
func lower[T reckoned](a, b T) T          { return min(a, b) }
func higher[T reckoned](a, b T) T         { return max(a, b) }
func less[T float64 | int64](a, b T) bool { return a < b }

func prelu[T reckoned](v, slope T) T {
	if v < 0 {
		return v * slope
	}
	return v
}

// divideWhole cuts towards zero. What is divided by zero is zero, where other runtimes stop the process.
func divideWhole(a, b int64) int64 {
	if b == 0 {
		return 0
	}
	return a / b
}

// paired computes the values of two tensors that are stretched to each other.
func paired[A, R any](x, y []A, xs, ys, to []int, f func(A, A) R) []R {
	n, _ := tensor.Count(to)
	out := make([]R, n)
	switch {
	case slices.Equal(xs, ys):
		for i, v := range x {
			out[i] = f(v, y[i])
		}
	case len(y) == 1:
		for i, v := range x[:min(n, len(x))] {
			out[i] = f(v, y[0])
		}
	default:
		at, by := tensor.Stretch(xs, to), tensor.Stretch(ys, to)
		for i := range out {
			out[i] = f(x[at.At(i)], y[by.At(i)])
		}
	}
	return out
}

// arithmetic gives numbers of the datatype that it takes. Whole types are computed in 64 bits and wrap around in their
// own.
func arithmetic(f func(a, b float32) float32, d func(a, b float64) float64, w func(a, b int64) int64) operation {
	return func(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		x, y := in[0], in[1]
		if x.Datatype() != y.Datatype() {
			return nil, fmt.Errorf("%s and %s do not fit each other", x.Datatype(), y.Datatype())
		}
		to, err := tensor.Broadcast(x.Shape, y.Shape)
		if err != nil {
			return nil, err
		}
		switch a := x.Data.(type) {
		case []float32:
			return one(tensor.New(paired(a, y.Data.([]float32), x.Shape, y.Shape, to, f), to...), nil)
		case []float64:
			return one(tensor.New(paired(a, y.Data.([]float64), x.Shape, y.Shape, to, d), to...), nil)
		}
		a, b, err := wholes(x, y)
		if err != nil {
			return nil, err
		}
		return one(tensor.New(paired(a, b, x.Shape, y.Shape, to, w), to...).As(x.Datatype()))
	}
}

func wholes(x, y *tensor.Tensor) (a, b []int64, err error) {
	if a, err = x.Ints(); err == nil {
		b, err = y.Ints()
	}
	return a, b, err
}

// power gives the datatype of its first input; the second may be of another.
func power(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	x, y := in[0], in[1]
	to, err := tensor.Broadcast(x.Shape, y.Shape)
	if err != nil {
		return nil, err
	}
	a, b, err := fractions(x, y)
	if err != nil {
		return nil, err
	}
	return one(tensor.New(paired(a, b, x.Shape, y.Shape, to, math.Pow), to...).As(x.Datatype()))
}

func fractions(x, y *tensor.Tensor) (a, b []float64, err error) {
	if a, err = x.Floats(); err == nil {
		b, err = y.Floats()
	}
	return a, b, err
}

// modulo has the sign of the divisor, or with fmod that of the dividend.
func modulo(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	whole := func(a, b int64) int64 {
		if b == 0 {
			return 0
		}
		m := a % b
		if n.int("fmod", 0) == 0 && m != 0 && (m < 0) != (b < 0) {
			m += b
		}
		return m
	}
	return arithmetic(func(a, b float32) float32 { return float32(math.Mod(float64(a), float64(b))) },
		math.Mod, whole)(n, in)
}

func bitShift(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	if n.text("direction", "") == "LEFT" {
		return bits(func(a, b int64) int64 { return a << uint64(b) })(n, in)
	}
	return bits(func(a, b int64) int64 { return int64(uint64(a) >> uint64(b)) })(n, in)
}

func bits(f func(a, b int64) int64) operation {
	return arithmetic(func(float32, float32) float32 { panic("fractions have no bits here") },
		func(float64, float64) float64 { panic("fractions have no bits here") }, f)
}

func logical(f func(a, b bool) bool) operation {
	return func(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		to, err := tensor.Broadcast(in[0].Shape, in[1].Shape)
		if err != nil {
			return nil, err
		}
		a, yes := in[0].Data.([]bool)
		b, too := in[1].Data.([]bool)
		if !yes || !too {
			return nil, fmt.Errorf("%s and %s are not both BOOL", in[0].Datatype(), in[1].Datatype())
		}
		return one(tensor.New(paired(a, b, in[0].Shape, in[1].Shape, to, f), to...), nil)
	}
}

func compared(f func(a, b float64) bool, w func(a, b int64) bool) operation {
	return func(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		x, y := in[0], in[1]
		to, err := tensor.Broadcast(x.Shape, y.Shape)
		if err != nil {
			return nil, err
		}
		if a, b, err := wholes(x, y); err == nil {
			return one(tensor.New(paired(a, b, x.Shape, y.Shape, to, w), to...), nil)
		}
		a, b, err := fractions(x, y)
		if err != nil {
			return nil, err
		}
		return one(tensor.New(paired(a, b, x.Shape, y.Shape, to, f), to...), nil)
	}
}

func equal(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	a, text := in[0].Data.([]string)
	b, too := in[1].Data.([]string)
	if !text || !too {
		return compared(func(a, b float64) bool { return a == b }, func(a, b int64) bool { return a == b })(n, in)
	}
	to, err := tensor.Broadcast(in[0].Shape, in[1].Shape)
	if err != nil {
		return nil, err
	}
	return one(tensor.New(paired(a, b, in[0].Shape, in[1].Shape, to, func(a, b string) bool { return a == b }), to...),
		nil)
}

// folded does with any number of inputs what is defined for two.
func folded(do operation) operation {
	return func(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		sofar := in[0]
		for _, next := range in[1:] {
			out, err := do(n, []*tensor.Tensor{sofar, next})
			if err != nil {
				return nil, err
			}
			sofar = out[0]
		}
		return one(sofar, nil)
	}
}

func mean(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	sum, err := folded(arithmetic(add[float32], add[float64], add[int64]))(n, in)
	if err != nil {
		return nil, err
	}
	return one(eachFloat(sum[0], func(v float64) float64 { return v / float64(len(in)) }))
}

func where(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	to, err := tensor.Broadcast(in[0].Shape, in[1].Shape, in[2].Shape)
	if err != nil {
		return nil, err
	}
	c, boolean := in[0].Data.([]bool)
	if !boolean || in[1].Datatype() != in[2].Datatype() {
		return nil, fmt.Errorf("%s chooses between %s and %s", in[0].Datatype(), in[1].Datatype(), in[2].Datatype())
	}
	// Both are laid one after the other, and each value is picked from one of them.
	both, err := tensor.Join([]*tensor.Tensor{in[1].With(in[1].Len()), in[2].With(in[2].Len())}, 0)
	if err != nil {
		return nil, err
	}
	if_, yes, no := tensor.Stretch(in[0].Shape, to), tensor.Stretch(in[1].Shape, to), tensor.Stretch(in[2].Shape, to)
	n, _ := tensor.Count(to)
	at := make([]int, n)
	for i := range at {
		if c[if_.At(i)] {
			at[i] = yes.At(i)
		} else {
			at[i] = in[1].Len() + no.At(i)
		}
	}
	return one(both.Pick(at, to...), nil)
}
