package onnx

import (
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/tensor"

	"gonum.org/v1/gonum/blas"
	"gonum.org/v1/gonum/blas/blas32"
	"gonum.org/v1/gonum/blas/blas64"
)

// layers are the operators that neural networks are made of, except those that slide a window.
func layers() map[string]operator {
	return map[string]operator{
		"MatMul": {run: matMul}, "Gemm": {run: gemm},
		"Softmax": {run: normalized(softmax)}, "LogSoftmax": {run: normalized(logSoftmax)},
		"Hardmax": {run: normalized(hardmax)}, "LayerNormalization": {run: layerNormalization, outputs: 3},
		"BatchNormalization":        {run: batchNormalization, prepare: inference},
		"InstanceNormalization":     {run: instanceNormalization},
		"MeanVarianceNormalization": {run: meanVariance}, "LRN": {run: localResponse},
		"GlobalAveragePool": {run: global(func(x []float64) float64 {
			s := 0.0
			for _, v := range x {
				s += v
			}
			return s / float64(len(x))
		})},
		"GlobalMaxPool": {run: global(slices.Max[[]float64])},
	}
}

// product multiplies matrices a (m×k) and b (k×n), of either orientation, into c (m×n), and adds beta times what is
// there.
func product[T tensor.Float](ta, tb bool, m, n, k int, alpha T, a, b []T, beta T, c []T) {
	if m == 0 || n == 0 {
		return
	}
	if k == 0 {
		for i := range c {
			c[i] *= beta
		}
		return
	}
	turn := func(t bool) blas.Transpose {
		if t {
			return blas.Trans
		}
		return blas.NoTrans
	}
	rows := func(t bool, rows, columns int) (int, int) {
		if t {
			return columns, rows
		}
		return rows, columns
	}
	ar, ac := rows(ta, m, k)
	br, bc := rows(tb, k, n)
	switch a := any(a).(type) {
	case []float32:
		blas32.Gemm(turn(ta), turn(tb), float32(alpha), blas32.General{Rows: ar, Cols: ac, Stride: ac, Data: a},
			blas32.General{Rows: br, Cols: bc, Stride: bc, Data: any(b).([]float32)}, float32(beta),
			blas32.General{Rows: m, Cols: n, Stride: n, Data: any(c).([]float32)})
	case []float64:
		blas64.Gemm(turn(ta), turn(tb), float64(alpha), blas64.General{Rows: ar, Cols: ac, Stride: ac, Data: a},
			blas64.General{Rows: br, Cols: bc, Stride: bc, Data: any(b).([]float64)}, float64(beta),
			blas64.General{Rows: m, Cols: n, Stride: n, Data: any(c).([]float64)})
	}
}

// matMul multiplies the matrices in the last two dimensions; those before are stretched to each other.
func matMul(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	a, b := in[0], in[1]
	as, bs := slices.Clone(a.Shape), slices.Clone(b.Shape)
	row, column := len(as) == 1, len(bs) == 1
	if row {
		as = []int{1, as[0]}
	}
	if column {
		bs = []int{bs[0], 1}
	}
	m, k, n := as[len(as)-2], as[len(as)-1], bs[len(bs)-1]
	if bs[len(bs)-2] != k {
		return nil, fmt.Errorf("matrices of the shapes %v and %v", a.Shape, b.Shape)
	}
	batch, err := tensor.Broadcast(as[:len(as)-2], bs[:len(bs)-2])
	if err != nil {
		return nil, err
	}
	to := append(slices.Clone(batch), m, n)
	if _, err := tensor.Count(to); err != nil {
		return nil, err
	}
	result := &tensor.Tensor{}
	switch x := a.Data.(type) {
	case []float32:
		y, same := b.Data.([]float32)
		if !same {
			return nil, fmt.Errorf("FP32 times %s", b.Datatype())
		}
		result.Data = multiplied(x, y, as, bs, batch, m, n, k)
	case []float64:
		y, same := b.Data.([]float64)
		if !same {
			return nil, fmt.Errorf("FP64 times %s", b.Datatype())
		}
		result.Data = multiplied(x, y, as, bs, batch, m, n, k)
	default: // whole numbers, exactly up to 2^53
		x64, err := a.Floats()
		if err != nil {
			return nil, err
		}
		y64, err := b.Floats()
		if err != nil {
			return nil, err
		}
		whole, err := tensor.New(multiplied(x64, y64, as, bs, batch, m, n, k), to...).As(a.Datatype())
		if err != nil {
			return nil, err
		}
		result = whole
	}
	if row {
		to = slices.Delete(to, len(to)-2, len(to)-1)
	}
	if column {
		to = to[:len(to)-1]
	}
	return one(result.With(to...), nil)
}

