package onnx

import (
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/tensor"
)

// windows are the operators that slide a window over the dimensions behind rows and channels.
func windows() map[string]operator {
	return map[string]operator{
		"Conv":        {run: convolution},
		"MaxPool":     {run: maxPool},
		"AveragePool": {run: averagePool},
	}
}

// window is how a window moves over some dimensions.
type window struct {
	// size is that of the window, stride how far it moves, apart how far its places lie apart, before how much is
	// padded.
	size, stride, apart, before []int
	// from is the size of what it moves over, to of what it gives; after is what is padded at the end.
	from, to, after []int
}

// windowOf reads a window from the attributes of a node, for inputs of a size.
func windowOf(n *node, from, size []int) (*window, error) {
	rank := len(from)
	w := &window{from: from, size: size, to: make([]int, rank), after: make([]int, rank)}
	list := func(name string, or int) []int {
		out := make([]int, rank)
		given := n.ints(name)
		for i := range out {
			out[i] = or
			if i < len(given) {
				out[i] = int(given[i])
			}
		}
		return out
	}
	if len(size) != rank {
		return nil, fmt.Errorf("a window of %d dimensions over %d", len(size), rank)
	}
	w.stride, w.apart, w.before = list("strides", 1), list("dilations", 1), make([]int, rank)
	pads := n.ints("pads")
	for i := range rank {
		if w.stride[i] < 1 || w.apart[i] < 1 || size[i] < 1 {
			return nil, fmt.Errorf("a window of the size %v that moves by %v", size, w.stride)
		}
		reach := (size[i]-1)*w.apart[i] + 1
		switch n.text("auto_pad", "NOTSET") {
		case "SAME_UPPER", "SAME_LOWER":
			w.to[i] = (from[i] + w.stride[i] - 1) / w.stride[i]
			all := max(0, (w.to[i]-1)*w.stride[i]+reach-from[i])
			w.before[i] = all / 2
			if n.text("auto_pad", "") == "SAME_LOWER" {
				w.before[i] = all - all/2
			}
			w.after[i] = all - w.before[i]
			continue
		case "NOTSET", "":
			if len(pads) == 2*rank {
				w.before[i], w.after[i] = int(pads[i]), int(pads[rank+i])
			}
		}
		room := from[i] + w.before[i] + w.after[i] - reach
		if room < 0 {
			return nil, fmt.Errorf("a window of %d over %d", reach, from[i])
		}
		w.to[i] = room/w.stride[i] + 1
		if n.int("ceil_mode", 0) != 0 {
			w.to[i] = (room+w.stride[i]-1)/w.stride[i] + 1
			if (w.to[i]-1)*w.stride[i] >= from[i]+w.before[i] {
				w.to[i]-- // a window that begins in what is padded
			}
		}
	}
	_, err := tensor.Count(w.to)
	return w, err
}

// each calls do for every place of the window: where it stands, and for each of its own places where that is in the
// input, or -1 in what is padded.
func (w *window) each(do func(place int, at []int)) {
	count, inside := 1, 1
	for i := range w.to {
		count, inside = count*w.to[i], inside*w.size[i]
	}
	at := make([]int, inside)
	strides := tensor.Strides(w.from)
	outer, inner := tensor.Strides(w.to), tensor.Strides(w.size)
	for p := range count {
		for k := range at {
			sum := 0
			for d := range w.to {
				i := p/outer[d]%w.to[d]*w.stride[d] - w.before[d] + k/inner[d]%w.size[d]*w.apart[d]
				if i < 0 || i >= w.from[d] {
					sum = -1
					break
				}
				sum += i * strides[d]
			}
			at[k] = sum
		}
		do(p, at)
	}
}

// convolution lays the values under each place of the window side by side, and multiplies that matrix by the weights.
func convolution(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	switch in[0].Data.(type) {
	case []float32:
		return one(convolved[float32](n, in))
	case []float64:
		return one(convolved[float64](n, in))
	}
	return nil, fmt.Errorf("it is not computed for %s", in[0].Datatype())
}

