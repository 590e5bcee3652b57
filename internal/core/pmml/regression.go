package pmml

import (
	"fmt"
	"math"
	"slices"
)

// links turn a sum of terms into a mean.
var links = map[string]func(x float64) float64{
	"identity": func(x float64) float64 { return x }, "none": func(x float64) float64 { return x },
	"log": math.Exp, "exp": math.Exp, "logit": logistic, "softmax": logistic,
	"cloglog": func(x float64) float64 { return 1 - math.Exp(-math.Exp(x)) },
	"loglog":  func(x float64) float64 { return math.Exp(-math.Exp(-x)) },
	"probit":  func(x float64) float64 { return 0.5 * math.Erfc(-x/math.Sqrt2) },
	"cauchit": func(x float64) float64 { return 0.5 + math.Atan(x)/math.Pi },
}

func logistic(x float64) float64 { return 1 / (1 + math.Exp(-x)) }

// term is one addend: a coefficient times powers of fields, or times whether a field has a level.
type term struct {
	by     float64
	at     []int
	powers []float64
	level  string
	is     bool
}

// of is the value of the term; false where a field is missing.
func (t *term) of(r row) (float64, bool) {
	if t.is {
		if r[t.at[0]].is(t.level) && !r[t.at[0]].Missing() {
			return t.by, true
		}
		return 0, true // also where it is missing, as the standard says
	}
	p := t.by
	for i, at := range t.at {
		x, is := r[at].float()
		if !is {
			return 0, false
		}
		if t.powers[i] != 1 {
			x = math.Pow(x, t.powers[i])
		}
		p *= x
	}
	return p, true
}

// table is the sum of one RegressionTable.
type table struct {
	category string
	start    float64
	terms    []term
}

func (t *table) of(r row) (float64, bool) {
	sum := t.start
	for i := range t.terms {
		x, there := t.terms[i].of(r)
		if !there {
			return 0, false
		}
		sum += x
	}
	return sum, true
}

func (d *document) table(e *element) (*table, error) {
	t := &table{category: e.word("targetCategory", "")}
	var err error
	if t.start, err = e.number("intercept", 0); err != nil {
		return nil, err
	}
	for _, c := range e.children {
		x := term{}
		if x.by, err = c.number("coefficient", 1); err != nil {
			return nil, err
		}
		switch c.name {
		case "NumericPredictor":
			power, err := c.number("exponent", 1)
			if err != nil {
				return nil, err
			}
			x.at, x.powers = []int{d.slot(c.word("name", ""))}, []float64{power}
		case "CategoricalPredictor":
			x.at, x.level, x.is = []int{d.slot(c.word("name", ""))}, c.word("value", ""), true
		case "PredictorTerm":
			for _, f := range c.all("FieldRef") {
				x.at, x.powers = append(x.at, d.slot(f.word("field", ""))), append(x.powers, 1)
			}
		default:
			continue
		}
		t.terms = append(t.terms, x)
	}
	return t, nil
}

func (d *document) regression(e *element) (func(row) (*result, error), error) {
	how := e.word("normalizationMethod", "none")
	link := links[how]
	if link == nil && how != "simplemax" {
		d.refuse("the normalisation %q", how)
	}
	var tables []*table
	for _, c := range e.all("RegressionTable") {
		t, err := d.table(c)
		if err != nil {
			return nil, err
		}
		tables = append(tables, t)
	}
	if len(tables) == 0 {
		return nil, fmt.Errorf("there is no RegressionTable")
	}
	if e.word("functionName", "") != "classification" {
		if link == nil {
			d.refuse("the normalisation %q of a regression", how)
		}
		return func(r row) (*result, error) {
			sum, there := tables[0].of(r)
			if !there {
				return &result{}, nil
			}
			return &result{value: Number(link(sum))}, nil
		}, nil
	}
	return func(r row) (*result, error) {
		res := &result{}
		for _, t := range tables {
			sum, there := t.of(r)
			if !there {
				return &result{}, nil
			}
			res.categories, res.shares = append(res.categories, t.category), append(res.shares, sum)
		}
		normalise(res.shares, how)
		res.decide()
		return res, nil
	}, nil
}

// normalise turns the sums of classes into shares. Of two classes the second has what the first leaves.
func normalise(x []float64, how string) {
	switch {
	case how == "softmax":
		top := slices.Max(x)
		for i, v := range x {
			x[i] = math.Exp(v - top)
		}
		sum := total(x)
		for i := range x {
			x[i] /= sum
		}
	case how == "simplemax":
		sum := total(x)
		for i := range x {
			x[i] /= sum
		}
	case len(x) == 2:
		x[0] = links[how](x[0])
		x[1] = 1 - x[0]
	default:
		for i, v := range x {
			x[i] = links[how](v)
		}
		if how != "none" {
			normalise(x, "simplemax")
		}
	}
}

