package onnx

import (
	"fmt"
	"math"

	"innerladder/internal/core/tensor"
)

// forest is an ensemble of trees, made once at loading.
type forest struct {
	branches []branch
	roots    []int32
	// weights are what leaves add, in the order in which branches name them.
	weights []weight
	// columns is how many columns the trees ask for; targets how many sums a row gets.
	columns, targets int
	base             []float64
	aggregate        string
	after            func([]float64)
	// of a classifier
	labels   classes
	count    int
	positive bool
}

// branch is a node of a tree: it asks one column and goes on at yes, or at the place behind it; or it is a leaf, with
// its first weight at yes and as many as column says. It is small, and a tree's nodes stand together from its root on,
// so that walking down it stays in the processor's nearest memory.
type branch struct {
	value   float64
	yes     int32
	column  uint16
	how     comparison
	missing bool
}

// grown is a node as the file has it.
type grown struct {
	branch
	column, yes, no int32
	weights         []weight
}

type comparison uint8

const (
	leaf comparison = iota
	atMost
	below
	atLeast
	above
	same
	differs
)

var comparisonsByName = map[string]comparison{
	"LEAF": leaf, "BRANCH_LEQ": atMost, "BRANCH_LT": below, "BRANCH_GTE": atLeast, "BRANCH_GT": above,
	"BRANCH_EQ": same, "BRANCH_NEQ": differs,
}

// weight is what a leaf adds to one target.
type weight struct {
	target int32
	value  float64
}

// numbersOf are numbers in single precision, or in double where the file gives those.
func (n *node) numbersOf(name string) []float64 {
	if t := n.attributes[name+"_as_tensor"].tensor; t != nil {
		x, _ := t.Floats()
		return x
	}
	return each(n.attributes[name].floats, func(v float32) float64 { return float64(v) })
}

// grow reads the trees; side is target or class, the beginning of the names of what leaves add.
func grow(n *node, side string) (*forest, error) {
	f := &forest{aggregate: n.text("aggregate_function", "SUM"), base: n.numbersOf("base_values")}
	if err := transformed(n); err != nil {
		return nil, err
	}
	f.after = transforms[n.text("post_transform", "NONE")]
	trees, ids, modes := n.ints("nodes_treeids"), n.ints("nodes_nodeids"), n.attributes["nodes_modes"].strings
	columns, values := n.ints("nodes_featureids"), n.numbersOf("nodes_values")
	yes, no := n.ints("nodes_truenodeids"), n.ints("nodes_falsenodeids")
	missing := n.ints("nodes_missing_value_tracks_true")
	for _, k := range []int{len(ids), len(modes), len(columns), len(values), len(yes), len(no)} {
		if k != len(trees) {
			return nil, fmt.Errorf("lists of different lengths")
		}
	}
	places := map[[2]int64]int32{}
	child := map[int32]bool{}
	var all []grown
	for i := range trees {
		places[[2]int64{trees[i], ids[i]}] = int32(i)
	}
	for i := range trees {
		how, known := comparisonsByName[modes[i]]
		if !known {
			return nil, fmt.Errorf("the comparison %q", modes[i])
		}
		b := grown{branch: branch{value: values[i], how: how}}
		b.missing = i < len(missing) && missing[i] != 0
		if how != leaf {
			f.columns = max(f.columns, int(columns[i])+1)
			var a, c bool
			b.yes, a = places[[2]int64{trees[i], yes[i]}]
			b.no, c = places[[2]int64{trees[i], no[i]}]
			if !a || !c || columns[i] < 0 || columns[i] > math.MaxUint16 {
				return nil, fmt.Errorf("a node of tree %d names what is not there", trees[i])
			}
			b.column = int32(columns[i])
			child[b.yes], child[b.no] = true, true
		}
		all = append(all, b)
	}
	if err := f.hang(n, side, places, all); err != nil {
		return nil, err
	}
	placed := 0
	for i := range all {
		if child[int32(i)] {
			continue
		}
		n, err := f.plant(all, int32(i), len(all)-placed)
		if err != nil {
			return nil, err
		}
		placed += n
	}
	if placed < len(all) {
		return nil, fmt.Errorf("a node is not reached from any root")
	}
	return f, nil
}

// plant lays the nodes of a tree out from its root on, and says how many there are; more than there may be are reached
// in two ways, so no way down a tree is without an end.
func (f *forest) plant(all []grown, root int32, most int) (placed int, err error) {
	f.roots = append(f.roots, int32(len(f.branches)))
	waiting := []int32{root}
	f.branches = append(f.branches, branch{})
	for at := len(f.branches) - 1; len(waiting) > 0; at++ {
		g := all[waiting[0]]
		waiting = waiting[1:]
		if placed++; placed > most {
			return 0, fmt.Errorf("a node is reached in two ways")
		}
		b := g.branch
		if b.how == leaf {
			b.yes, b.column = int32(len(f.weights)), uint16(len(g.weights))
			f.weights = append(f.weights, g.weights...)
		} else {
			b.yes, b.column = int32(len(f.branches)), uint16(g.column)
			f.branches = append(f.branches, branch{}, branch{})
			waiting = append(waiting, g.yes, g.no)
		}
		f.branches[at] = b
	}
	return placed, nil
}

