package onnx

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/tensor"
)

// choosing are the operators that take values by their place or rank.
func choosing() map[string]operator {
	return map[string]operator{
		"Gather": {run: gather}, "GatherElements": {run: gatherElements}, "GatherND": {run: gatherND},
		"ScatterElements": {run: scatterElements, prepare: scattered}, "Scatter": {run: scatterElements},
		"ScatterND": {run: scatterND, prepare: scattered}, "OneHot": {run: oneHot}, "NonZero": {run: nonZero},
		"Compress": {run: compress}, "TopK": {run: topK, outputs: 2},
		"ArgMax": {run: extreme(1)}, "ArgMin": {run: extreme(-1)},
	}
}

// place is a place that may be counted from the end.
func place(v int64, d int) (int, error) {
	if v < int64(-d) || v >= int64(d) {
		return 0, fmt.Errorf("there is no place %d among %d", v, d)
	}
	if v < 0 {
		v += int64(d)
	}
	return int(v), nil
}

func gather(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	axis, err := tensor.Axis(int(n.int("axis", 0)), len(t.Shape))
	if err != nil {
		return nil, err
	}
	which, err := in[1].Ints()
	if err != nil {
		return nil, err
	}
	outer, d, inner := t.Around(axis)
	to := slices.Concat(t.Shape[:axis], in[1].Shape, t.Shape[axis+1:])
	if _, err := tensor.Count(to); err != nil {
		return nil, err
	}
	at := make([]int, 0, outer*len(which)*inner)
	for o := range outer {
		for _, w := range which {
			k, err := place(w, d)
			if err != nil {
				return nil, err
			}
			for i := range inner {
				at = append(at, (o*d+k)*inner+i)
			}
		}
	}
	return one(t.Pick(at, to...), nil)
}

// elementsAt says which place of t each place of which means, where only the index along one dimension is given.
func elementsAt(t, which *tensor.Tensor, axis int) ([]int, error) {
	list, err := which.Ints()
	if err != nil {
		return nil, err
	}
	strides := tensor.Strides(t.Shape)
	along := strides[axis]
	strides[axis] = 0
	at := tensor.Walk(which.Shape, strides)
	for i, v := range list {
		k, err := place(v, t.Shape[axis])
		if err != nil {
			return nil, err
		}
		at[i] += k * along
	}
	return at, nil
}

func gatherElements(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	axis, err := tensor.Axis(int(n.int("axis", 0)), len(in[0].Shape))
	if err != nil {
		return nil, err
	}
	at, err := elementsAt(in[0], in[1], axis)
	if err != nil {
		return nil, err
	}
	return one(in[0].Pick(at, in[1].Shape...), nil)
}

// partsAt says which places of t the parts have that the last rows of which mean.
func partsAt(t, which *tensor.Tensor, batch int) (places []int, err error) {
	list, err := which.Ints()
	if err != nil {
		return nil, err
	}
	depth := which.Shape[len(which.Shape)-1]
	strides := tensor.Strides(t.Shape)
	part, each := 1, 1
	for _, d := range t.Shape[batch+depth:] {
		part *= d
	}
	for _, d := range t.Shape[batch:] {
		each *= d
	}
	batches := 1
	for _, d := range t.Shape[:batch] {
		batches *= d
	}
	rows := len(list) / max(depth, 1)
	for r := range rows {
		at := r / max(1, rows/max(batches, 1)) * each
		if batch == 0 {
			at = 0
		}
		for j := range depth {
			k, err := place(list[r*depth+j], t.Shape[batch+j])
			if err != nil {
				return nil, err
			}
			at += k * strides[batch+j]
		}
		for i := range part {
			places = append(places, at+i)
		}
	}
	return places, nil
}

func gatherND(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	batch := int(n.int("batch_dims", 0))
	at, err := partsAt(in[0], in[1], batch)
	if err != nil {
		return nil, err
	}
	rank := len(in[1].Shape)
	depth := in[1].Shape[rank-1]
	return one(in[0].Pick(at, slices.Concat(in[1].Shape[:rank-1], in[0].Shape[batch+depth:])...), nil)
}

// scattered refuses ways to add to what is there that are not computed.
func scattered(n *node) error {
	if how := n.text("reduction", "none"); how != "none" {
		return fmt.Errorf("the reduction %q", how)
	}
	return nil
}

// put is t with other values at some places.
func put(t, values *tensor.Tensor, at []int) (*tensor.Tensor, error) {
	with, err := tensor.Join([]*tensor.Tensor{t.With(t.Len()), values.With(values.Len())}, 0)
	if err != nil {
		return nil, err
	}
	from := make([]int, t.Len())
	for i := range from {
		from[i] = i
	}
	for i, k := range at {
		from[k] = t.Len() + i
	}
	return with.Pick(from, t.Shape...), nil
}

func scatterElements(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	axis, err := tensor.Axis(int(n.int("axis", 0)), len(in[0].Shape))
	if err != nil {
		return nil, err
	}
	at, err := elementsAt(in[0], in[1], axis)
	if err != nil {
		return nil, err
	}
	return one(put(in[0], in[2], at))
}

