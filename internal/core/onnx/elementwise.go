package onnx

import (
	"fmt"
	"math"

	"innerladder/internal/core/tensor"
)

// elementwise are the operators that compute each value by itself.
func elementwise() map[string]operator {
	out := map[string]operator{
		"Identity": {run: identity}, "Dropout": {run: dropout, prepare: notTraining, outputs: 2},
		"Not":   {run: not},
		"IsNaN": {run: test(math.IsNaN)}, "IsInf": {run: isInf},
		"Abs": {run: signed(math.Abs, func(v int64) int64 { return max(v, -v) })},
		"Neg": {run: signed(func(v float64) float64 { return -v }, func(v int64) int64 { return -v })},
		"Sign": {run: signed(sign, func(v int64) int64 {
			return int64(sign(float64(v)))
		})},
		"Relu": {run: signed(func(v float64) float64 {
			if v < 0 {
				return 0
			}
			return v
		}, func(v int64) int64 { return max(v, 0) })},
		"Clip": {run: clip}, "Cast": {run: cast, prepare: castable}, "CastLike": {run: castLike},
	}
	for name, f := range map[string]func(float64) float64{
		"Ceil": math.Ceil, "Floor": math.Floor, "Round": math.RoundToEven, "Sqrt": math.Sqrt, "Exp": math.Exp,
		"Log": math.Log, "Sin": math.Sin, "Cos": math.Cos, "Tan": math.Tan, "Asin": math.Asin, "Acos": math.Acos,
		"Atan": math.Atan, "Sinh": math.Sinh, "Cosh": math.Cosh, "Tanh": math.Tanh, "Asinh": math.Asinh,
		"Acosh": math.Acosh, "Atanh": math.Atanh, "Erf": math.Erf, "Sigmoid": sigmoid,
		"Reciprocal": func(v float64) float64 { return 1 / v },
		"Softplus":   func(v float64) float64 { return max(v, 0) + math.Log1p(math.Exp(-math.Abs(v))) },
		"Softsign":   func(v float64) float64 { return v / (1 + math.Abs(v)) },
		"HardSwish":  func(v float64) float64 { return v * max(0, min(1, v/6+0.5)) },
	} {
		out[name] = operator{run: func(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
			return one(eachFloat(in[0], f))
		}}
	}
	for name, shape := range map[string]func(n *node) func(float64) float64{
		"LeakyRelu": func(n *node) func(float64) float64 {
			return bent(0, n.float("alpha", 0.01), func(v float64) float64 { return v })
		},
		"Elu":  func(n *node) func(float64) float64 { return bent(0, n.float("alpha", 1), math.Expm1) },
		"Celu": celu, "Selu": selu, "HardSigmoid": hardSigmoid,
		"ThresholdedRelu": func(n *node) func(float64) float64 { return bent(n.float("alpha", 1), 0, nothing) },
		"Shrink":          shrink,
	} {
		out[name] = operator{
			prepare: func(n *node) error { n.ready = shape(n); return nil },
			run: func(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
				return one(eachFloat(in[0], n.ready.(func(float64) float64)))
			},
		}
	}
	return out
}

func nothing(float64) float64 { return 0 }

// bent is v above a limit and a share of something else up to it.
func bent(limit, share float64, below func(float64) float64) func(float64) float64 {
	return func(v float64) float64 {
		if v > limit {
			return v
		}
		return share * below(v)
	}
}

func sigmoid(v float64) float64 { return 1 / (1 + math.Exp(-v)) }

func sign(v float64) float64 {
	switch {
	case v > 0:
		return 1
	case v < 0:
		return -1
	}
	return v
}

func celu(n *node) func(float64) float64 {
	alpha := n.float("alpha", 1)
	return func(v float64) float64 { return max(0, v) + min(0, alpha*math.Expm1(v/alpha)) }
}

func selu(n *node) func(float64) float64 {
	alpha, gamma := n.float("alpha", 1.67326319217681884765625), n.float("gamma", 1.05070102214813232421875)
	return func(v float64) float64 {
		if v > 0 {
			return gamma * v
		}
		return gamma * alpha * math.Expm1(v)
	}
}

func hardSigmoid(n *node) func(float64) float64 {
	alpha, beta := n.float("alpha", 0.2), n.float("beta", 0.5)
	return func(v float64) float64 { return max(0, min(1, alpha*v+beta)) }
}