// hang gives the leaves their weights.
func (f *forest) hang(n *node, side string, places map[[2]int64]int32, all []grown) error {
	trees, ids, targets := n.ints(side+"_treeids"), n.ints(side+"_nodeids"), n.ints(side+"_ids")
	values := n.numbersOf(side + "_weights")
	if len(ids) != len(trees) || len(targets) != len(trees) || len(values) != len(trees) {
		return fmt.Errorf("lists of different lengths")
	}
	for i := range trees {
		at, there := places[[2]int64{trees[i], ids[i]}]
		if !there || targets[i] < 0 || targets[i] > math.MaxInt16 || len(all[at].weights) == math.MaxUint16 {
			return fmt.Errorf("a weight of tree %d names what is not there", trees[i])
		}
		all[at].weights = append(all[at].weights, weight{int32(targets[i]), values[i]})
		f.targets = max(f.targets, int(targets[i])+1)
	}
	return nil
}

// sums adds up what the trees say of some rows: one tree after the other, each for all rows.
func (f *forest) sums(x []float64, rows, columns int) []float64 {
	extreme := f.aggregate == "MIN" || f.aggregate == "MAX"
	out, given := make([]float64, rows*f.targets), make([]bool, rows*f.targets)
	for _, root := range f.roots {
		for r := range rows {
			row := x[r*columns : (r+1)*columns]
			at := root
			b := &f.branches[at]
			for b.how != leaf {
				at = b.yes
				if !b.asks(row[b.column]) {
					at++
				}
				b = &f.branches[at]
			}
			for _, w := range f.weights[b.yes : b.yes+int32(b.column)] {
				to := r*f.targets + int(w.target)
				switch {
				case !extreme:
					out[to] += w.value
				case !given[to] || (f.aggregate == "MIN") == (w.value < out[to]):
					out[to] = w.value
				}
				given[to] = true
			}
		}
	}
	for i := range out {
		if f.aggregate == "AVERAGE" {
			out[i] /= float64(len(f.roots))
		}
		if k := i % f.targets; k < len(f.base) {
			out[i] += f.base[k]
		}
	}
	return out
}

// asks reports whether the way goes on at yes.
func (b *branch) asks(v float64) bool {
	if b.how == atMost { // what nearly all are
		return v <= b.value || (v != v && b.missing)
	}
	return b.asksOther(v)
}

func (b *branch) asksOther(v float64) bool {
	if math.IsNaN(v) && b.missing {
		return true
	}
	switch b.how {
	case below:
		return v < b.value
	case atLeast:
		return v >= b.value
	case above:
		return v > b.value
	case same:
		return v == b.value
	}
	return v != b.value
}

// rows calls do with the sums of each row, which it may change.
func (f *forest) rows(t *tensor.Tensor, do func(sums []float64)) (rows int, err error) {
	x, rows, columns, err := matrix(t)
	if err != nil {
		return 0, err
	}
	if columns < f.columns {
		return 0, fmt.Errorf("%d columns where trees ask for %d", columns, f.columns)
	}
	sums := f.sums(x, rows, columns)
	for r := range rows {
		do(sums[r*f.targets : (r+1)*f.targets])
	}
	return rows, nil
}

func regressionForest(n *node) error {
	f, err := grow(n, "target")
	if err != nil {
		return err
	}
	f.targets = max(f.targets, int(n.int("n_targets", 1)))
	n.ready = f
	return nil
}

func regressTrees(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	f := n.ready.(*forest)
	var out []float64
	rows, err := f.rows(in[0], func(sums []float64) {
		f.after(sums)
		out = append(out, sums...)
	})
	if err != nil {
		return nil, err
	}
	return single(out, rows, f.targets)
}

func classificationForest(n *node) error {
	f, err := grow(n, "class")
	if err != nil {
		return err
	}
	f.labels, f.count = n.classes()
	if f.count == 0 || f.targets > f.count {
		return fmt.Errorf("%d labels for %d classes", f.count, f.targets)
	}
	// Where the leaves of two classes add to one only, that is the score of the second.
	named := map[int32]bool{}
	f.positive = true
	for _, w := range f.weights {
		named[w.target] = true
		f.positive = f.positive && w.value >= 0
	}
	if f.count == 2 && len(named) == 1 {
		for i := range f.weights {
			f.weights[i].target = 0
		}
		f.targets = 1
	} else {
		f.targets = f.count
	}
	n.ready = f
	return nil
}

func classifyTrees(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	f := n.ready.(*forest)
	var out []float64
	var at []int
	rows, err := f.rows(in[0], func(sums []float64) {
		if f.targets > 1 || f.count == 1 {
			at = append(at, largest(sums))
			f.after(sums)
			out = append(out, sums...)
			return
		}
		label, scores := f.two(sums[0], n.text("post_transform", "NONE"))
		at, out = append(at, label), append(out, scores[:]...)
	})
	if err != nil {
		return nil, err
	}
	z, err := single(out, rows, len(out)/max(rows, 1))
	if err != nil {
		return nil, err
	}
	return []*tensor.Tensor{f.labels.label(at), z[0]}, nil
}

// two is the class and both scores of a row of which only the score of the second class is known: shares where no
// weight is negative, else distances from zero.
func (f *forest) two(score float64, after string) (label int, scores [2]float64) {
	limit := 0.0
	if f.positive {
		limit = 0.5
	}
	if score > limit {
		label = 1
	}
	switch {
	case after == "LOGISTIC" && !f.positive:
		return label, [2]float64{sigmoid(-score), sigmoid(score)}
	case f.positive:
		return label, [2]float64{1 - score, score}
	}
	return label, [2]float64{-score, score}
}
