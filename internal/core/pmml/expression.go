package pmml

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

// expression computes a value of those of a row.
type expression interface {
	value(r row) (Value, error)
}

// compute is an expression that is a function.
type compute func(r row) (Value, error)

func (c compute) value(r row) (Value, error) { return c(r) }

// derived is a field that is computed of others.
type derived struct {
	name, datatype string
	at             int
	of             expression
}

// typed is a value in the type of the field.
func (f *derived) typed(v Value) Value {
	x, is := v.float()
	switch {
	case v.Missing():
	case f.datatype == "BYTES":
		return Text(v.String())
	case is && f.datatype == "INT64":
		return Number(math.Round(x))
	case is:
		return Number(x)
	}
	return v
}

func (d *document) derivedFields(e *element) ([]derived, error) {
	var out []derived
	for _, f := range e.all("DerivedField") {
		of, err := d.expressionIn(f)
		if err != nil {
			return nil, fmt.Errorf("the field %q: %w", f.word("name", ""), err)
		}
		out = append(out, derived{f.word("name", ""), datatypeOf(f), d.slot(f.word("name", "")), of})
	}
	return out, nil
}

var expressions = []string{
	"Constant", "FieldRef", "NormContinuous", "NormDiscrete", "Discretize", "MapValues", "Apply",
}

// expressionIn reads the expression within an element.
func (d *document) expressionIn(e *element) (expression, error) {
	found := e.first(expressions...)
	if found == nil {
		for _, c := range e.children {
			if c.name != "Extension" && c.name != "Value" {
				d.refuse("the expression %s", c.name)
			}
		}
		return compute(func(row) (Value, error) { return Value{}, nil }), nil
	}
	return d.expression(found)
}

func (d *document) expression(e *element) (expression, error) {
	switch e.name {
	case "Constant":
		v := Text(strings.TrimSpace(e.text))
		if kind := e.word("dataType", ""); kind != "string" {
			if x, is := v.float(); is {
				v = Number(x)
			}
		}
		return compute(func(row) (Value, error) { return v, nil }), nil
	case "FieldRef":
		at, or := d.slot(e.word("field", "")), d.written(e.attributes, "mapMissingTo", nil)
		return compute(func(r row) (Value, error) {
			if r[at].Missing() {
				return or, nil
			}
			return r[at], nil
		}), nil
	case "NormContinuous":
		n, err := d.normalised(e)
		if err != nil {
			return nil, err
		}
		return compute(func(r row) (Value, error) { return n.of(r[n.at]), nil }), nil
	case "NormDiscrete":
		at, is := d.slot(e.word("field", "")), e.word("value", "")
		or, err := e.number("mapMissingTo", math.NaN())
		return compute(func(r row) (Value, error) {
			switch {
			case r[at].Missing():
				return Number(or), nil
			case r[at].is(is):
				return Number(1), nil
			}
			return Number(0), nil
		}), err
	case "Discretize":
		return d.discretize(e)
	case "MapValues":
		return d.mapValues(e)
	}
	return d.apply(e)
}

// normalised is a curve of straight pieces.
type normalised struct {
	at       int
	from, to []float64
	or       float64
	outliers string
}

func (d *document) normalised(e *element) (*normalised, error) {
	n := &normalised{at: d.slot(e.word("field", "")), outliers: e.word("outliers", "asIs")}
	var err error
	if n.or, err = e.number("mapMissingTo", math.NaN()); err != nil {
		return nil, err
	}
	for _, p := range e.all("LinearNorm") {
		x, err := p.number("orig", 0)
		if err != nil {
			return nil, err
		}
		y, err := p.number("norm", 0)
		if err != nil {
			return nil, err
		}
		n.from, n.to = append(n.from, x), append(n.to, y)
	}
	if len(n.from) < 2 || !slices.IsSorted(n.from) {
		return nil, fmt.Errorf("NormContinuous needs two points or more in rising order")
	}
	return n, nil
}

func (n *normalised) of(v Value) Value {
	x, is := v.float()
	if !is {
		return Number(n.or)
	}
	last := len(n.from) - 1
	if x < n.from[0] || x > n.from[last] {
		switch n.outliers {
		case "asMissingValues":
			return Number(n.or)
		case "asExtremeValues":
			x = min(n.from[last], max(n.from[0], x))
		}
	}
	return Number(along(n.from, n.to, x))
}

