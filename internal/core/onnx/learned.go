package onnx

import (
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/tensor"
)

// learned are the operators of ai.onnx.ml: what libraries for tables are written as.
func learned() map[string]operator {
	return map[string]operator{
		"TreeEnsembleRegressor":  {run: regressTrees, prepare: regressionForest},
		"TreeEnsembleClassifier": {run: classifyTrees, prepare: classificationForest, outputs: 2},
		"LinearRegressor":        {run: linearRegressor, prepare: transformed},
		"LinearClassifier":       {run: linearClassifier, prepare: transformed, outputs: 2},
		"Scaler":                 {run: scaler}, "Normalizer": {run: normalizer}, "Imputer": {run: imputer},
		"LabelEncoder": {run: labelEncoder, prepare: labelTable}, "CategoryMapper": {run: categoryMapper},
		"OneHotEncoder": {run: oneHotEncoder}, "FeatureVectorizer": {run: featureVectorizer},
		"ArrayFeatureExtractor": {run: arrayFeatureExtractor}, "Binarizer": {run: binarizer},
		"ZipMap": {run: identity},
	}
}

// transforms turn the scores of one row into what is given.
var transforms = map[string]func(x []float64){
	"NONE": func([]float64) {}, "SOFTMAX": softmax,
	"LOGISTIC": func(x []float64) {
		for i, v := range x {
			x[i] = sigmoid(v)
		}
	},
	"SOFTMAX_ZERO": func(x []float64) {
		var some []float64
		for _, v := range x {
			if v != 0 {
				some = append(some, v)
			}
		}
		softmax(some)
		for i, v := range x {
			if v != 0 {
				x[i], some = some[0], some[1:]
			}
		}
	},
	"PROBIT": func(x []float64) {
		for i, v := range x {
			x[i] = math.Sqrt2 * math.Erfinv(2*v-1)
		}
	},
}

// transformed refuses a transform that is not known.
func transformed(n *node) error {
	if name := n.text("post_transform", "NONE"); transforms[name] == nil {
		return fmt.Errorf("the transform %q", name)
	}
	return nil
}

// matrix is a tensor as rows of numbers; one without a second dimension is one row.
func matrix(t *tensor.Tensor) (x []float64, rows, columns int, err error) {
	x, err = t.Floats()
	switch len(t.Shape) {
	case 1:
		return x, 1, t.Shape[0], err
	case 2:
		return x, t.Shape[0], t.Shape[1], err
	}
	if err == nil {
		err = fmt.Errorf("the shape %v is no table", t.Shape)
	}
	return x, 0, 0, err
}

// single is numbers in single precision, which most of these operators give whatever they take.
func single(x []float64, shape ...int) ([]*tensor.Tensor, error) {
	return one(tensor.New(x, shape...).As("FP32"))
}

// weighted adds up the columns of each row, once for each target.
func (n *node) weighted(t *tensor.Tensor, targets int) (out []float64, rows int, err error) {
	x, rows, columns, err := matrix(t)
	if err != nil {
		return nil, 0, err
	}
	by, from := n.attributes["coefficients"].floats, n.attributes["intercepts"].floats
	if len(by) != targets*columns {
		return nil, 0, fmt.Errorf("%d columns for %d coefficients of %d targets", columns, len(by), targets)
	}
	out = make([]float64, rows*targets)
	for r := range rows {
		for k := range targets {
			sum := 0.0
			if k < len(from) {
				sum = float64(from[k])
			}
			for j := range columns {
				sum += x[r*columns+j] * float64(by[k*columns+j])
			}
			out[r*targets+k] = sum
		}
	}
	return out, rows, nil
}

func linearRegressor(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	targets := int(n.int("targets", 1))
	out, rows, err := n.weighted(in[0], targets)
	if err != nil {
		return nil, err
	}
	after := transforms[n.text("post_transform", "NONE")]
	for r := range rows {
		after(out[r*targets : (r+1)*targets])
	}
	return single(out, rows, targets)
}

// classes are the labels of a classifier, whole numbers or texts.
type classes struct {
	numbers []int64
	texts   []string
}

func (n *node) classes() (classes, int) {
	c := classes{n.attributes["classlabels_ints"].ints, n.attributes["classlabels_strings"].strings}
	if c.numbers == nil {
		c.numbers = n.attributes["classlabels_int64s"].ints
	}
	return c, max(len(c.numbers), len(c.texts))
}

