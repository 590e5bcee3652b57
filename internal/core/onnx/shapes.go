package onnx

import (
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/tensor"
)

// shaping are the operators that lay the same values out otherwise.
func shaping() map[string]operator {
	return map[string]operator{
		"Reshape": {run: reshape}, "Flatten": {run: flatten}, "Squeeze": {run: squeeze}, "Unsqueeze": {run: unsqueeze},
		"Transpose": {run: transpose}, "Concat": {run: concat}, "Split": {run: split, outputs: math.MaxInt},
		"Slice": {run: slice}, "Expand": {run: expand}, "Tile": {run: tile}, "Shape": {run: shape}, "Size": {run: size},
		"Constant":        {run: constant, prepare: constantOnce},
		"ConstantOfShape": {run: constantOfShape}, "Range": {run: ranged},
		"Pad": {run: pad, prepare: padded}, "EyeLike": {run: eyeLike}, "Trilu": {run: trilu},
		"DepthToSpace": {run: depthToSpace}, "SpaceToDepth": {run: spaceToDepth},
	}
}

func reshape(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	want, err := n.list(in, 1, "shape")
	if err != nil {
		return nil, err
	}
	to, open, rest := make([]int, len(want)), -1, 1
	for i, d := range want {
		switch {
		case d == -1 && open < 0:
			open = i
			continue
		case d == 0 && n.int("allowzero", 0) == 0 && i < len(in[0].Shape):
			d = int64(in[0].Shape[i])
		}
		to[i] = int(d)
		rest *= to[i]
	}
	if open >= 0 && rest > 0 {
		to[open] = in[0].Len() / rest
	}
	if count, err := tensor.Count(to); err != nil || count != in[0].Len() {
		return nil, fmt.Errorf("%d values do not fit into the shape %v", in[0].Len(), want)
	}
	return one(in[0].With(to...), nil)
}

func flatten(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	axis := int(n.int("axis", 1))
	if axis < 0 {
		axis += len(in[0].Shape)
	}
	rows := 1
	for _, d := range in[0].Shape[:axis] {
		rows *= d
	}
	if rows == 0 {
		return one(in[0].With(0, 0), nil)
	}
	return one(in[0].With(rows, in[0].Len()/rows), nil)
}

