package compute

import (
	"errors"
	"fmt"
	"math"
	"slices"

	"innerladder/internal/core/ensemble"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/tensor"
)

// Watcher is told what members of an ensemble do.
type Watcher interface {
	// Ran runs a member and may take the time of it.
	Ran(member string, run func() error) error
	// Differed tells how far what a member gave lies from what the ensemble gives: the mean of the absolute differences
	// of numbers, the share of other values where there are none.
	Differed(member, output string, by float64)
}

// unwatched tells nobody.
type unwatched struct{}

func (unwatched) Ran(_ string, run func() error) error { return run() }
func (unwatched) Differed(string, string, float64)     {}

// Ensemble makes one model of several, as a plan says. Watcher may be nil.
func Ensemble(p ensemble.Plan, members []*Model, w Watcher) (*Model, error) {
	if len(members) != len(p.Members) {
		return nil, fmt.Errorf("%d models for %d members", len(members), len(p.Members))
	}
	if w == nil {
		w = unwatched{}
	}
	if p.How == ensemble.Chain {
		return chained(p, members, w)
	}
	m := &Model{Served: members[0].Served, Rows: true}
	orders := make([][]int, len(members))
	for i, other := range members {
		m.Rows = m.Rows && other.Rows
		var err error
		if orders[i], err = order(m.Served, other.Served); err != nil {
			return nil, fmt.Errorf("%s: %w", p.Members[i].Version, err)
		}
	}
	m.run = func(in []*tensor.Tensor) ([]*tensor.Tensor, error) {
		var given [][]*tensor.Tensor
		var weights []float64
		var failed []error
		for i, member := range members {
			own := make([]*tensor.Tensor, len(in))
			for k, from := range orders[i] {
				own[k] = in[from]
			}
			var out []*tensor.Tensor
			err := w.Ran(p.Members[i].Version, func() (err error) { out, err = member.Run(own); return err })
			switch {
			case err == nil:
				given, weights = append(given, out), append(weights, max(p.Members[i].Weight, 0))
			case p.How != ensemble.First:
				return nil, fmt.Errorf("%s: %w", p.Members[i].Version, err)
			default:
				failed = append(failed, fmt.Errorf("%s: %w", p.Members[i].Version, err))
			}
			if p.How == ensemble.First && err == nil {
				return out, nil
			}
		}
		if len(given) == 0 {
			return nil, errors.Join(failed...)
		}
		return together(p, m.Served.Outputs, given, weights, w)
	}
	return m, nil
}

// order says which of the ensemble's inputs each of a member's is. All must give the same.
func order(of, member signature.Served) ([]int, error) {
	var out []int
	for _, t := range member.Inputs {
		i := slices.IndexFunc(of.Inputs, func(o signature.Tensor) bool { return o.Name == t.Name })
		if i < 0 {
			return nil, fmt.Errorf("it takes %q, which the first member does not", t.Name)
		}
		out = append(out, i)
	}
	if len(member.Inputs) != len(of.Inputs) || len(member.Outputs) != len(of.Outputs) {
		return nil, errors.New("it does not take and give as much as the first member")
	}
	for i, t := range member.Outputs {
		if t.Name != of.Outputs[i].Name {
			return nil, fmt.Errorf("it gives %q where the first member gives %q", t.Name, of.Outputs[i].Name)
		}
	}
	return out, nil
}

// together makes one of what members gave, output by output.
func together(p ensemble.Plan, names []signature.Tensor, given [][]*tensor.Tensor, weights []float64, w Watcher) (
	[]*tensor.Tensor, error,
) {
	out := make([]*tensor.Tensor, len(names))
	for k, name := range names {
		parts := make([]*tensor.Tensor, len(given))
		for i := range given {
			parts[i] = given[i][k]
			if !slices.Equal(parts[i].Shape, parts[0].Shape) {
				return nil, fmt.Errorf("%q has the shape %v from one member and %v from another", name.Name,
					parts[0].Shape, parts[i].Shape)
			}
		}
		fraction := parts[0].Datatype() == "FP32" || parts[0].Datatype() == "FP64"
		var err error
		switch {
		case fraction:
			out[k], err = mean(parts, weights, p.How != ensemble.Mean)
		case p.How == ensemble.Vote:
			out[k], err = voted(parts, weights)
		default:
			err = fmt.Errorf("%q is %s, of which there is no mean; let the members vote", name.Name,
				parts[0].Datatype())
		}
		if err != nil {
			return nil, err
		}
		for i, part := range parts {
			w.Differed(p.Members[i].Version, name.Name, apartBy(part, out[k]))
		}
	}
	return out, nil
}

