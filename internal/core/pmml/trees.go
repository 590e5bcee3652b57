package pmml

import (
	"fmt"
	"slices"
)

// verdict is what a question says of a row.
type verdict int8

const (
	unknown verdict = iota
	yes
	no
)

func verdictOf(b bool) verdict {
	if b {
		return yes
	}
	return no
}

// predicate asks something of a row.
type predicate func(r row) verdict

var predicates = []string{"SimplePredicate", "SimpleSetPredicate", "CompoundPredicate", "True", "False"}

// predicateIn reads the predicate within an element.
func (d *document) predicateIn(e *element) (predicate, error) {
	found := e.first(predicates...)
	if found == nil {
		return nil, fmt.Errorf("%s has no predicate", e.name)
	}
	return d.predicate(found)
}

func (d *document) predicate(e *element) (predicate, error) {
	switch e.name {
	case "True":
		return func(row) verdict { return yes }, nil
	case "False":
		return func(row) verdict { return no }, nil
	case "SimplePredicate":
		return d.simple(e)
	case "SimpleSetPredicate":
		at, set := d.slot(e.word("field", "")), e.child("Array").words()
		in := e.word("booleanOperator", "") == "isIn"
		return func(r row) verdict {
			if r[at].Missing() {
				return unknown
			}
			return verdictOf(slices.ContainsFunc(set, r[at].is) == in)
		}, nil
	}
	return d.compound(e)
}

func (d *document) simple(e *element) (predicate, error) {
	at, how := d.slot(e.word("field", "")), e.word("operator", "")
	switch how {
	case "isMissing":
		return func(r row) verdict { return verdictOf(r[at].Missing()) }, nil
	case "isNotMissing":
		return func(r row) verdict { return verdictOf(!r[at].Missing()) }, nil
	case "equal", "notEqual":
		is := e.word("value", "")
		return func(r row) verdict {
			if r[at].Missing() {
				return unknown
			}
			return verdictOf(r[at].is(is) == (how == "equal"))
		}, nil
	}
	limit, err := e.number("value", 0)
	if err != nil {
		return nil, err
	}
	ask := map[string]func(x float64) bool{
		"lessThan":       func(x float64) bool { return x < limit },
		"lessOrEqual":    func(x float64) bool { return x <= limit },
		"greaterThan":    func(x float64) bool { return x > limit },
		"greaterOrEqual": func(x float64) bool { return x >= limit },
	}[how]
	if ask == nil {
		return nil, fmt.Errorf("the operator %q of a predicate", how)
	}
	return func(r row) verdict {
		x, is := r[at].float()
		if !is {
			return unknown
		}
		return verdictOf(ask(x))
	}, nil
}

func (d *document) compound(e *element) (predicate, error) {
	var of []predicate
	for _, c := range e.children {
		if slices.Contains(predicates, c.name) {
			p, err := d.predicate(c)
			if err != nil {
				return nil, err
			}
			of = append(of, p)
		}
	}
	how := e.word("booleanOperator", "")
	if !slices.Contains([]string{"and", "or", "xor", "surrogate"}, how) || len(of) == 0 {
		return nil, fmt.Errorf("a compound predicate of %d parts with the operator %q", len(of), how)
	}
	return func(r row) verdict { return together(r, of, how) }, nil
}

// together is the verdict of several questions, with what is unknown as three-valued logic has it.
func together(r row, of []predicate, how string) verdict {
	unsure, odd := false, false
	for _, p := range of {
		v := p(r)
		switch {
		case v == unknown:
			unsure = true
		case how == "surrogate", how == "and" && v == no, how == "or" && v == yes:
			return v
		case v == yes:
			odd = !odd
		}
	}
	switch {
	case unsure:
		return unknown
	case how == "xor":
		return verdictOf(odd)
	}
	return verdictOf(how == "and")
}

// node is a node of a tree.
type node struct {
	id         string
	ask        predicate
	score      Value
	scored     bool
	categories []string
	shares     []float64
	or         string
	children   []*node
}

func (d *document) tree(e *element) (func(row) (*result, error), error) {
	missing := e.word("missingValueStrategy", "none")
	if !slices.Contains([]string{"none", "lastPrediction", "nullPrediction", "defaultChild"}, missing) {
		d.refuse("the strategy %q for missing values in trees", missing)
	}
	keepLast := e.word("noTrueChildStrategy", "returnNullPrediction") == "returnLastPrediction"
	regression := e.word("functionName", "") == "regression"
	if e.child("Node") == nil {
		return nil, fmt.Errorf("there is no node")
	}
	root, err := d.node(e.child("Node"), regression)
	if err != nil {
		return nil, err
	}
	return func(r row) (*result, error) {
		if root.ask(r) != yes {
			return &result{}, nil
		}
		return root.descend(r, missing, keepLast), nil
	}, nil
}

func (d *document) node(e *element, regression bool) (*node, error) {
	n := &node{id: e.word("id", ""), or: e.word("defaultChild", "")}
	var err error
	if n.ask, err = d.predicateIn(e); err != nil {
		return nil, err
	}
	for _, name := range []string{"Partition", "Regression", "DecisionTree"} {
		if e.child(name) != nil && name != "Partition" {
			d.refuse("%s within a node", name)
		}
	}
	if s, there := e.attributes["score"]; there {
		n.score, n.scored = Text(s), true
		if x, is := n.score.float(); is && regression {
			n.score = Number(x)
		}
	}
	total, _ := e.number("recordCount", 0)
	sum := 0.0
	for _, s := range e.all("ScoreDistribution") {
		count, err := s.number("recordCount", 0)
		if err != nil {
			return nil, err
		}
		sum += count
		share, err := s.number("probability", -1)
		if err != nil {
			return nil, err
		}
		if share < 0 {
			share = count
		}
		n.categories, n.shares = append(n.categories, s.word("value", "")), append(n.shares, share)
	}
	if total <= 0 {
		total = sum
	}
	for i, s := range e.all("ScoreDistribution") {
		if _, given := s.attributes["probability"]; !given && total > 0 {
			n.shares[i] /= total
		}
	}
	for _, c := range e.all("Node") {
		child, err := d.node(c, regression)
		if err != nil {
			return nil, err
		}
		n.children = append(n.children, child)
	}
	return n, nil
}

// says is the prediction of a node.
func (n *node) says() *result {
	res := &result{value: n.score, categories: n.categories, shares: slices.Clone(n.shares), entity: n.id}
	if !n.scored {
		res.decide()
	}
	return res
}

// descend goes down to the node that answers.
func (n *node) descend(r row, missing string, keepLast bool) *result {
	for len(n.children) > 0 {
		var next *node
		unsure := false
		for _, c := range n.children {
			v := c.ask(r)
			if v == unknown && missing != "none" {
				unsure = true
				break
			}
			if v == yes {
				next = c
				break
			}
		}
		switch {
		case unsure && missing == "lastPrediction":
			return n.says()
		case unsure && missing == "nullPrediction":
			return &result{}
		case unsure:
			for _, c := range n.children {
				if c.id == n.or {
					next = c
				}
			}
		}
		if next == nil {
			if keepLast {
				return n.says()
			}
			return &result{}
		}
		n = next
	}
	return n.says()
}