func multiplied[T tensor.Float](a, b []T, as, bs, batch []int, m, n, k int) []T {
	count := 1
	for _, d := range batch {
		count *= d
	}
	out := make([]T, count*m*n)
	at, by := tensor.Stretch(as[:len(as)-2], batch), tensor.Stretch(bs[:len(bs)-2], batch)
	for i := range count {
		x, y := at.At(i)*m*k, by.At(i)*k*n
		product(false, false, m, n, k, 1, a[x:x+m*k], b[y:y+k*n], 0, out[i*m*n:(i+1)*m*n])
	}
	return out
}

func gemm(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	switch in[0].Data.(type) {
	case []float32:
		return one(gemmOf[float32](n, in))
	case []float64:
		return one(gemmOf[float64](n, in))
	}
	return nil, fmt.Errorf("it is not computed for %s", in[0].Datatype())
}

func gemmOf[T tensor.Float](n *node, in []*tensor.Tensor) (*tensor.Tensor, error) {
	a, b := in[0], in[1]
	ta, tb := n.int("transA", 0) != 0, n.int("transB", 0) != 0
	m, k := a.Shape[0], a.Shape[1]
	if ta {
		m, k = k, m
	}
	other, columns := b.Shape[0], b.Shape[1]
	if tb {
		other, columns = columns, other
	}
	if other != k {
		return nil, fmt.Errorf("matrices of the shapes %v and %v", a.Shape, b.Shape)
	}
	if _, err := tensor.Count([]int{m, columns}); err != nil {
		return nil, err
	}
	out, beta := make([]T, m*columns), T(0)
	if c := input(in, 2); c != nil {
		beta = T(n.float("beta", 1))
		from := tensor.Stretch(c.Shape, []int{m, columns})
		x := c.Data.([]T)
		for i := range out {
			out[i] = x[from.At(i)]
		}
	}
	product(ta, tb, m, columns, k, T(n.float("alpha", 1)), a.Data.([]T), b.Data.([]T), beta, out)
	return tensor.New(out, m, columns), nil
}

// normalized does something with all values along one dimension together; before version 13 along all from one on.
func normalized(f func(x []float64)) operation {
	return func(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		t, or := in[0], int64(-1)
		if n.opset < 13 {
			or = 1
		}
		axis, err := tensor.Axis(int(n.int("axis", or)), len(t.Shape))
		if err != nil {
			return nil, err
		}
		if n.opset < 13 {
			rows := 1
			for _, d := range t.Shape[:axis] {
				rows *= d
			}
			t, axis = t.With(rows, t.Len()/max(rows, 1)), 1
		}
		x, err := t.Floats()
		if err != nil {
			return nil, err
		}
		outer, d, inner := t.Around(axis)
		out, part := make([]float64, len(x)), make([]float64, d)
		for o := range outer {
			for i := range inner {
				for j := range d {
					part[j] = x[(o*d+j)*inner+i]
				}
				f(part)
				for j := range d {
					out[(o*d+j)*inner+i] = part[j]
				}
			}
		}
		return one(tensor.New(out, in[0].Shape...).As(in[0].Datatype()))
	}
}

func softmax(x []float64) {
	if len(x) == 0 {
		return
	}
	top, sum := slices.Max(x), 0.0
	for i, v := range x {
		x[i] = math.Exp(v - top)
		sum += x[i]
	}
	for i := range x {
		x[i] /= sum
	}
}

func logSoftmax(x []float64) {
	all := logSumExp(x)
	for i := range x {
		x[i] -= all
	}
}

func hardmax(x []float64) {
	best := 0
	for i, v := range x {
		if v > x[best] {
			best = i
		}
	}
	for i := range x {
		x[i] = 0
		if i == best {
			x[i] = 1
		}
	}
}

// layerNormalization gives the normalised values, then the means and the inverse deviations.
func layerNormalization(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	axis, err := tensor.Axis(int(n.int("axis", -1)), len(t.Shape))
	if err != nil {
		return nil, err
	}
	x, err := t.Floats()
	if err != nil {
		return nil, err
	}
	rows := 1
	stats := slices.Clone(t.Shape)
	for i := range stats {
		if i < axis {
			rows *= stats[i]
		} else {
			stats[i] = 1
		}
	}
	part := len(x) / max(rows, 1)
	out, means, inverses := make([]float64, len(x)), make([]float64, rows), make([]float64, rows)
	for r := range rows {
		means[r], inverses[r] = centred(x[r*part:(r+1)*part], out[r*part:(r+1)*part], n.float("epsilon", 1e-5))
	}
	y, err := tensor.New(out, t.Shape...).As(t.Datatype())
	if err != nil {
		return nil, err
	}
	for i, do := range []operation{
		arithmetic(multiply[float32], multiply[float64], multiply[int64]),
		arithmetic(add[float32], add[float64], add[int64]),
	} {
		if by := input(in, i+1); by != nil {
			all, err := do(n, []*tensor.Tensor{y, by})
			if err != nil {
				return nil, err
			}
			y = all[0]
		}
	}
	m, err := tensor.New(means, stats...).As(t.Datatype())
	if err != nil {
		return nil, err
	}
	inverse, err := tensor.New(inverses, stats...).As(t.Datatype())
	return []*tensor.Tensor{y, m, inverse}, err
}