// back is the value that a normalised one stands for.
func (n *normalised) back(y float64) float64 {
	from, to := n.to, n.from
	if !slices.IsSorted(from) {
		from, to = slices.Clone(from), slices.Clone(to)
		slices.Reverse(from)
		slices.Reverse(to)
	}
	return along(from, to, y)
}

// along is the height of a curve of straight pieces; the first and the last go on beyond their ends.
func along(from, to []float64, x float64) float64 {
	i := 1
	for i < len(from)-1 && x > from[i] {
		i++
	}
	if from[i] == from[i-1] {
		return to[i]
	}
	return to[i-1] + (x-from[i-1])/(from[i]-from[i-1])*(to[i]-to[i-1])
}

func (d *document) discretize(e *element) (expression, error) {
	at := d.slot(e.word("field", ""))
	missing, or := d.written(e.attributes, "mapMissingTo", nil), d.written(e.attributes, "defaultValue", nil)
	var names []string
	var within []interval
	for _, b := range e.all("DiscretizeBin") {
		if b.child("Interval") == nil {
			return nil, fmt.Errorf("a DiscretizeBin without an interval")
		}
		i, err := intervalOf(b.child("Interval"))
		if err != nil {
			return nil, err
		}
		names, within = append(names, b.word("binValue", "")), append(within, i)
	}
	return compute(func(r row) (Value, error) {
		x, is := r[at].float()
		if !is {
			return missing, nil
		}
		for i, w := range within {
			if w.holds(x) {
				return Text(names[i]), nil
			}
		}
		return or, nil
	}), nil
}

func (d *document) mapValues(e *element) (expression, error) {
	missing, or := d.written(e.attributes, "mapMissingTo", nil), d.written(e.attributes, "defaultValue", nil)
	type pair struct {
		at     int
		column string
	}
	var pairs []pair
	for _, p := range e.all("FieldColumnPair") {
		pairs = append(pairs, pair{d.slot(p.word("field", "")), p.word("column", "")})
	}
	if e.child("TableLocator") != nil {
		d.refuse("a table that is kept elsewhere")
	}
	type line struct {
		cells []string
		gives string
	}
	var lines []line
	for _, tr := range e.child("InlineTable").all("row") {
		l := line{}
		for _, p := range pairs {
			l.cells = append(l.cells, strings.TrimSpace(tr.child(p.column).content()))
		}
		l.gives = strings.TrimSpace(tr.child(e.word("outputColumn", "")).content())
		lines = append(lines, l)
	}
	return compute(func(r row) (Value, error) {
		for _, p := range pairs {
			if r[p.at].Missing() {
				return missing, nil
			}
		}
	next:
		for _, l := range lines {
			for i, p := range pairs {
				if !r[p.at].is(l.cells[i]) {
					continue next
				}
			}
			return Text(l.gives), nil
		}
		return or, nil
	}), nil
}

// content is the text of an element; that of none is empty.
func (e *element) content() string {
	if e == nil {
		return ""
	}
	return e.text
}

func truth(b bool) Value {
	if b {
		return Number(1)
	}
	return Number(0)
}

// functions are those of numbers, of which none may be missing.
var functions = func() map[string]func(x []float64) float64 {
	out := map[string]func(x []float64) float64{
		"min": slices.Min[[]float64], "max": slices.Max[[]float64], "sum": total,
		"and": slices.Min[[]float64], "or": slices.Max[[]float64],
		"avg": func(x []float64) float64 { return total(x) / float64(len(x)) },
		"product": func(x []float64) float64 {
			p := 1.0
			for _, v := range x {
				p *= v
			}
			return p
		},
	}
	for name, f := range map[string]func(x float64) float64{
		"log10": math.Log10, "ln": math.Log, "sqrt": math.Sqrt, "abs": math.Abs, "exp": math.Exp,
		"floor": math.Floor, "ceil": math.Ceil, "round": math.Round, "sin": math.Sin, "cos": math.Cos, "tan": math.Tan,
		"not": func(x float64) float64 { return 1 - x },
	} {
		out[name] = func(x []float64) float64 { return f(x[0]) }
	}
	for name, f := range map[string]func(x, y float64) float64{
		"+": func(x, y float64) float64 { return x + y }, "-": func(x, y float64) float64 { return x - y },
		"*": func(x, y float64) float64 { return x * y }, "/": func(x, y float64) float64 { return x / y },
		"pow":            math.Pow,
		"threshold":      func(x, y float64) float64 { return truth(x > y).Number },
		"lessThan":       func(x, y float64) float64 { return truth(x < y).Number },
		"lessOrEqual":    func(x, y float64) float64 { return truth(x <= y).Number },
		"greaterThan":    func(x, y float64) float64 { return truth(x > y).Number },
		"greaterOrEqual": func(x, y float64) float64 { return truth(x >= y).Number },
	} {
		out[name] = func(x []float64) float64 { return f(x[0], x[1]) }
	}
	return out
}()

