package onnx

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"innerladder/internal/core/tensor"
)

// Newest are the versions of the operators up to which they are known here, by domain.
var newest = map[string]int64{"": 23, learning: 5}

// learning is the domain of trees, linear models and what prepares columns for them.
const learning = "ai.onnx.ml"

// operation computes the outputs of a node from its inputs; an input that is left out is nil.
type operation func(n *node, in []*tensor.Tensor) ([]*tensor.Tensor, error)

// operator is an operator as it is known here.
type operator struct {
	run operation
	// prepare says at loading why a node cannot be computed, and readies it; it may be nil.
	prepare func(n *node) error
	// outputs is how many outputs a node may have; 0 is one.
	outputs int
}

// operators are those that are computed, by domain and name.
var operators = func() map[string]map[string]operator {
	standard := map[string]operator{}
	for _, some := range []map[string]operator{
		elementwise(), comparisons(), shaping(), choosing(), reductions(), layers(), windows(),
	} {
		maps.Copy(standard, some)
	}
	return map[string]map[string]operator{"": standard, learning: learned()}
}()

// Operators lists the names of all operators that are computed, those of ai.onnx.ml with that before them.
func Operators() []string {
	var out []string
	for domain, some := range operators {
		for name := range some {
			out = append(out, full(domain, name))
		}
	}
	slices.Sort(out)
	return out
}

func full(domain, name string) string {
	if domain == "" {
		return name
	}
	return domain + "." + name
}

// Program is a model that can be computed. It is safe for use by several goroutines at once.
type Program struct {
	Inputs, Outputs []Value
	steps           []step
	// first are the values before anything is computed: the constants.
	first []*tensor.Tensor
	// in and out are the places of inputs and outputs among the values.
	in, out []int
}

// step is one node with the places of its values; -1 is none.
type step struct {
	node    *node
	run     operation
	in, out []int
	// last are the places of what nothing needs after this step.
	last []int
}

// Unsupported says what of a model is not computed here.
type Unsupported struct {
	// Reasons names each operator, datatype or form once.
	Reasons []string
}

func (u *Unsupported) Error() string {
	return "it cannot be computed here: " + strings.Join(u.Reasons, "; ")
}

// Load reads a model and makes sure that all of it can be computed. The error is *Unsupported where the file is well
// but some of it cannot.
func Load(b []byte) (*Program, error) {
	f, err := decode(b)
	if err != nil {
		return nil, err
	}
	p := &Program{}
	places := map[string]int{}
	place := func(name string) int {
		if at, there := places[name]; there {
			return at
		}
		places[name] = len(p.first)
		p.first = append(p.first, nil)
		return places[name]
	}
	reasons := f.missing()
	for name, t := range f.graph.constants {
		p.first[place(name)] = t
	}
	for _, v := range f.graph.inputs {
		if _, constant := f.graph.constants[v.Name]; constant {
			continue // old files list their weights among the inputs
		}
		if v.Other != "" {
			reasons = append(reasons, fmt.Sprintf("the input %q is %s", v.Name, v.Other))
		}
		p.Inputs, p.in = append(p.Inputs, v), append(p.in, place(v.Name))
	}
	known := maps.Clone(places)
	if reasons = append(reasons, p.connect(f, known, place)...); len(reasons) > 0 {
		slices.Sort(reasons)
		return nil, &Unsupported{slices.Compact(reasons)}
	}
	for _, v := range f.graph.outputs {
		at, there := known[v.Name]
		if !there {
			return nil, fmt.Errorf("nothing gives the output %q", v.Name)
		}
		p.Outputs, p.out = append(p.Outputs, f.opened(v)), append(p.out, at)
	}
	p.forget()
	return p, nil
}

// missing lists what is not known of the versions of the operators that a file is made with.
func (f *file) missing() (reasons []string) {
	for domain, version := range f.opsets {
		if top, known := newest[domain]; known && version > top {
			reasons = append(reasons, fmt.Sprintf("the operators of %s in version %d (known up to %d)",
				cmp.Or(domain, "ai.onnx"), version, top))
		}
	}
	return reasons
}

// connect makes a step of each node. known are the places of all values that there are by then.
func (p *Program) connect(f *file, known map[string]int, place func(string) int) (reasons []string) {
	for _, n := range f.graph.nodes {
		op, there := operators[n.domain][n.operator]
		if !there {
			reasons = append(reasons, "the operator "+full(n.domain, n.operator))
		}
		n.fixed = f.graph.constants
		if n.opset = f.opsets[n.domain]; n.opset == 0 {
			n.opset = newest[n.domain]
		}
		for name, a := range n.attributes {
			if a.graph {
				reasons = append(reasons, fmt.Sprintf("the operator %s with the graph %q in it", n.operator, name))
			}
		}
		if given := len(n.outputs) - trailing(n.outputs); there && given > max(1, op.outputs) {
			reasons = append(reasons, fmt.Sprintf("the operator %s with %d outputs", n.operator, given))
		}
		s := step{node: n, run: op.run}
		for _, name := range n.inputs {
			at, there := known[name]
			switch {
			case name == "":
				at = -1
			case !there && len(reasons) == 0:
				reasons = append(reasons, fmt.Sprintf("%s takes %q, which nothing before it gives", n.operator, name))
			}
			s.in = append(s.in, at)
		}
		for _, name := range n.outputs {
			at := -1
			if name != "" {
				at = place(name)
				known[name] = at
			}
			s.out = append(s.out, at)
		}
		if there && op.prepare != nil {
			if err := op.prepare(n); err != nil {
				reasons = append(reasons, fmt.Sprintf("the operator %s: %v", n.operator, err))
			}
		}
		p.steps = append(p.steps, s)
	}
	return reasons
}