// axes are dimensions, each counted from the front.
func axes(list []int64, rank int) ([]int, error) {
	out := make([]int, len(list))
	for i, a := range list {
		var err error
		if out[i], err = tensor.Axis(int(a), rank); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func squeeze(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	list, err := n.list(in, 1, "axes")
	if err != nil {
		return nil, err
	}
	gone, err := axes(list, len(in[0].Shape))
	if err != nil {
		return nil, err
	}
	to := []int{}
	for i, d := range in[0].Shape {
		if slices.Contains(gone, i) && d != 1 {
			return nil, fmt.Errorf("dimension %d has the size %d and cannot be left out", i, d)
		}
		if !slices.Contains(gone, i) && (len(list) > 0 || d != 1) {
			to = append(to, d)
		}
	}
	return one(in[0].With(to...), nil)
}

func unsqueeze(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	list, err := n.list(in, 1, "axes")
	if err != nil {
		return nil, err
	}
	rank := len(in[0].Shape) + len(list)
	added, err := axes(list, rank)
	if err != nil {
		return nil, err
	}
	to, rest := make([]int, rank), in[0].Shape
	for i := range to {
		if slices.Contains(added, i) {
			to[i] = 1
			continue
		}
		to[i], rest = rest[0], rest[1:]
	}
	return one(in[0].With(to...), nil)
}

func transpose(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	order := n.ints("perm")
	if order == nil {
		for i := len(t.Shape) - 1; i >= 0; i-- {
			order = append(order, int64(i))
		}
	}
	return one(permute(t, order), nil)
}

// permute is a tensor with its dimensions in another order.
func permute(t *tensor.Tensor, order []int64) *tensor.Tensor {
	strides := tensor.Strides(t.Shape)
	to, step := make([]int, len(order)), make([]int, len(order))
	for i, from := range order {
		to[i], step[i] = t.Shape[from], strides[from]
	}
	return t.Pick(tensor.Walk(to, step), to...)
}

func concat(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	axis, err := tensor.Axis(int(n.int("axis", 1)), len(in[0].Shape))
	if err != nil {
		return nil, err
	}
	return one(tensor.Join(in, axis))
}

func split(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	axis, err := tensor.Axis(int(n.int("axis", 0)), len(t.Shape))
	if err != nil {
		return nil, err
	}
	sizes, err := n.list(in, 1, "split")
	if err != nil {
		return nil, err
	}
	if sizes == nil {
		parts := len(n.outputs)
		each := (t.Shape[axis] + parts - 1) / parts
		for left := t.Shape[axis]; len(sizes) < parts; left -= each {
			sizes = append(sizes, int64(max(0, min(each, left))))
		}
	}
	var out []*tensor.Tensor
	at := 0
	for _, size := range sizes {
		out = append(out, cutOut(t, axis, at, 1, int(size)))
		at += int(size)
	}
	if at != t.Shape[axis] {
		return nil, fmt.Errorf("parts of %v do not make up %d", sizes, t.Shape[axis])
	}
	return out, nil
}

// cutOut takes size places of one dimension, from one on, by a step.
func cutOut(t *tensor.Tensor, axis, from, step, size int) *tensor.Tensor {
	to, steps := slices.Clone(t.Shape), tensor.Strides(t.Shape)
	to[axis] = size
	begin := from * steps[axis]
	steps[axis] *= step
	at := tensor.Walk(to, steps)
	for i := range at {
		at[i] += begin
	}
	return t.Pick(at, to...)
}

// slice takes its limits as inputs since version 10, as attributes before.
func slice(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	var lists [4][]int64
	for i, name := range []string{"starts", "ends", "axes", "steps"} {
		var err error
		if lists[i], err = n.list(in, i+1, name); err != nil {
			return nil, err
		}
	}
	starts, ends, over, steps := lists[0], lists[1], lists[2], lists[3]
	t := in[0]
	for i := range starts {
		axis, step := i, int64(1)
		if over != nil {
			var err error
			if axis, err = tensor.Axis(int(over[i]), len(t.Shape)); err != nil {
				return nil, err
			}
		}
		if steps != nil {
			step = steps[i]
		}
		from, size, err := stretchOf(starts[i], ends[i], step, int64(t.Shape[axis]))
		if err != nil {
			return nil, err
		}
		t = cutOut(t, axis, from, int(step), size)
	}
	return one(t, nil)
}

// stretchOf is where a slice begins and how many places it has.
func stretchOf(start, end, step, d int64) (from, size int, err error) {
	if step == 0 {
		return 0, 0, fmt.Errorf("the step is 0")
	}
	place := func(v, low, high int64) int64 {
		if v < 0 {
			v += d
		}
		return min(max(v, low), high)
	}
	if step > 0 {
		start, end = place(start, 0, d), place(end, 0, d)
		return int(start), int(max(0, (end-start+step-1)/step)), nil
	}
	start = place(start, 0, d-1)
	if end < -d {
		end = -1
	} else {
		end = place(end, -1, d-1)
	}
	return int(start), int(max(0, (start-end-step-1)/-step)), nil
}

// dims are dimensions that an input gives.
func dims(t *tensor.Tensor) ([]int, error) {
	list, err := t.Ints()
	if err != nil {
		return nil, err
	}
	out := make([]int, len(list))
	for i, d := range list {
		out[i] = int(d)
	}
	_, err = tensor.Count(out)
	return out, err
}

func expand(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	want, err := dims(in[1])
	if err != nil {
		return nil, err
	}
	to, err := tensor.Broadcast(in[0].Shape, want)
	if err != nil {
		return nil, err
	}
	from, n := tensor.Stretch(in[0].Shape, to), 1
	for _, d := range to {
		n *= d
	}
	at := make([]int, n)
	for i := range at {
		at[i] = from.At(i)
	}
	return one(in[0].Pick(at, to...), nil)
}

func tile(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	times, err := dims(in[1])
	if err != nil {
		return nil, err
	}
	for axis, n := range times {
		if n == 0 {
			t = cutOut(t, axis, 0, 1, 0)
			continue
		}
		copies := make([]*tensor.Tensor, n)
		for i := range copies {
			copies[i] = t
		}
		if t, err = tensor.Join(copies, axis); err != nil {
			return nil, err
		}
	}
	return one(t, nil)
}

func shape(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	rank := int64(len(in[0].Shape))
	place := func(v int64) int64 {
		if v < 0 {
			v += rank
		}
		return min(max(v, 0), rank)
	}
	from, to := place(n.int("start", 0)), place(n.int("end", rank))
	out := []int64{}
	for i := from; i < to; i++ {
		out = append(out, int64(in[0].Shape[i]))
	}
	return one(tensor.New(out, len(out)), nil)
}

func size(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	return one(tensor.Scalar(int64(in[0].Len())), nil)
}

// constantOnce makes the value of a constant out of whichever attribute it stands in.
func constantOnce(n *node) error {
	for name, a := range n.attributes {
		switch name {
		case "value":
			n.ready = a.tensor
		case "value_float":
			n.ready = tensor.Scalar(a.f)
		case "value_floats":
			n.ready = tensor.New(a.floats, len(a.floats))
		case "value_int":
			n.ready = tensor.Scalar(a.i)
		case "value_ints":
			n.ready = tensor.New(a.ints, len(a.ints))
		case "value_string":
			n.ready = tensor.Scalar(a.s)
		case "value_strings":
			n.ready = tensor.New(a.strings, len(a.strings))
		}
	}
	if t, there := n.ready.(*tensor.Tensor); !there || t == nil {
		return fmt.Errorf("its value is in a form that is not read")
	}
	return nil
}

func constant(n *node, _ []*tensor.Tensor) ([]*tensor.Tensor, error) {
	return one(n.ready.(*tensor.Tensor), nil)
}

func constantOfShape(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	to, err := dims(in[0])
	if err != nil {
		return nil, err
	}
	value := n.attributes["value"].tensor
	if value == nil {
		value = tensor.Scalar(float32(0))
	}
	count, _ := tensor.Count(to)
	return one(value.Pick(make([]int, count), to...), nil)
}

func ranged(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	var v [3]float64
	for i := range v {
		x, err := in[i].Floats()
		if err != nil {
			return nil, err
		}
		v[i] = x[0]
	}
	n := math.Max(0, math.Ceil((v[1]-v[0])/v[2]))
	if !(n <= tensor.Largest) {
		return nil, fmt.Errorf("a range of %v values", n)
	}
	out := make([]float64, int(n))
	for i := range out {
		out[i] = v[0] + float64(i)*v[2]
	}
	return one(tensor.New(out, len(out)).As(in[0].Datatype()))
}

// padded refuses ways of padding that are not computed.
func padded(n *node) error {
	if mode := n.text("mode", "constant"); !slices.Contains([]string{"constant", "edge", "reflect", "wrap"}, mode) {
		return fmt.Errorf("the mode %q", mode)
	}
	return nil
}

// pad takes its sizes as an input since version 11, as an attribute before.
func pad(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	pads, err := n.list(in, 1, "pads")
	if err != nil {
		return nil, err
	}
	value := tensor.Scalar(float32(n.float("value", 0)))
	if v := input(in, 2); v != nil {
		value = v
	}
	if value, err = value.With(1).As(t.Datatype()); err != nil {
		return nil, err
	}
	over := []int{}
	if v := input(in, 3); v != nil {
		list, err := v.Ints()
		if err != nil {
			return nil, err
		}
		if over, err = axes(list, len(t.Shape)); err != nil {
			return nil, err
		}
	} else {
		for i := range t.Shape {
			over = append(over, i)
		}
	}
	if len(pads) != 2*len(over) {
		return nil, fmt.Errorf("%d sizes for %d dimensions", len(pads), len(over))
	}
	for i, axis := range over {
		t, err = padAlong(t, value, axis, int(pads[i]), int(pads[len(over)+i]), n.text("mode", "constant"))
		if err != nil {
			return nil, err
		}
	}
	return one(t, nil)
}

// padAlong pads one dimension; negative sizes cut off.
func padAlong(t, value *tensor.Tensor, axis, before, after int, mode string) (*tensor.Tensor, error) {
	to := slices.Clone(t.Shape)
	to[axis] += before + after
	count, err := tensor.Count(to)
	if err != nil {
		return nil, err
	}
	// The value stands behind all others.
	with, err := tensor.Join([]*tensor.Tensor{t.With(t.Len()), value}, 0)
	if err != nil {
		return nil, err
	}
	_, d, inner := t.Around(axis)
	at := make([]int, count)
	for i := range at {
		k := i/inner%to[axis] - before
		switch {
		case k >= 0 && k < d:
		case mode == "edge":
			k = min(max(k, 0), d-1)
		case mode == "reflect" && d > 1:
			k = ((k % (2*d - 2)) + 2*d - 2) % (2*d - 2)
			k = min(k, 2*d-2-k)
		case mode == "wrap":
			k = ((k % d) + d) % d
		default:
			at[i] = t.Len()
			continue
		}
		at[i] = (i/(inner*to[axis])*d+k)*inner + i%inner
	}
	return with.Pick(at, to...), nil
}

func eyeLike(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	of := in[0].Datatype()
	if to := n.int("dtype", 0); to != 0 {
		var err error
		if of, err = datatype(to); err != nil {
			return nil, err
		}
	}
	rows, columns, k := in[0].Shape[0], in[0].Shape[1], int(n.int("k", 0))
	out := make([]int64, rows*columns)
	for i := range rows {
		if j := i + k; j >= 0 && j < columns {
			out[i*columns+j] = 1
		}
	}
	return one(tensor.New(out, rows, columns).As(of))
}

func trilu(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t, k := in[0], 0
	if by := input(in, 1); by != nil {
		list, err := by.Ints()
		if err != nil {
			return nil, err
		}
		k = int(list[0])
	}
	upper := n.int("upper", 1) != 0
	rank := len(t.Shape)
	rows, columns := t.Shape[rank-2], t.Shape[rank-1]
	at := make([]int, t.Len())
	for i := range at {
		r, c := i/columns%rows, i%columns
		at[i] = i
		if (upper && c-r < k) || (!upper && c-r > k) {
			at[i] = -1 // zero
		}
	}
	return one(t.Pick(at, t.Shape...), nil)
}

func depthToSpace(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t, b := in[0], int(n.int("blocksize", 1))
	rows, depth, h, w := t.Shape[0], t.Shape[1]/(b*b), t.Shape[2], t.Shape[3]
	if n.text("mode", "DCR") == "CRD" {
		t = permute(t.With(rows, depth, b, b, h, w), []int64{0, 1, 4, 2, 5, 3})
	} else {
		t = permute(t.With(rows, b, b, depth, h, w), []int64{0, 3, 4, 1, 5, 2})
	}
	return one(t.With(rows, depth, h*b, w*b), nil)
}

func spaceToDepth(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t, b := in[0], int(n.int("blocksize", 1))
	rows, depth, h, w := t.Shape[0], t.Shape[1], t.Shape[2]/b, t.Shape[3]/b
	t = permute(t.With(rows, depth, h, b, w, b), []int64{0, 3, 5, 1, 2, 4})
	return one(t.With(rows, depth*b*b, h, w), nil)
}