// least is how many arguments functions take at least, where it is more than one.
var least = map[string]int{
	"+": 2, "-": 2, "*": 2, "/": 2, "pow": 2, "threshold": 2, "lessThan": 2, "lessOrEqual": 2, "greaterThan": 2,
	"greaterOrEqual": 2, "equal": 2, "notEqual": 2, "if": 2, "isIn": 2, "isNotIn": 2,
}

// others are functions of values of any kind.
var others = map[string]func(x []Value) Value{
	"isMissing":    func(x []Value) Value { return truth(x[0].Missing()) },
	"isNotMissing": func(x []Value) Value { return truth(!x[0].Missing()) },
	"equal":        func(x []Value) Value { return truth(x[0].equals(x[1])) },
	"notEqual":     func(x []Value) Value { return truth(!x[0].equals(x[1])) },
	"isIn":         func(x []Value) Value { return truth(slices.ContainsFunc(x[1:], x[0].equals)) },
	"isNotIn":      func(x []Value) Value { return truth(!slices.ContainsFunc(x[1:], x[0].equals)) },
	"uppercase":    func(x []Value) Value { return Text(strings.ToUpper(x[0].String())) },
	"lowercase":    func(x []Value) Value { return Text(strings.ToLower(x[0].String())) },
	"trimBlanks":   func(x []Value) Value { return Text(strings.TrimSpace(x[0].String())) },
	"if": func(x []Value) Value {
		switch {
		case x[0].Missing():
			return Value{}
		case x[0].Number != 0:
			return x[1]
		case len(x) > 2:
			return x[2]
		}
		return Value{}
	},
}

// apply uses a function; of what is missing its result is missing.
func (d *document) apply(e *element) (expression, error) {
	name := e.word("function", "")
	var of []expression
	for _, c := range e.children {
		if c.name == "Extension" {
			continue
		}
		if !slices.Contains(expressions, c.name) {
			d.refuse("the expression %s", c.name)
			continue
		}
		x, err := d.expression(c)
		if err != nil {
			return nil, err
		}
		of = append(of, x)
	}
	missing, or := d.written(e.attributes, "mapMissingTo", nil), d.written(e.attributes, "defaultValue", nil)
	numeric, any := functions[name], others[name]
	switch {
	case numeric == nil && any == nil:
		d.refuse("the function %q", name)
	case len(of) < max(1, least[name]):
		return nil, fmt.Errorf("the function %q has %d arguments", name, len(of))
	}
	passes := name == "isMissing" || name == "isNotMissing" || name == "if"
	return compute(func(r row) (Value, error) {
		values := make([]Value, len(of))
		for i, x := range of {
			var err error
			if values[i], err = x.value(r); err != nil {
				return Value{}, err
			}
			if values[i].Missing() && !passes {
				return missing, nil
			}
		}
		if any != nil {
			return any(values), nil
		}
		x := make([]float64, len(values))
		for i, v := range values {
			var is bool
			if x[i], is = v.float(); !is {
				return Value{}, fmt.Errorf("%q of the text %.40q", name, v.String())
			}
		}
		if y := numeric(x); !math.IsNaN(y) && !math.IsInf(y, 0) {
			return Number(y), nil
		}
		return or, nil
	}), nil
}

func total(x []float64) float64 {
	s := 0.0
	for _, v := range x {
		s += v
	}
	return s
}