// label makes the labels at some places.
func (c classes) label(at []int) *tensor.Tensor {
	if len(c.texts) > 0 {
		return tensor.New(c.texts, len(c.texts)).Pick(at, len(at))
	}
	return tensor.New(c.numbers, len(c.numbers)).Pick(at, len(at))
}

func linearClassifier(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	labels, count := n.classes()
	targets := len(n.attributes["intercepts"].floats)
	if targets == 0 {
		targets = count
	}
	scores, rows, err := n.weighted(in[0], targets)
	if err != nil {
		return nil, err
	}
	after := transforms[n.text("post_transform", "NONE")]
	at, out := make([]int, rows), make([]float64, 0, rows*count)
	for r := range rows {
		part := scores[r*targets : (r+1)*targets]
		if targets == 1 && count == 2 { // the score is that of the second class
			if part[0] > 0 {
				at[r] = 1
			}
			after(part)
			out = append(out, 1-part[0], part[0])
			continue
		}
		at[r] = largest(part)
		after(part)
		out = append(out, part...)
	}
	z, err := single(out, rows, len(out)/max(rows, 1))
	return []*tensor.Tensor{labels.label(at), z[0]}, err
}

// largest is the first place of the largest value.
func largest(x []float64) int {
	best := 0
	for i, v := range x {
		if v > x[best] {
			best = i
		}
	}
	return best
}

func scaler(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	x, rows, columns, err := matrix(in[0])
	if err != nil {
		return nil, err
	}
	of := func(list []float32, j int, or float64) float64 {
		switch len(list) {
		case 0:
			return or
		case 1:
			return float64(list[0])
		}
		return float64(list[j])
	}
	out := make([]float64, len(x))
	for i, v := range x {
		j := i % columns
		out[i] = (v - of(n.attributes["offset"].floats, j, 0)) * of(n.attributes["scale"].floats, j, 1)
	}
	_ = rows
	return single(out, in[0].Shape...)
}

func normalizer(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	x, rows, columns, err := matrix(in[0])
	if err != nil {
		return nil, err
	}
	out := make([]float64, len(x))
	for r := range rows {
		part, norm := x[r*columns:(r+1)*columns], 0.0
		switch n.text("norm", "MAX") {
		case "L1":
			for _, v := range part {
				norm += math.Abs(v)
			}
		case "L2":
			for _, v := range part {
				norm += v * v
			}
			norm = math.Sqrt(norm)
		default:
			norm = slices.Max(append([]float64{math.Inf(-1)}, part...))
		}
		for j, v := range part {
			if norm == 0 {
				norm = 1
			}
			out[r*columns+j] = v / norm
		}
	}
	return single(out, in[0].Shape...)
}

// imputer puts values in the place of one that stands for what is missing.
func imputer(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	columns := t.Shape[len(t.Shape)-1]
	if x, whole := t.Data.([]int64); whole {
		gone, by := n.int("replaced_value_int64", 0), n.ints("imputed_value_int64s")
		out := slices.Clone(x)
		for i, v := range x {
			if v == gone {
				out[i] = by[i%columns%len(by)]
			}
		}
		return one(tensor.New(out, t.Shape...), nil)
	}
	x, err := t.Floats()
	if err != nil {
		return nil, err
	}
	gone, by := n.float("replaced_value_float", 0), n.attributes["imputed_value_floats"].floats
	out := slices.Clone(x)
	for i, v := range x {
		if v == gone || (math.IsNaN(gone) && math.IsNaN(v)) {
			out[i] = float64(by[i%columns%len(by)])
		}
	}
	return one(tensor.New(out, t.Shape...).As(t.Datatype()))
}

// labels are what a label encoder puts in the place of what.
type labels struct {
	by map[string]int
	// values are those of the keys in order, then that of what is no key.
	values *tensor.Tensor
}

// key is a value as it is looked up.
func keys(t *tensor.Tensor) ([]string, error) {
	text, err := t.As("BYTES")
	if err != nil {
		return nil, err
	}
	return text.Data.([]string), nil
}