func shrink(n *node) func(float64) float64 {
	bias, lambda := n.float("bias", 0), n.float("lambd", 0.5)
	return func(v float64) float64 {
		switch {
		case v < -lambda:
			return v + bias
		case v > lambda:
			return v - bias
		}
		return 0
	}
}

// eachFloat computes every value of fractions, in double precision.
func eachFloat(t *tensor.Tensor, f func(float64) float64) (*tensor.Tensor, error) {
	switch x := t.Data.(type) {
	case []float32:
		return tensor.New(each(x, func(v float32) float32 { return float32(f(float64(v))) }), t.Shape...), nil
	case []float64:
		return tensor.New(each(x, f), t.Shape...), nil
	}
	return nil, fmt.Errorf("it is not computed for %s", t.Datatype())
}

func each[A, R any](x []A, f func(A) R) []R {
	out := make([]R, len(x))
	for i, v := range x {
		out[i] = f(v)
	}
	return out
}

// signed is an operation for fractions and whole numbers.
func signed(f func(float64) float64, g func(int64) int64) operation {
	return func(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		x, err := in[0].Ints()
		if _, fraction := in[0].Data.([]float32); fraction || err != nil {
			return one(eachFloat(in[0], f))
		}
		return one(tensor.New(each(x, g), in[0].Shape...).As(in[0].Datatype()))
	}
}

func identity(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) { return in[:1:1], nil }

// notTraining refuses what may be told to train.
func notTraining(n *node) error {
	if len(n.inputs) < 3 || n.inputs[2] == "" {
		return nil
	}
	if training := n.fixed[n.inputs[2]]; training != nil {
		if list, err := training.Ints(); err == nil && len(list) == 1 && list[0] == 0 {
			return nil
		}
	}
	return fmt.Errorf("training")
}

// dropout drops nothing: that is for training.
func dropout(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	all := make([]bool, in[0].Len())
	for i := range all {
		all[i] = true
	}
	return []*tensor.Tensor{in[0], tensor.New(all, in[0].Shape...)}, nil
}

func not(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	x, boolean := in[0].Data.([]bool)
	if !boolean {
		return nil, fmt.Errorf("it is not computed for %s", in[0].Datatype())
	}
	return one(tensor.New(each(x, func(v bool) bool { return !v }), in[0].Shape...), nil)
}

// test asks something of each fraction.
func test(f func(float64) bool) operation {
	return func(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		x, err := in[0].Floats()
		if err != nil {
			return nil, err
		}
		return one(tensor.New(each(x, f), in[0].Shape...), nil)
	}
}

func isInf(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	below, above := n.int("detect_negative", 1) != 0, n.int("detect_positive", 1) != 0
	return test(func(v float64) bool { return above && math.IsInf(v, 1) || below && math.IsInf(v, -1) })(n, in)
}

// clip takes its limits as inputs since version 11, as attributes before.
func clip(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	x, err := t.Ints()
	if err == nil {
		low, high := int64(math.MinInt64), int64(math.MaxInt64)
		for i, to := range []*int64{&low, &high} {
			if l := input(in, i+1); l != nil {
				v, err := l.Ints()
				if err != nil {
					return nil, err
				}
				*to = v[0]
			}
		}
		return one(tensor.New(each(x, func(v int64) int64 { return min(high, max(low, v)) }), t.Shape...).
			As(t.Datatype()))
	}
	low, high := n.float("min", math.Inf(-1)), n.float("max", math.Inf(1))
	for i, to := range []*float64{&low, &high} {
		if l := input(in, i+1); l != nil {
			v, err := l.Floats()
			if err != nil {
				return nil, err
			}
			*to = v[0]
		}
	}
	return one(eachFloat(t, func(v float64) float64 {
		switch {
		case v > high: // in this order the higher limit holds where they cross
			return high
		case v < low:
			return min(low, high)
		}
		return v
	}))
}

// castable refuses datatypes that are not reckoned with when the model is loaded.
func castable(n *node) error {
	to, err := datatype(n.int("to", 0))
	n.ready = to
	return err
}

func cast(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	return one(in[0].As(n.ready.(string)))
}

func castLike(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	return one(in[0].As(in[1].Datatype()))
}
