package pmml

import (
	"fmt"
	"math"
	"slices"
	"strconv"
)

// mining is a field as a model wants it: what becomes of values that are missing, not valid, or far out.
type mining struct {
	name        string
	at          int
	instead     Value // of what is missing
	invalid     string
	invalidInto Value
	outliers    string
	low, high   float64
	valid       []string
	gone        []string // what stands for missing
	within      []interval
}

// interval is a range of numbers, with or without its ends.
type interval struct {
	from, to             float64
	openBelow, openAbove bool
}

func (i interval) holds(x float64) bool {
	return (x > i.from || x == i.from && !i.openBelow) && (x < i.to || x == i.to && !i.openAbove)
}

func intervalOf(e *element) (i interval, err error) {
	if i.from, err = e.number("leftMargin", math.Inf(-1)); err != nil {
		return i, err
	}
	i.to, err = e.number("rightMargin", math.Inf(1))
	switch e.word("closure", "") {
	case "openOpen":
		i.openBelow, i.openAbove = true, true
	case "openClosed":
		i.openBelow = true
	case "closedOpen":
		i.openAbove = true
	case "closedClosed":
	default:
		err = fmt.Errorf("an interval with the closure %q", e.word("closure", ""))
	}
	return i, err
}

func (d *document) miningFields(schema *element) ([]mining, error) {
	var out []mining
	for _, f := range schema.all("MiningField") {
		if usage := f.word("usageType", "active"); usage != "active" {
			continue
		}
		m := mining{
			name: f.word("name", ""), invalid: f.word("invalidValueTreatment", "returnInvalid"),
			outliers: f.word("outliers", "asIs"),
		}
		m.at = d.slot(m.name)
		field := d.types[m.name]
		m.instead = d.written(f.attributes, "missingValueReplacement", field)
		m.invalidInto = d.written(f.attributes, "invalidValueReplacement", field)
		if f.word("missingValueTreatment", "") == "returnInvalid" {
			d.refuse("the treatment of missing values %q", "returnInvalid")
		}
		var err error
		if m.low, err = f.number("lowValue", math.Inf(-1)); err != nil {
			return nil, err
		}
		if m.high, err = f.number("highValue", math.Inf(1)); err != nil {
			return nil, err
		}
		for _, v := range field.all("Value") {
			switch v.word("property", "valid") {
			case "valid":
				m.valid = append(m.valid, v.word("value", ""))
			case "missing":
				m.gone = append(m.gone, v.word("value", ""))
			}
		}
		for _, v := range field.all("Interval") {
			i, err := intervalOf(v)
			if err != nil {
				return nil, err
			}
			m.within = append(m.within, i)
		}
		out = append(out, m)
	}
	return out, nil
}

// written is a value that is written in an attribute, of the type of a field; missing when it is not given.
func (d *document) written(attributes map[string]string, name string, field *element) Value {
	s, there := attributes[name]
	if !there {
		return Value{}
	}
	return typedText(s, field)
}

// typedText is a text as a value of the type of a field.
func typedText(s string, field *element) Value {
	if field != nil && datatypeOf(field) != "BYTES" {
		if x, err := strconv.ParseFloat(s, 64); err == nil {
			return Number(x)
		}
	}
	return Text(s)
}

// apply treats one value as the schema says.
func (m *mining) apply(r row) error {
	v := r[m.at]
	if !v.Missing() && slices.ContainsFunc(m.gone, v.is) {
		v = Value{}
	}
	if !v.Missing() && !m.allows(v) {
		switch m.invalid {
		case "asIs":
		case "asMissing":
			v = Value{}
		case "asValue":
			v = m.invalidInto
		default:
			return fmt.Errorf("%q is %.40q, which the model does not allow", m.name, v.String())
		}
	}
	if x, is := v.float(); is && v.kind == number && m.outliers != "asIs" && (x < m.low || x > m.high) {
		v = Number(min(m.high, max(m.low, x)))
		if m.outliers == "asMissingValues" {
			v = Value{}
		}
	}
	if v.Missing() {
		v = m.instead
	}
	r[m.at] = v
	return nil
}

// allows reports whether a value is one that the dictionary lists.
func (m *mining) allows(v Value) bool {
	if len(m.within) > 0 {
		x, is := v.float()
		if is && slices.ContainsFunc(m.within, func(i interval) bool { return i.holds(x) }) {
			return true
		}
		return len(m.valid) > 0 && slices.ContainsFunc(m.valid, v.is)
	}
	return len(m.valid) == 0 || slices.ContainsFunc(m.valid, v.is)
}

// targets reads how the prediction is rescaled.
func (d *document) targets(e *element) (func(Value) Value, error) {
	t := e.child("Target")
	if t == nil {
		return func(v Value) Value { return v }, nil
	}
	var numbers [4]float64
	for i, of := range []struct {
		name string
		or   float64
	}{{"min", math.Inf(-1)}, {"max", math.Inf(1)}, {"rescaleFactor", 1}, {"rescaleConstant", 0}} {
		var err error
		if numbers[i], err = t.number(of.name, of.or); err != nil {
			return nil, err
		}
	}
	round := map[string]func(float64) float64{
		"round": math.Round, "ceiling": math.Ceil, "floor": math.Floor,
	}[t.word("castInteger", "")]
	return func(v Value) Value {
		if v.kind != number {
			return v
		}
		x := min(numbers[1], max(numbers[0], v.Number))*numbers[2] + numbers[3]
		if round != nil {
			x = round(x)
		}
		return Number(x)
	}, nil
}