// trailing counts the names at the end that are empty.
func trailing(names []string) int {
	n := 0
	for n < len(names) && names[len(names)-1-n] == "" {
		n++
	}
	return n
}

// opened is the declaration of an output. A table of class scores by name is given as the scores alone, as a tensor.
func (f *file) opened(v Value) Value {
	if v.Other == "" {
		return v
	}
	for _, n := range f.graph.nodes {
		if n.operator == "ZipMap" && slices.Contains(n.outputs, v.Name) {
			classes := int64(max(len(n.attributes["classlabels_strings"].strings),
				len(n.attributes["classlabels_int64s"].ints)))
			return Value{Name: v.Name, Datatype: "FP32", Shape: []int64{-1, classes}}
		}
	}
	return v
}

// forget says after which step each value is needed no more, so that it need not be kept.
func (p *Program) forget() {
	needed := map[int]bool{}
	for _, at := range p.out {
		needed[at] = true
	}
	for at, t := range p.first {
		needed[at] = needed[at] || t != nil
	}
	for i := len(p.steps) - 1; i >= 0; i-- {
		s := &p.steps[i]
		for _, at := range append(slices.Clone(s.in), s.out...) {
			if at >= 0 && !needed[at] {
				needed[at] = true
				s.last = append(s.last, at)
			}
		}
	}
}

// Run computes the outputs for inputs in the order of p.Inputs. It checks datatypes, and sizes where they are declared.
func (p *Program) Run(in []*tensor.Tensor) (out []*tensor.Tensor, err error) {
	if len(in) != len(p.Inputs) {
		return nil, fmt.Errorf("%d inputs are given where %d are taken", len(in), len(p.Inputs))
	}
	values := slices.Clone(p.first)
	for i, t := range in {
		if err := p.Inputs[i].check(t); err != nil {
			return nil, err
		}
		values[p.in[i]] = t
	}
	room := make([]*tensor.Tensor, 0, 16)
	for i := range p.steps {
		s := &p.steps[i]
		room = room[:0]
		for _, at := range s.in {
			if at < 0 {
				room = append(room, nil)
			} else {
				room = append(room, values[at])
			}
		}
		given, err := s.compute(room)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s, err)
		}
		for j, at := range s.out {
			if at >= 0 {
				if j >= len(given) || given[j] == nil {
					return nil, fmt.Errorf("%s: output %d is not computed", s, j+1)
				}
				values[at] = given[j]
			}
		}
		for _, at := range s.last {
			values[at] = nil
		}
	}
	for _, at := range p.out {
		out = append(out, values[at])
	}
	return out, nil
}

// String names the step as people look for it.
func (s *step) String() string {
	if s.node.name != "" {
		return fmt.Sprintf("%s %q", s.node.operator, s.node.name)
	}
	return s.node.operator
}

// compute runs one step. A model whose shapes do not fit each other may reach beyond what there is; that is its error.
func (s *step) compute(in []*tensor.Tensor) (out []*tensor.Tensor, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("its inputs do not fit each other (%v)", r)
		}
	}()
	return s.run(s.node, in)
}

// check says why a tensor is not the input that is declared.
func (v Value) check(t *tensor.Tensor) error {
	if t.Datatype() != v.Datatype {
		return fmt.Errorf("input %q is %s where %s is taken", v.Name, t.Datatype(), v.Datatype)
	}
	if v.AnyShape {
		return nil
	}
	fits := len(t.Shape) == len(v.Shape)
	for i := 0; fits && i < len(v.Shape); i++ {
		fits = v.Shape[i] < 0 || v.Shape[i] == int64(t.Shape[i])
	}
	if !fits {
		return fmt.Errorf("input %q has the shape %v where %v is taken", v.Name, t.Shape, v.Shape)
	}
	return nil
}

// errInput is what an operator says of an input that it needs and does not get.
var errInput = errors.New("an input is missing")

// input is the i-th input, nil where it is left out.
func input(in []*tensor.Tensor, i int) *tensor.Tensor {
	if i < len(in) {
		return in[i]
	}
	return nil
}

func one(t *tensor.Tensor, err error) ([]*tensor.Tensor, error) {
	if err != nil {
		return nil, err
	}
	return []*tensor.Tensor{t}, nil
}

// int is a whole attribute, or what it is when it is not given.
func (n *node) int(name string, or int64) int64 {
	if a, there := n.attributes[name]; there {
		return a.i
	}
	return or
}

func (n *node) float(name string, or float64) float64 {
	if a, there := n.attributes[name]; there {
		return float64(a.f)
	}
	return or
}

func (n *node) text(name, or string) string {
	if a, there := n.attributes[name]; there {
		return a.s
	}
	return or
}

func (n *node) ints(name string) []int64 { return n.attributes[name].ints }

// list is a list of whole numbers, which newer versions of operators take as an input and older ones as an attribute;
// nil when neither is given.
func (n *node) list(in []*tensor.Tensor, i int, name string) ([]int64, error) {
	if t := input(in, i); t != nil {
		return t.Ints()
	}
	return n.attributes[name].ints, nil
}
