package pmml

import (
	"fmt"
	"math"
	"strconv"
)

// dimension is a field by which rows are near to clusters or far.
type dimension struct {
	at                  int
	weight, scale, lack float64
	compare             string
}

// differs is how far two values lie apart in the dimension.
func (f *dimension) differs(x, y float64) float64 {
	switch f.compare {
	case "gaussSim":
		return math.Exp(-math.Ln2 * (x - y) * (x - y) / (f.scale * f.scale))
	case "delta":
		return truth(x != y).Number
	case "equal":
		return truth(x == y).Number
	}
	return math.Abs(x - y)
}

// distances add up what values differ by, and make a distance of the sum.
var distances = map[string]struct {
	add  func(sum, weight, c float64) float64
	make func(sum float64) float64
}{
	"euclidean":        {func(s, w, c float64) float64 { return s + w*c*c }, math.Sqrt},
	"squaredEuclidean": {func(s, w, c float64) float64 { return s + w*c*c }, links["identity"]},
	"cityBlock":        {func(s, w, c float64) float64 { return s + w*c }, links["identity"]},
	"chebychev":        {func(s, w, c float64) float64 { return max(s, w*c) }, links["identity"]},
}

func (d *document) clusters(e *element) (func(row) (*result, error), error) {
	if kind := e.word("modelClass", ""); kind != "centerBased" {
		d.refuse("clusters that are %q", kind)
	}
	measure := e.child("ComparisonMeasure")
	if measure == nil || measure.word("kind", "") != "distance" {
		d.refuse("clusters by similarity")
		return nil, nil
	}
	var how string
	for name := range distances {
		if measure.child(name) != nil {
			how = name
		}
	}
	if how == "" {
		for _, c := range measure.children {
			d.refuse("the distance %s", c.name)
		}
	}
	fields, err := d.dimensions(e, measure)
	if err != nil {
		return nil, err
	}
	var names []string
	var centres [][]float64
	for i, c := range e.all("Cluster") {
		if c.child("Array") == nil {
			return nil, fmt.Errorf("a cluster without a centre")
		}
		centre, err := c.child("Array").numbers()
		if err != nil {
			return nil, err
		}
		if len(centre) != len(fields) {
			return nil, fmt.Errorf("a centre of %d numbers for %d fields", len(centre), len(fields))
		}
		name := strconv.Itoa(i + 1)
		names, centres = append(names, c.word("id", c.word("name", name))), append(centres, centre)
	}
	if len(centres) == 0 {
		return nil, fmt.Errorf("there is no cluster")
	}
	return func(r row) (*result, error) {
		res := &result{categories: names}
		best := -1
		for i, centre := range centres {
			far := farness(r, fields, centre, how)
			if math.IsNaN(far) {
				return &result{}, nil
			}
			res.shares = append(res.shares, far)
			if best < 0 || far < res.shares[best] {
				best = i
			}
		}
		res.value, res.entity = Text(names[best]), names[best]
		return res, nil
	}, nil
}

func (d *document) dimensions(e, measure *element) ([]dimension, error) {
	var lacks []float64
	if w := e.child("MissingValueWeights"); w != nil && w.child("Array") != nil {
		var err error
		if lacks, err = w.child("Array").numbers(); err != nil {
			return nil, err
		}
	}
	var out []dimension
	for i, f := range e.all("ClusteringField") {
		x := dimension{at: d.slot(f.word("field", "")), lack: 1}
		x.compare = f.word("compareFunction", measure.word("compareFunction", "absDiff"))
		if x.compare == "table" {
			d.refuse("the comparison %q of clusters", x.compare)
		}
		var err error
		if x.weight, err = f.number("fieldWeight", 1); err != nil {
			return nil, err
		}
		if x.scale, err = f.number("similarityScale", 1); err != nil {
			return nil, err
		}
		if i < len(lacks) {
			x.lack = lacks[i]
		}
		out = append(out, x)
	}
	return out, nil
}

// farness is how far a row is from a centre; what is missing is made up for by the others. It is NaN where all are
// missing.
func farness(r row, fields []dimension, centre []float64, how string) float64 {
	m := distances[how]
	sum, all, there := 0.0, 0.0, 0.0
	for i := range fields {
		f := &fields[i]
		all += f.lack
		x, is := r[f.at].float()
		if !is {
			continue
		}
		there += f.lack
		sum = m.add(sum, f.weight, f.differs(x, centre[i]))
	}
	if there == 0 {
		return math.NaN()
	}
	if how != "chebychev" {
		sum *= all / there
	}
	return m.make(sum)
}
