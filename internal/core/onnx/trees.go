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

// branch is a node of a tree: it asks one column, or is a leaf.
type branch struct {
	value   float64
	column  int32
	yes, no int32
	how     comparison
	missing bool
	// from and to are the weights of a leaf.
	from, to int32
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
	for i := range trees {
		places[[2]int64{trees[i], ids[i]}] = int32(i)
	}
	for i := range trees {
		how, known := comparisonsByName[modes[i]]
		if !known {
			return nil, fmt.Errorf("the comparison %q", modes[i])
		}
		b := branch{value: values[i], column: int32(columns[i]), how: how}
		b.missing = i < len(missing) && missing[i] != 0
		if how != leaf {
			f.columns = max(f.columns, int(columns[i])+1)
			var a, c bool
			b.yes, a = places[[2]int64{trees[i], yes[i]}]
			b.no, c = places[[2]int64{trees[i], no[i]}]
			if !a || !c || columns[i] < 0 {
				return nil, fmt.Errorf("a node of tree %d names what is not there", trees[i])
			}
			child[b.yes], child[b.no] = true, true
		}
		f.branches = append(f.branches, b)
	}
	for i := range f.branches {
		if !child[int32(i)] {
			f.roots = append(f.roots, int32(i))
		}
	}
	if err := f.hang(n, side, places); err != nil {
		return nil, err
	}
	return f, f.ends()
}

// hang gives the leaves their weights.
func (f *forest) hang(n *node, side string, places map[[2]int64]int32) error {
	trees, ids, targets := n.ints(side+"_treeids"), n.ints(side+"_nodeids"), n.ints(side+"_ids")
	values := n.numbersOf(side + "_weights")
	if len(ids) != len(trees) || len(targets) != len(trees) || len(values) != len(trees) {
		return fmt.Errorf("lists of different lengths")
	}
	byLeaf := make([][]weight, len(f.branches))
	for i := range trees {
		at, there := places[[2]int64{trees[i], ids[i]}]
		if !there || targets[i] < 0 || targets[i] > math.MaxInt16 {
			return fmt.Errorf("a weight of tree %d names what is not there", trees[i])
		}
		byLeaf[at] = append(byLeaf[at], weight{int32(targets[i]), values[i]})
		f.targets = max(f.targets, int(targets[i])+1)
	}
	for i := range f.branches {
		b := &f.branches[i]
		b.from = int32(len(f.weights))
		f.weights = append(f.weights, byLeaf[i]...)
		b.to = int32(len(f.weights))
	}
	return nil
}

// ends makes sure that every way down a tree ends: no node may be reached twice.
func (f *forest) ends() error {
	seen := make([]bool, len(f.branches))
	todo := append([]int32{}, f.roots...)
	for len(todo) > 0 {
		at := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if seen[at] {
			return fmt.Errorf("a node is reached in two ways")
		}
		seen[at] = true
		if b := f.branches[at]; b.how != leaf {
			todo = append(todo, b.yes, b.no)
		}
	}
	for _, reached := range seen {
		if !reached {
			return fmt.Errorf("a node is not reached from any root")
		}
	}
	return nil
}

// sums adds up what the trees say of one row.
func (f *forest) sums(row, out []float64, room []bool) {
	extreme := f.aggregate == "MIN" || f.aggregate == "MAX"
	clear(out)
	clear(room)
	for _, at := range f.roots {
		b := &f.branches[at]
		for b.how != leaf {
			if b.asks(row[b.column]) {
				b = &f.branches[b.yes]
			} else {
				b = &f.branches[b.no]
			}
		}
		for _, w := range f.weights[b.from:b.to] {
			switch {
			case !extreme:
				out[w.target] += w.value
			case !room[w.target] || (f.aggregate == "MIN") == (w.value < out[w.target]):
				out[w.target] = w.value
			}
			room[w.target] = true
		}
	}
	for k := range out {
		if f.aggregate == "AVERAGE" {
			out[k] /= float64(len(f.roots))
		}
		if k < len(f.base) {
			out[k] += f.base[k]
		}
	}
}

// asks reports whether the way goes on at yes.
func (b *branch) asks(v float64) bool {
	if math.IsNaN(v) && b.missing {
		return true
	}
	switch b.how {
	case atMost:
		return v <= b.value
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
	sums, room := make([]float64, f.targets), make([]bool, f.targets)
	for r := range rows {
		f.sums(x[r*columns:(r+1)*columns], sums, room)
		do(sums)
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
