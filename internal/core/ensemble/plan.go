// Package ensemble says what a version is made of that is made of others: which, how they are put together, and what
// goes in and comes out of it.
package ensemble

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/signature"
)

// How members are put together.
const (
	// Mean and WeightedMean are of numbers, each output by itself.
	Mean         = "mean"
	WeightedMean = "weighted-mean"
	// Vote gives what most members say, the first of those that are even; numbers beside it are means.
	Vote = "vote"
	// First gives what the first member says that can say anything.
	First = "first"
	// Chain hands what one member gives on to those behind it.
	Chain = "chain"
)

// Hows lists them.
var Hows = []string{Mean, WeightedMean, Vote, First, Chain}

// Most is how many members there may be.
const Most = 20

// Plan is what an ensemble is made of.
type Plan struct {
	How     string   `json:"ensemble" enum:"mean,weighted-mean,vote,first,chain" description:"how they go together"`
	Members []Member `json:"members"`
}

// Member is one version of an ensemble.
type Member struct {
	// Version is MODEL@NUMBER.
	Version string  `json:"version" description:"a rung or a label is the version that has it at registration"`
	Weight  float64 `json:"weight,omitempty" description:"of a weighted mean or a vote; 1 when not given"`
	// Takes says what inputs get that are not called so, Gives what outputs are called: NAME=OTHER.
	Takes []string `json:"takes,omitempty" description:"of a chain: INPUT=NAME, given by another member or the caller"`
	Gives []string `json:"gives,omitempty" description:"of a chain: NAME=OUTPUT, how an output is called from there on"`
}

// Check says what is wrong with a plan, and completes it.
func (p *Plan) Check() error {
	bad := func(field, detail string, args ...any) error {
		return fault.New(fault.Invalid, "ensemble.wrong", detail, args...).In(field).
			Do("write for example: ensemble: mean, and below it members: with two or more of - version: "+
				"heat-demand@2; the ways are %s", strings.Join(Hows, ", "))
	}
	switch {
	case !slices.Contains(Hows, p.How):
		return bad("ensemble", "%q is no way to put members together", p.How)
	case len(p.Members) < 2 || len(p.Members) > Most:
		return bad("members", "%d members; there are from 2 to %d", len(p.Members), Most)
	}
	for i := range p.Members {
		m := &p.Members[i]
		field := fmt.Sprintf("members[%d]", i)
		weighted := p.How == WeightedMean || p.How == Vote
		if m.Weight == 0 && weighted {
			m.Weight = 1
		}
		switch {
		case m.Version == "":
			return bad(field+".version", "member %d names no version", i+1)
		case m.Weight < 0 || math.IsInf(m.Weight, 0) || math.IsNaN(m.Weight):
			return bad(field+".weight", "member %d has the weight %v", i+1, m.Weight)
		case m.Weight != 0 && !weighted:
			return bad(field+".weight", "a %s has no weights", p.How)
		case len(m.Takes)+len(m.Gives) > 0 && p.How != Chain:
			return bad(field, "only a chain renames what members take and give")
		}
		for _, pair := range slices.Concat(m.Takes, m.Gives) {
			if a, b, there := strings.Cut(pair, "="); !there || a == "" || b == "" {
				return bad(field, "%q is not NAME=OTHER", pair)
			}
		}
	}
	return nil
}

// String says in a line what it is made of.
func (p Plan) String() string {
	names := make([]string, len(p.Members))
	for i, m := range p.Members {
		names[i] = m.Version
	}
	if p.How == Chain {
		return "chain of " + strings.Join(names, " → ")
	}
	return strings.ReplaceAll(p.How, "-", " ") + " of " + strings.Join(names, ", ")
}

// Renamed finds what a name stands for in a list of NAME=OTHER; itself where it is not in it.
func Renamed(list []string, name string) string {
	for _, pair := range list {
		if a, b, _ := strings.Cut(pair, "="); a == name {
			return b
		}
	}
	return name
}

// CalledFrom finds under which name the OTHER of a list of NAME=OTHER goes on; itself where it is not in it.
func CalledFrom(list []string, other string) string {
	for _, pair := range list {
		if a, b, _ := strings.Cut(pair, "="); b == other {
			return a
		}
	}
	return other
}

// Signature is what goes into the ensemble and what comes out, of the signatures of its members in order. Members that
// do not fit each other are refused.
func (p Plan) Signature(members []*signature.Signature) (*signature.Signature, error) {
	refuse := func(i int, detail string, args ...any) error {
		return fault.New(fault.Refused, "ensemble.fit", "%s %s", p.Members[i].Version, fmt.Sprintf(detail, args...)).
			In(fmt.Sprintf("members[%d]", i)).Do("name members that take and give the same, or put them in a chain")
	}
	out := &signature.Signature{Inputs: []signature.Column{}, Outputs: []signature.Column{}}
	given := map[string]bool{}
	for i, s := range members {
		if s == nil {
			return nil, refuse(i, "has no signature")
		}
		if p.How != Chain && i > 0 {
			a, b := signature.Names(members[0].Inputs), signature.Names(s.Inputs)
			c, d := signature.Names(members[0].Outputs), signature.Names(s.Outputs)
			slices.Sort(a)
			slices.Sort(b)
			if !slices.Equal(a, b) || !slices.Equal(c, d) {
				return nil, refuse(i, "takes %v and gives %v, %s takes %v and gives %v", b, d, p.Members[0].Version, a,
					c)
			}
			continue
		}
		for _, c := range s.Inputs {
			c.Name = Renamed(p.Members[i].Takes, c.Name)
			known := slices.ContainsFunc(out.Inputs, func(o signature.Column) bool { return o.Name == c.Name })
			if !given[c.Name] && !known {
				out.Inputs = append(out.Inputs, c)
			}
		}
		for _, c := range s.Outputs {
			c.Name = CalledFrom(p.Members[i].Gives, c.Name)
			given[c.Name] = true
			if i == len(members)-1 || p.How != Chain {
				out.Outputs = append(out.Outputs, c)
			}
		}
	}
	return out, nil
}