// centred writes x less its mean over its deviation.
func centred(x, to []float64, epsilon float64) (mean, inverse float64) {
	for _, v := range x {
		mean += v / float64(len(x))
	}
	variance := 0.0
	for _, v := range x {
		variance += (v - mean) * (v - mean) / float64(len(x))
	}
	inverse = 1 / math.Sqrt(variance+epsilon)
	for i, v := range x {
		to[i] = (v - mean) * inverse
	}
	return mean, inverse
}

// inference refuses what is only for training.
func inference(n *node) error {
	if n.int("training_mode", 0) != 0 {
		return fmt.Errorf("training")
	}
	return nil
}

// channels are the numbers that some inputs give for each channel.
func channels(in ...*tensor.Tensor) ([][]float64, error) {
	out := make([][]float64, len(in))
	for i, t := range in {
		if t == nil {
			return nil, errInput
		}
		var err error
		if out[i], err = t.Floats(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func batchNormalization(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	by, err := channels(in...)
	if err != nil {
		return nil, err
	}
	t, x, epsilon := in[0], by[0], n.float("epsilon", 1e-5)
	_, depth, inner := t.Around(min(1, len(t.Shape)-1))
	out := make([]float64, len(x))
	for i, v := range x {
		c := i / inner % depth
		out[i] = (v-by[3][c])/math.Sqrt(by[4][c]+epsilon)*by[1][c] + by[2][c]
	}
	return one(tensor.New(out, t.Shape...).As(t.Datatype()))
}

func instanceNormalization(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	by, err := channels(in...)
	if err != nil {
		return nil, err
	}
	t, x := in[0], by[0]
	outer, depth, inner := t.Around(1)
	out := make([]float64, len(x))
	for i := range outer * depth {
		part := out[i*inner : (i+1)*inner]
		centred(x[i*inner:(i+1)*inner], part, n.float("epsilon", 1e-5))
		for j := range part {
			part[j] = part[j]*by[1][i%depth] + by[2][i%depth]
		}
	}
	return one(tensor.New(out, t.Shape...).As(t.Datatype()))
}

func meanVariance(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	over := n.ints("axes")
	if over == nil {
		over = []int64{0, 2, 3}
	}
	along := &node{attributes: map[string]attribute{"axes": {ints: over}}}
	average := reduce(func(x []float64) float64 {
		sum := 0.0
		for _, v := range x {
			sum += v / float64(len(x))
		}
		return sum
	})
	mean, err := average(along, in[:1])
	if err != nil {
		return nil, err
	}
	less := arithmetic(subtract[float32], subtract[float64], subtract[int64])
	rest, err := less(n, []*tensor.Tensor{in[0], mean[0]})
	if err != nil {
		return nil, err
	}
	squared, err := eachFloat(rest[0], func(v float64) float64 { return v * v })
	if err != nil {
		return nil, err
	}
	variance, err := average(along, []*tensor.Tensor{squared})
	if err != nil {
		return nil, err
	}
	deviation, err := eachFloat(variance[0], func(v float64) float64 { return math.Sqrt(v) + 1e-9 })
	if err != nil {
		return nil, err
	}
	return arithmetic(divide[float32], divide[float64], divideWhole)(n, []*tensor.Tensor{rest[0], deviation})
}

// localResponse divides by what the neighbouring channels hold.
func localResponse(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	x, err := t.Floats()
	if err != nil {
		return nil, err
	}
	size, alpha := int(n.int("size", 1)), n.float("alpha", 0.0001)
	beta, bias := n.float("beta", 0.75), n.float("bias", 1)
	outer, depth, inner := t.Around(1)
	out := make([]float64, len(x))
	for o := range outer {
		for c := range depth {
			for i := range inner {
				sum := 0.0
				for k := max(0, c-(size-1)/2); k <= min(depth-1, c+size/2); k++ {
					v := x[(o*depth+k)*inner+i]
					sum += v * v
				}
				at := (o*depth+c)*inner + i
				out[at] = x[at] / math.Pow(bias+alpha/float64(size)*sum, beta)
			}
		}
	}
	return one(tensor.New(out, t.Shape...).As(t.Datatype()))
}

// global makes one value of each channel.
func global(f func([]float64) float64) operation {
	return func(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		t := in[0]
		x, err := t.Floats()
		if err != nil {
			return nil, err
		}
		outer, depth, inner := t.Around(1)
		out := make([]float64, outer*depth)
		for i := range out {
			out[i] = f(x[i*inner : (i+1)*inner])
		}
		to := slices.Clone(t.Shape)
		for i := 2; i < len(to); i++ {
			to[i] = 1
		}
		return one(tensor.New(out, to...).As(t.Datatype()))
	}
}