func labelTable(n *node) error {
	side := func(name string) *tensor.Tensor {
		switch a := n.attributes; {
		case a[name+"_strings"].strings != nil:
			return tensor.New(a[name+"_strings"].strings, len(a[name+"_strings"].strings))
		case a[name+"_int64s"].ints != nil:
			return tensor.New(a[name+"_int64s"].ints, len(a[name+"_int64s"].ints))
		case a[name+"_floats"].floats != nil:
			return tensor.New(a[name+"_floats"].floats, len(a[name+"_floats"].floats))
		}
		return n.attributes[name+"_tensor"].tensor
	}
	from, to := side("keys"), side("values")
	if from == nil || to == nil || from.Len() != to.Len() {
		return fmt.Errorf("its table is in a form that is not read")
	}
	list, err := keys(from)
	if err != nil {
		return err
	}
	var or *tensor.Tensor
	switch to.Data.(type) {
	case []string:
		or = tensor.Scalar(n.text("default_string", "_Unused"))
	case []int64:
		or = tensor.Scalar(n.int("default_int64", -1))
	default:
		or = tensor.Scalar(float32(n.float("default_float", 0)))
	}
	if t := n.attributes["default_tensor"].tensor; t != nil {
		or = t
	}
	if or, err = or.With(1).As(to.Datatype()); err != nil {
		return err
	}
	l := &labels{by: map[string]int{}}
	if l.values, err = tensor.Join([]*tensor.Tensor{to.With(to.Len()), or}, 0); err != nil {
		return err
	}
	for i, k := range list {
		l.by[k] = i
	}
	n.ready = l
	return nil
}

func labelEncoder(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	l := n.ready.(*labels)
	list, err := keys(in[0])
	if err != nil {
		return nil, err
	}
	at := make([]int, len(list))
	for i, k := range list {
		found, there := l.by[k]
		if !there {
			found = l.values.Len() - 1
		}
		at[i] = found
	}
	return one(l.values.Pick(at, in[0].Shape...), nil)
}

func categoryMapper(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	numbers, texts := n.attributes["cats_int64s"].ints, n.attributes["cats_strings"].strings
	if x, text := in[0].Data.([]string); text {
		return one(tensor.New(each(x, func(v string) int64 {
			if i := slices.Index(texts, v); i >= 0 {
				return numbers[i]
			}
			return n.int("default_int64", -1)
		}), in[0].Shape...), nil)
	}
	x, err := in[0].Ints()
	if err != nil {
		return nil, err
	}
	return one(tensor.New(each(x, func(v int64) string {
		if i := slices.Index(numbers, v); i >= 0 {
			return texts[i]
		}
		return n.text("default_string", "_Unused")
	}), in[0].Shape...), nil)
}

func oneHotEncoder(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	texts, numbers := n.attributes["cats_strings"].strings, n.attributes["cats_int64s"].ints
	depth := max(len(texts), len(numbers))
	out := make([]float32, in[0].Len()*depth)
	mark := func(i, k int) error {
		if k >= 0 {
			out[i*depth+k] = 1
		} else if n.int("zeros", 1) == 0 {
			return fmt.Errorf("a value is none of the categories")
		}
		return nil
	}
	if x, text := in[0].Data.([]string); text {
		for i, v := range x {
			if err := mark(i, slices.Index(texts, v)); err != nil {
				return nil, err
			}
		}
	} else {
		x, err := integersOf(in[0])
		if err != nil {
			return nil, err
		}
		for i, v := range x {
			if err := mark(i, slices.Index(numbers, v)); err != nil {
				return nil, err
			}
		}
	}
	return one(tensor.New(out, append(slices.Clone(in[0].Shape), depth)...), nil)
}

func featureVectorizer(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	parts := make([]*tensor.Tensor, len(in))
	for i, t := range in {
		var err error
		if parts[i], err = t.As("FP32"); err != nil {
			return nil, err
		}
		if len(t.Shape) == 1 {
			parts[i] = parts[i].With(t.Shape[0], 1)
		}
	}
	return one(tensor.Join(parts, 1))
}

func arrayFeatureExtractor(_ *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	t := in[0]
	if len(t.Shape) == 1 {
		t = t.With(1, t.Shape[0])
	}
	along := &node{attributes: map[string]attribute{"axis": {i: -1}}}
	return gather(along, []*tensor.Tensor{t, in[1].With(in[1].Len())})
}

func binarizer(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error) {
	limit := n.float("threshold", 0)
	x, err := in[0].Floats()
	if err != nil {
		return nil, err
	}
	return one(tensor.New(each(x, func(v float64) float64 {
		if v > limit {
			return 1
		}
		return 0
	}), in[0].Shape...).As(in[0].Datatype()))
}