func scatterND(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	at, err := partsAt(in[0], in[1], 0)
	if err != nil {
		return nil, err
	}
	return one(put(in[0], in[2], at))
}

func oneHot(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	which, err := integersOf(in[0])
	if err != nil {
		return nil, err
	}
	depths, err := integersOf(in[1])
	if err != nil {
		return nil, err
	}
	depth := int(depths[0])
	rank := len(in[0].Shape) + 1
	axis, err := tensor.Axis(int(n.int("axis", -1)), rank)
	if err != nil {
		return nil, err
	}
	to := slices.Concat(in[0].Shape[:axis], []int{depth}, in[0].Shape[axis:])
	count, err := tensor.Count(to)
	if err != nil {
		return nil, err
	}
	inner := 1
	for _, d := range to[axis+1:] {
		inner *= d
	}
	at := make([]int, count)
	for i := range at {
		k, from := i/inner%depth, i/(inner*depth)*inner+i%inner
		v := which[from]
		if v < 0 {
			v += int64(depth)
		}
		if int64(k) == v {
			at[i] = 1 // the second of the two values is that of what is there
		}
	}
	return one(in[2].Pick(at, to...), nil)
}

func integersOf(t *tensor.Tensor) ([]int64, error) {
	whole, err := t.As("INT64")
	if err != nil {
		return nil, err
	}
	return whole.Ints()
}

func nonZero(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	x, err := in[0].Floats()
	if err != nil {
		return nil, err
	}
	strides := tensor.Strides(in[0].Shape)
	found := make([][]int64, len(strides))
	for i, v := range x {
		if v == 0 {
			continue
		}
		for d, s := range strides {
			found[d] = append(found[d], int64(i/s%in[0].Shape[d]))
		}
	}
	all := slices.Concat(found...)
	return one(tensor.New(append([]int64{}, all...), len(strides), len(all)/max(1, len(strides))), nil)
}

func compress(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	if _, along := n.attributes["axis"]; !along {
		t = t.With(t.Len())
	}
	axis, err := tensor.Axis(int(n.int("axis", 0)), len(t.Shape))
	if err != nil {
		return nil, err
	}
	keep, err := in[1].Ints()
	if err != nil {
		return nil, err
	}
	which := []int64{}
	for i, k := range keep {
		if k != 0 {
			which = append(which, int64(i))
		}
	}
	along := &node{attributes: map[string]attribute{"axis": {i: int64(axis)}}}
	return gather(along, []*tensor.Tensor{t, tensor.New(which, len(which))})
}

// topK gives the largest or smallest values along a dimension, and where they stand.
func topK(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	axis, err := tensor.Axis(int(n.int("axis", -1)), len(t.Shape))
	if err != nil {
		return nil, err
	}
	k := int(n.int("k", 0))
	if by := input(in, 1); by != nil {
		list, err := by.Ints()
		if err != nil {
			return nil, err
		}
		k = int(list[0])
	}
	x, err := t.Floats()
	if err != nil {
		return nil, err
	}
	outer, d, inner := t.Around(axis)
	if k < 0 || k > d {
		return nil, fmt.Errorf("%d of %d", k, d)
	}
	turn := 1
	if n.int("largest", 1) != 0 {
		turn = -1
	}
	at, where := make([]int, outer*k*inner), make([]int64, outer*k*inner)
	order := make([]int, d)
	for o := range outer {
		for i := range inner {
			for j := range order {
				order[j] = j
			}
			value := func(j int) float64 { return x[(o*d+j)*inner+i] }
			slices.SortStableFunc(order, func(a, b int) int { return turn * cmp.Compare(value(a), value(b)) })
			for j := range k {
				to := (o*k+j)*inner + i
				at[to], where[to] = (o*d+order[j])*inner+i, int64(order[j])
			}
		}
	}
	shape := slices.Clone(t.Shape)
	shape[axis] = k
	return []*tensor.Tensor{t.Pick(at, shape...), tensor.New(where, shape...)}, nil
}

// extreme is where the largest (turn 1) or smallest (-1) value along a dimension stands.
func extreme(turn float64) operation {
	return func(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		t := in[0]
		axis, err := tensor.Axis(int(n.int("axis", 0)), len(t.Shape))
		if err != nil {
			return nil, err
		}
		x, err := t.Floats()
		if err != nil {
			return nil, err
		}
		last := n.int("select_last_index", 0) != 0
		outer, d, inner := t.Around(axis)
		out := make([]int64, outer*inner)
		for o := range outer {
			for i := range inner {
				best := math.Inf(-1)
				for j := range d {
					if v := turn * x[(o*d+j)*inner+i]; v > best || (last && v == best) {
						best, out[o*inner+i] = v, int64(j)
					}
				}
			}
		}
		to := slices.Clone(t.Shape)
		to[axis] = 1
		if n.int("keepdims", 1) == 0 {
			to = slices.Delete(to, axis, axis+1)
		}
		return one(tensor.New(out, to...), nil)
	}
}