// mean is the mean of numbers.
func mean(parts []*tensor.Tensor, weights []float64, weighted bool) (*tensor.Tensor, error) {
	sums, all := make([]float64, parts[0].Len()), 0.0
	for i, part := range parts {
		x, err := part.Floats()
		if err != nil {
			return nil, err
		}
		weight := 1.0
		if weighted {
			weight = weights[i]
		}
		all += weight
		for j, v := range x {
			sums[j] += weight * v
		}
	}
	if all == 0 {
		return nil, errors.New("all members have the weight 0")
	}
	for j := range sums {
		sums[j] /= all
	}
	return tensor.New(sums, parts[0].Shape...).As(parts[0].Datatype())
}

// voted is what most say of each value; of those that are even, what the first says.
func voted(parts []*tensor.Tensor, weights []float64) (*tensor.Tensor, error) {
	all, err := tensor.Join(flat(parts), 0)
	if err != nil {
		return nil, err
	}
	text, err := all.As("BYTES")
	if err != nil {
		return nil, err
	}
	said, n := text.Data.([]string), parts[0].Len()
	at := make([]int, n)
	for j := range n {
		best := -1.0
		for i := range parts {
			votes := 0.0
			for o := range parts {
				if said[o*n+j] == said[i*n+j] {
					votes += weights[o]
				}
			}
			if votes > best {
				best, at[j] = votes, i*n+j
			}
		}
	}
	return all.Pick(at, parts[0].Shape...), nil
}

func flat(parts []*tensor.Tensor) []*tensor.Tensor {
	out := make([]*tensor.Tensor, len(parts))
	for i, t := range parts {
		out[i] = t.With(t.Len())
	}
	return out
}

// apartBy is how far two tensors lie apart: the mean of the absolute differences of fractions, else the share that is
// not equal.
func apartBy(a, b *tensor.Tensor) float64 {
	n := a.Len()
	if n == 0 {
		return 0
	}
	sum := 0.0
	if a.Datatype() == "FP32" || a.Datatype() == "FP64" {
		x, _ := a.Floats()
		y, _ := b.Floats()
		for i := range x {
			if d := math.Abs(x[i] - y[i]); !math.IsNaN(d) {
				sum += d
			}
		}
		return sum / float64(n)
	}
	x, errX := a.As("BYTES")
	y, errY := b.As("BYTES")
	if errX != nil || errY != nil {
		return 0
	}
	for i, s := range x.Data.([]string) {
		if s != y.Data.([]string)[i] {
			sum++
		}
	}
	return sum / float64(n)
}

// chained hands what one member gives on to those behind it.
func chained(p ensemble.Plan, members []*Model, w Watcher) (*Model, error) {
	m := &Model{Rows: true}
	given := map[string]bool{}
	for i, member := range members {
		m.Rows = m.Rows && member.Rows
		for _, t := range member.Served.Inputs {
			t.Name = ensemble.Renamed(p.Members[i].Takes, t.Name)
			known := slices.ContainsFunc(m.Served.Inputs, func(o signature.Tensor) bool { return o.Name == t.Name })
			if !given[t.Name] && !known {
				m.Served.Inputs = append(m.Served.Inputs, t)
			}
		}
		m.Served.Outputs = nil
		for _, t := range member.Served.Outputs {
			t.Name = ensemble.CalledFrom(p.Members[i].Gives, t.Name)
			given[t.Name] = true
			m.Served.Outputs = append(m.Served.Outputs, t)
		}
	}
	m.run = func(in []*tensor.Tensor) (out []*tensor.Tensor, err error) {
		known := map[string]*tensor.Tensor{}
		for i, t := range m.Served.Inputs {
			known[t.Name] = in[i]
		}
		for i, member := range members {
			own := make([]*tensor.Tensor, len(member.Served.Inputs))
			for k, t := range member.Served.Inputs {
				own[k] = known[ensemble.Renamed(p.Members[i].Takes, t.Name)]
			}
			err := w.Ran(p.Members[i].Version, func() (err error) { out, err = member.Run(own); return err })
			if err != nil {
				return nil, fmt.Errorf("%s: %w", p.Members[i].Version, err)
			}
			for k, t := range member.Served.Outputs {
				known[ensemble.CalledFrom(p.Members[i].Gives, t.Name)] = out[k]
			}
		}
		return out, nil
	}
	return m, nil
}