func convolved[T tensor.Float](n *node, in []*tensor.Tensor) (*tensor.Tensor, error) {
	t, weights := in[0], in[1]
	if len(t.Shape) < 3 || len(weights.Shape) != len(t.Shape) {
		return nil, fmt.Errorf("shapes %v and %v", t.Shape, weights.Shape)
	}
	w, err := windowOf(n, t.Shape[2:], weights.Shape[2:])
	if err != nil {
		return nil, err
	}
	groups := int(n.int("group", 1))
	rows, depth, out := t.Shape[0], t.Shape[1], weights.Shape[0]
	if groups < 1 || depth%groups != 0 || out%groups != 0 || weights.Shape[1] != depth/groups {
		return nil, fmt.Errorf("%d channels in %d groups with weights of the shape %v", depth, groups, weights.Shape)
	}
	area, places := 1, 1
	inside := 1
	for i := range w.to {
		area, places, inside = area*w.from[i], places*w.to[i], inside*w.size[i]
	}
	shape := append([]int{rows, out}, w.to...)
	if _, err := tensor.Count(shape); err != nil {
		return nil, err
	}
	if _, err := tensor.Count([]int{depth / groups, inside, places}); err != nil {
		return nil, err
	}
	x, by := t.Data.([]T), weights.Data.([]T)
	result := make([]T, rows*out*places)
	k := depth / groups * inside
	beside := make([]T, k*places)
	for r := range rows {
		for g := range groups {
			w.each(func(p int, at []int) {
				for c := range depth / groups {
					from := (r*depth + g*(depth/groups) + c) * area
					for j, i := range at {
						v := T(0)
						if i >= 0 {
							v = x[from+i]
						}
						beside[(c*inside+j)*places+p] = v
					}
				}
			})
			m := out / groups
			to := result[(r*out+g*m)*places:][:m*places]
			product(false, false, m, places, k, 1, by[g*m*k:(g+1)*m*k], beside, 0, to)
		}
	}
	if bias := input(in, 2); bias != nil {
		b := bias.Data.([]T)
		for i := range result {
			result[i] += b[i/places%out]
		}
	}
	return tensor.New(result, shape...), nil
}

// pooled makes one value of those under each place of a window.
func pooled(n *node, t *tensor.Tensor, f func(w *window, x []float64, at []int) float64) (*tensor.Tensor, error) {
	if len(t.Shape) < 3 {
		return nil, fmt.Errorf("the shape %v", t.Shape)
	}
	size := make([]int, len(n.ints("kernel_shape")))
	for i, d := range n.ints("kernel_shape") {
		size[i] = int(d)
	}
	w, err := windowOf(n, t.Shape[2:], size)
	if err != nil {
		return nil, err
	}
	x, err := t.Floats()
	if err != nil {
		return nil, err
	}
	shape := append(slices.Clone(t.Shape[:2]), w.to...)
	count, err := tensor.Count(shape)
	if err != nil {
		return nil, err
	}
	area, places := 1, 1
	for i := range w.to {
		area, places = area*w.from[i], places*w.to[i]
	}
	out := make([]float64, count)
	w.each(func(p int, at []int) {
		for c := range t.Shape[0] * t.Shape[1] {
			out[c*places+p] = f(w, x[c*area:(c+1)*area], at)
		}
	})
	return tensor.New(out, shape...).As(t.Datatype())
}

func maxPool(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	return one(pooled(n, in[0], func(_ *window, x []float64, at []int) float64 {
		top := math.Inf(-1)
		for _, i := range at {
			if i >= 0 {
				top = max(top, x[i])
			}
		}
		return top
	}))
}

func averagePool(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	withPadding := n.int("count_include_pad", 0) != 0
	return one(pooled(n, in[0], func(_ *window, x []float64, at []int) float64 {
		sum, count := 0.0, 0
		for _, i := range at {
			if i >= 0 {
				sum += x[i]
				count++
			}
		}
		if withPadding {
			count = len(at)
		}
		return sum / float64(count)
	}))
}
