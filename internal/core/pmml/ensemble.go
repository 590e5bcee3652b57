package pmml

import (
	"fmt"
	"slices"
)

// segment is one model of several.
type segment struct {
	ask    predicate
	weight float64
	model  *model
}

// methods are the ways to make one result of several, except those that take the first or go through all.
var methods = []string{
	"majorityVote", "weightedMajorityVote", "average", "weightedAverage", "median", "max", "sum", "weightedSum",
	"selectFirst", "modelChain",
}

func (d *document) ensemble(e *element) (func(row) (*result, error), error) {
	s := e.child("Segmentation")
	if s == nil {
		return nil, fmt.Errorf("there is no segmentation")
	}
	method := s.word("multipleModelMethod", "")
	if !slices.Contains(methods, method) {
		d.refuse("the way %q to put models together", method)
	}
	if how := s.word("missingPredictionTreatment", "continue"); how != "continue" {
		d.refuse("the treatment of missing predictions %q", how)
	}
	var segments []segment
	for _, c := range s.all("Segment") {
		weight, err := c.number("weight", 1)
		if err != nil {
			return nil, err
		}
		g := segment{weight: weight}
		if g.ask, err = d.predicateIn(c); err != nil {
			return nil, err
		}
		found := c.first(kinds...)
		if found == nil {
			d.refuse("a segment without a model that is known here")
			continue
		}
		if g.model, err = d.model(found); err != nil {
			return nil, err
		}
		segments = append(segments, g)
	}
	classification := e.word("functionName", "") == "classification"
	return func(r row) (*result, error) {
		var all []*result
		var weights []float64
		for _, g := range segments {
			if g.ask(r) != yes {
				continue
			}
			own := r
			if method != "modelChain" {
				own = slices.Clone(r) // what one model makes of the fields is nothing to the next
			}
			res, err := g.model.score(own)
			if err != nil {
				return nil, err
			}
			if method == "selectFirst" {
				return res, nil
			}
			if method == "modelChain" || !res.value.Missing() {
				all, weights = append(all, res), append(weights, g.weight)
			}
		}
		switch {
		case len(all) == 0:
			return &result{}, nil
		case method == "modelChain":
			last := *all[len(all)-1]
			last.given = nil
			return &last, nil
		case classification:
			return vote(all, weights, method)
		}
		return reckon(all, weights, method)
	}, nil
}

// vote makes one class of several.
func vote(all []*result, weights []float64, method string) (*result, error) {
	out := &result{}
	add := func(category string, share float64) {
		i := slices.Index(out.categories, category)
		if i < 0 {
			i = len(out.categories)
			out.categories, out.shares = append(out.categories, category), append(out.shares, 0)
		}
		if method == "max" {
			out.shares[i] = max(out.shares[i], share)
		} else {
			out.shares[i] += share
		}
	}
	sum := 0.0
	for k, res := range all {
		weight := 1.0
		if method == "weightedMajorityVote" || method == "weightedAverage" {
			weight = weights[k]
		}
		sum += weight
		switch method {
		case "majorityVote", "weightedMajorityVote":
			add(res.value.String(), weight)
		case "average", "weightedAverage", "max":
			for i, c := range res.categories {
				add(c, weight*res.shares[i])
			}
		default:
			return nil, fmt.Errorf("classes cannot be put together by %q", method)
		}
	}
	if method == "max" {
		sum = total(out.shares)
	}
	for i := range out.shares {
		out.shares[i] /= sum
	}
	out.decide()
	return out, nil
}

// reckon makes one number of several.
func reckon(all []*result, weights []float64, method string) (*result, error) {
	var x []float64
	for _, res := range all {
		v, is := res.value.float()
		if !is {
			return nil, fmt.Errorf("%q is no number", res.value.String())
		}
		x = append(x, v)
	}
	sum, by := 0.0, 0.0
	for i, v := range x {
		sum, by = sum+v*weights[i], by+weights[i]
	}
	switch method {
	case "sum":
		sum = total(x)
	case "average":
		sum = total(x) / float64(len(x))
	case "weightedAverage":
		sum /= by
	case "weightedSum":
	case "max":
		sum = slices.Max(x)
	case "median":
		slices.Sort(x)
		sum = (x[(len(x)-1)/2] + x[len(x)/2]) / 2
	default:
		return nil, fmt.Errorf("numbers cannot be put together by %q", method)
	}
	return &result{value: Number(sum)}, nil
}