// general is what is read of a GeneralRegressionModel.
type general struct {
	link        func(float64) float64
	parameters  []string
	cells       map[string][]term
	sums        []sum
	offset      float64
	offsetAt    int
	reference   string
	categorical bool
}

// sum is what parameters weigh for one class.
type sum struct {
	category string
	weights  map[string]float64
}

func (d *document) generalRegression(e *element) (func(row) (*result, error), error) {
	kind := e.word("modelType", "")
	if !slices.Contains([]string{"regression", "generalLinear", "multinomialLogistic", "generalizedLinear"}, kind) {
		d.refuse("the general regression %q", kind)
	}
	g := &general{cells: map[string][]term{}, offsetAt: -1, reference: e.word("targetReferenceCategory", "")}
	name := e.word("linkFunction", "identity")
	g.link = links[name]
	if name == "power" {
		p, err := e.number("linkParameter", 1)
		if err != nil {
			return nil, err
		}
		g.link = func(x float64) float64 { return math.Pow(x, 1/p) }
	}
	if g.link == nil {
		d.refuse("the link function %q", name)
	}
	for _, unknown := range []string{"trialsVariable", "trialsValue"} {
		if _, there := e.attributes[unknown]; there {
			d.refuse("%s of a general regression", unknown)
		}
	}
	var err error
	if g.offset, err = e.number("offsetValue", 0); err != nil {
		return nil, err
	}
	if field, there := e.attributes["offsetVariable"]; there {
		g.offsetAt = d.slot(field)
	}
	if err := d.cells(e, g); err != nil {
		return nil, err
	}
	g.categorical = e.word("functionName", "") == "classification"
	return g.score, nil
}

// cells reads the parameters, and which powers of which fields make each of them.
func (d *document) cells(e *element, g *general) error {
	for _, p := range e.child("ParameterList").all("Parameter") {
		g.parameters = append(g.parameters, p.word("name", ""))
	}
	factors := map[string]bool{}
	for _, p := range e.child("FactorList").all("Predictor") {
		factors[p.word("name", "")] = true
		if p.child("Matrix") != nil {
			d.refuse("a contrast matrix")
		}
	}
	for _, c := range e.child("PPMatrix").all("PPCell") {
		if _, there := c.attributes["targetCategory"]; there {
			d.refuse("cells for single classes")
		}
		field, parameter := c.word("predictorName", ""), c.word("parameterName", "")
		t := term{by: 1, at: []int{d.slot(field)}, level: c.word("value", ""), is: factors[field]}
		if !t.is {
			power, err := c.number("value", 1)
			if err != nil {
				return err
			}
			t.powers = []float64{power}
		}
		g.cells[parameter] = append(g.cells[parameter], t)
	}
	for _, c := range e.child("ParamMatrix").all("PCell") {
		category := c.word("targetCategory", "")
		i := slices.IndexFunc(g.sums, func(s sum) bool { return s.category == category })
		if i < 0 {
			i = len(g.sums)
			g.sums = append(g.sums, sum{category, map[string]float64{}})
		}
		beta, err := c.number("beta", 0)
		if err != nil {
			return err
		}
		g.sums[i].weights[c.word("parameterName", "")] = beta
	}
	if len(g.sums) == 0 {
		return fmt.Errorf("there is no parameter")
	}
	return nil
}

// design is what each parameter is worth for a row; false where a covariate is missing.
func (g *general) design(r row) ([]float64, bool) {
	x := make([]float64, len(g.parameters))
	for i, p := range g.parameters {
		x[i] = 1
		for j := range g.cells[p] {
			v, there := g.cells[p][j].of(r)
			if !there || (g.cells[p][j].is && r[g.cells[p][j].at[0]].Missing()) {
				return nil, false
			}
			x[i] *= v
		}
	}
	return x, true
}

func (g *general) score(r row) (*result, error) {
	x, there := g.design(r)
	offset := g.offset
	if g.offsetAt >= 0 {
		v, is := r[g.offsetAt].float()
		offset, there = v, there && is
	}
	if !there {
		return &result{}, nil
	}
	res := &result{}
	for _, s := range g.sums {
		sum := offset
		for i, p := range g.parameters {
			sum += s.weights[p] * x[i]
		}
		if !g.categorical {
			return &result{value: Number(g.link(sum))}, nil
		}
		res.categories, res.shares = append(res.categories, s.category), append(res.shares, sum)
	}
	if len(res.shares) == 1 { // of two classes, of which the reference has what is left
		p := g.link(res.shares[0])
		if p == res.shares[0] { // no link is given: that of multinomial logistic regression
			p = logistic(p)
		}
		res.shares = []float64{p, 1 - p}
		res.categories = append(res.categories, g.reference)
	} else {
		if g.reference != "" && !slices.Contains(res.categories, g.reference) {
			res.categories, res.shares = append(res.categories, g.reference), append(res.shares, 0)
		}
		normalise(res.shares, "softmax")
	}
	res.decide()
	return res, nil
}
