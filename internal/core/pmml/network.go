package pmml

import (
	"fmt"
	"math"
)

// activations are what a neuron makes of its sum.
var activations = map[string]func(x float64) float64{
	"logistic": logistic, "tanh": math.Tanh, "identity": links["identity"], "exponential": math.Exp,
	"reciprocal": func(x float64) float64 { return 1 / x }, "square": func(x float64) float64 { return x * x },
	"Gauss": func(x float64) float64 { return math.Exp(-x * x) }, "sine": math.Sin, "cosine": math.Cos,
	"Elliott":   func(x float64) float64 { return x / (1 + math.Abs(x)) },
	"arctan":    func(x float64) float64 { return 2 * math.Atan(x) / math.Pi },
	"rectifier": func(x float64) float64 { return max(0, x) },
}

// neuron takes those before it by their places.
type neuron struct {
	bias float64
	from []int
	by   []float64
}

type layer struct {
	neurons []neuron
	make    func(float64) float64
	shares  string
}

// end is what an output of the network stands for.
type end struct {
	at       int
	category string
	back     func(float64) float64
}

func (d *document) network(e *element) (func(row) (*result, error), error) {
	places := map[string]int{}
	var inputs []expression
	for _, c := range e.child("NeuralInputs").all("NeuralInput") {
		places[c.word("id", "")] = len(inputs)
		f := c.child("DerivedField")
		if f == nil {
			return nil, fmt.Errorf("a neural input without a field")
		}
		of, err := d.expressionIn(f)
		if err != nil {
			return nil, err
		}
		inputs = append(inputs, of)
	}
	count := len(inputs)
	var layers []layer
	for _, c := range e.all("NeuralLayer") {
		l, err := d.layer(e, c, places, &count)
		if err != nil {
			return nil, err
		}
		layers = append(layers, l)
	}
	var ends []end
	for _, c := range e.child("NeuralOutputs").all("NeuralOutput") {
		o, err := d.end(c, places)
		if err != nil {
			return nil, err
		}
		ends = append(ends, o)
	}
	if len(ends) == 0 {
		return nil, fmt.Errorf("there is no neural output")
	}
	return func(r row) (*result, error) {
		x := make([]float64, 0, count)
		for _, in := range inputs {
			v, err := in.value(r)
			if err != nil {
				return nil, err
			}
			n, is := v.float()
			if !is {
				return &result{}, nil
			}
			x = append(x, n)
		}
		for i := range layers {
			x = layers[i].add(x)
		}
		if ends[0].back != nil {
			return &result{value: Number(ends[0].back(x[ends[0].at]))}, nil
		}
		res := &result{}
		for _, o := range ends {
			res.categories, res.shares = append(res.categories, o.category), append(res.shares, x[o.at])
		}
		res.decide()
		return res, nil
	}, nil
}

func (d *document) layer(e, c *element, places map[string]int, count *int) (layer, error) {
	name := c.word("activationFunction", e.word("activationFunction", ""))
	l := layer{make: activations[name], shares: c.word("normalizationMethod", e.word("normalizationMethod", "none"))}
	if name == "threshold" {
		limit, err := c.number("threshold", 0)
		if err != nil {
			return l, err
		}
		l.make = func(x float64) float64 { return truth(x > limit).Number }
	}
	if l.make == nil {
		d.refuse("the activation %q", name)
	}
	first := *count
	for _, n := range c.all("Neuron") {
		x := neuron{}
		var err error
		if x.bias, err = n.number("bias", 0); err != nil {
			return l, err
		}
		for _, con := range n.all("Con") {
			at, there := places[con.word("from", "")]
			if !there || at >= first {
				return l, fmt.Errorf("a neuron takes %q, which no layer before it has", con.word("from", ""))
			}
			by, err := con.number("weight", 0)
			if err != nil {
				return l, err
			}
			x.from, x.by = append(x.from, at), append(x.by, by)
		}
		places[n.word("id", "")] = *count
		*count++
		l.neurons = append(l.neurons, x)
	}
	return l, nil
}

// add computes a layer behind those before it.
func (l *layer) add(x []float64) []float64 {
	first := len(x)
	for _, n := range l.neurons {
		sum := n.bias
		for i, at := range n.from {
			sum += n.by[i] * x[at]
		}
		x = append(x, l.make(sum))
	}
	if (l.shares == "softmax" || l.shares == "simplemax") && len(x) > first {
		normalise(x[first:], l.shares)
	}
	return x
}

func (d *document) end(c *element, places map[string]int) (end, error) {
	at, there := places[c.word("outputNeuron", "")]
	f := c.child("DerivedField")
	if !there || f == nil {
		return end{}, fmt.Errorf("an output of the neuron %q", c.word("outputNeuron", ""))
	}
	o := end{at: at}
	switch of := f.first(expressions...); {
	case of == nil:
		d.refuse("a neural output without an expression")
	case of.name == "NormDiscrete":
		o.category = of.word("value", "")
	case of.name == "NormContinuous":
		n, err := d.normalised(of)
		if err != nil {
			return o, err
		}
		o.back = n.back
	case of.name == "FieldRef":
		o.back = links["identity"]
	default:
		d.refuse("the expression %s of a neural output", of.name)
	}
	return o, nil
}
