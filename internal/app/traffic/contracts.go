package traffic

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Contracts lists the contracts of an endpoint, the newest first.
func (s *Service) Contracts(ctx context.Context, by act.Actor, endpoint string) (wire.Listed[traffic.Contract], error) {
	if _, err := s.Endpoint(ctx, by, endpoint); err != nil {
		return wire.Listed[traffic.Contract]{}, err
	}
	return act.List(s.Base, by, func(r records.View) ([]traffic.Contract, string, error) {
		all, err := r.Contracts(ctx, endpoint)
		return all, "", err
	})
}

// ContractSchema is a contract as a JSON Schema: of requests, or of answers when side is "answer".
func (s *Service) ContractSchema(ctx context.Context, by act.Actor, endpoint string, number int,
	side string,
) (map[string]any, error) {
	all, err := s.Contracts(ctx, by, endpoint)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all.Items, func(c traffic.Contract) bool { return c.Number == number })
	if i < 0 {
		return nil, fault.New(fault.Unknown, "contract.unknown", "%s has no contract %d", endpoint, number).
			In("number").Do("see which there are with: innerladder contract show %s", endpoint)
	}
	c := all.Items[i]
	title := fmt.Sprintf("%s, contract %d", endpoint, number)
	if side == "answer" {
		return c.Signature.AnswerSchema(title), nil
	}
	return c.Signature.RequestSchema(title), nil
}

// MakeContract decides a new contract of an endpoint: the signature of a version. It comes into
// force with the next split all of whose versions keep it.
func (s *Service) MakeContract(ctx context.Context, by act.Actor, endpoint, ref,
	reason string,
) (*traffic.Contract, error) {
	if err := by.May(access.Route); err != nil {
		return nil, err
	}
	if err := naming.CheckReason(reason, "say what its callers were told with -why"); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (*traffic.Contract, error) {
		e, err := s.FindEndpoint(ctx, t.View, endpoint)
		if err != nil {
			return nil, err
		}
		exact, version, err := s.exactly(ctx, t.View, e, ref)
		if err != nil {
			return nil, err
		}
		if exact == nil {
			return nil, fault.New(fault.Refused, "contract.no_signature",
				"%s has no signature, and is not placed in %s",
				version, e.Environment).In("version").
				Do("place it there first: its server is asked what it takes and gives")
		}
		decided, err := s.decided(ctx, t.View, e)
		if err != nil {
			return nil, err
		}
		if n := decided.Newest(); n != nil && n.Signature.Same(exact) {
			return nil, fault.New(fault.Refused, "contract.same", "contract %d of %s says the same", n.Number,
				endpoint).In("version").Do("nothing is to be decided")
		}
		return s.addContract(ctx, t, e, &traffic.Contract{Signature: *exact, Version: version, Reason: reason})
	})
}

// exactly finds what a version takes and gives where an endpoint's versions run; nil when that is
// not known.
func (s *Service) exactly(ctx context.Context, r records.View, e *traffic.Endpoint,
	ref string,
) (exact *signature.Signature, version string, err error) {
	v, err := s.registry.Resolve(ctx, r, "version", ref)
	if err != nil {
		return nil, "", err
	}
	if v.Model != e.Model {
		return nil, v.Ref, fault.New(fault.Refused, "contract.model", "%s is not a version of %s, which %s serves",
			v.Ref, e.Model, e.Name).In("version").Do("name a version of %s", e.Model)
	}
	p, err := r.PlacementOf(ctx, v.Ref, e.Environment)
	if errors.Is(err, records.ErrNone) {
		return v.Signature, v.Ref, nil
	}
	if err != nil {
		return nil, v.Ref, err
	}
	return p.Exactly(v.Signature), v.Ref, nil
}

// decided are the contracts that a new split of an endpoint can be made under.
func (s *Service) decided(ctx context.Context, r records.View, e *traffic.Endpoint) (traffic.Decided, error) {
	keep, err := r.ContractsToKeep(ctx, e.Project, e.Model)
	if err != nil {
		return nil, err
	}
	for _, d := range keep[e.Model] {
		if d.Newest().Endpoint == e.Name {
			return d, nil
		}
	}
	return nil, nil
}

func (s *Service) addContract(ctx context.Context, t *act.Tx, e *traffic.Endpoint,
	c *traffic.Contract,
) (*traffic.Contract, error) {
	c.Endpoint, c.Model, c.Environment, c.Author, c.MadeAt = e.Name, e.Model, e.Environment, t.By.Name, t.Now
	if err := t.AddContract(ctx, c); err != nil {
		return nil, err
	}
	return c, t.Note(ctx, act.Entry{
		Project: e.Project, Kind: "contract.made", Subject: e.Name,
		Sentence: fmt.Sprintf("Contract %d of %s is the signature of %s.", c.Number, e.Name, c.Version),
		Reason:   c.Reason, After: c,
	})
}

// contractFor finds the contract that a new split is made under. The first follows from who
// answers main: what callers rely on already, else what they will.
func (s *Service) contractFor(ctx context.Context, t *act.Tx, e *traffic.Endpoint, next *traffic.Split,
	standings []traffic.Standing,
) (int, error) {
	decided, err := s.decided(ctx, t.View, e)
	if err != nil {
		return 0, err
	}
	if len(decided) == 0 {
		main := next.Main().Version
		if e.Split != nil {
			main = e.Split.Main().Version
		}
		exact, version, err := s.exactly(ctx, t.View, e, main)
		if err != nil || exact == nil {
			return 0, err
		}
		first, err := s.addContract(ctx, t, e, &traffic.Contract{
			Signature: *exact, Version: version, Reason: "the first version that answers",
		})
		if err != nil {
			return 0, err
		}
		decided = traffic.Decided{*first}
	}
	return decided.Under(standings)
}

// keepsContract says whether the versions of an earlier split keep the contract that it was made
// under, which comes back with it.
func keepsContract(ctx context.Context, r records.View, target traffic.Split, standings []traffic.Standing) error {
	all, err := r.Contracts(ctx, target.Endpoint)
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.Number == target.Contract {
			return c.Kept(standings)
		}
	}
	return nil // it was made before there were contracts
}

// fits says how a placed version stands to the contracts of the endpoints that it could answer
// for, the newest of each.
func (s *Service) fits(ctx context.Context, r records.View, p *traffic.Placement, model string,
	exact *signature.Signature,
) ([]traffic.Fit, error) {
	keep, err := r.ContractsToKeep(ctx, p.Project, model)
	if err != nil {
		return nil, err
	}
	var out []traffic.Fit
	for _, d := range keep[model] {
		if d.Newest().Environment == p.Environment {
			out = append(out, d.Best(p.Version, exact))
		}
	}
	return out, nil
}
