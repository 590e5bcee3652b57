package traffic

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// AddEnvironment adds a place where versions run.
func (s *Service) AddEnvironment(ctx context.Context, by act.Actor, name,
	description string,
) (traffic.Environment, error) {
	if err := naming.Check("name", name); err != nil {
		return traffic.Environment{}, err
	}
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (traffic.Environment, error) {
		e := traffic.Environment{Name: name, Description: description, AddedBy: t.By.Name, AddedAt: t.Now}
		all, err := t.Environments(ctx)
		if err != nil {
			return e, err
		}
		if slices.ContainsFunc(all, func(o traffic.Environment) bool { return o.Name == name }) {
			return e, fault.New(fault.Refused, "environment.exists", "there is an environment %s already", name).
				In("name").Do("use it, or choose another name")
		}
		if err := t.View.AddEnvironment(ctx, e); err != nil {
			return e, err
		}
		return e, t.Note(ctx, act.Entry{
			Kind: "environment.added", Subject: name,
			Sentence: "Environment " + name + " was added.", After: e,
		})
	})
}

// Environments lists all environments.
func (s *Service) Environments(ctx context.Context, by act.Actor) (wire.Listed[traffic.Environment], error) {
	return act.List(s.Base, by, func(r records.View) ([]traffic.Environment, string, error) {
		all, err := r.Environments(ctx)
		return all, "", err
	})
}

func (s *Service) checkEnvironment(ctx context.Context, r records.View, name string) error {
	all, err := r.Environments(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(all))
	for i, e := range all {
		names[i] = e.Name
	}
	if !slices.Contains(names, name) {
		return fault.New(fault.Unknown, "environment.unknown", "there is no environment %q", name).In("environment").
			Do("%s; add it with: innerladder environment add NAME", act.Exist("environments", names))
	}
	return nil
}

// Place says that a version runs in an environment at some addresses, after making sure
// that it does: every address must speak the protocol, be ready, fit the signature, and answer
// the sample request as promised and the known answers as they are known.
// servedAs is the model's name there; empty means the same name as here.
func (s *Service) Place(ctx context.Context, by act.Actor, ref, environment string, addresses []string,
	servedAs string,
) (*traffic.Placement, error) {
	if err := by.May(access.Place); err != nil {
		return nil, err
	}
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return nil, err
	}
	// Servers are asked only for those who may place.
	if err := by.Need(access.Place, v.Project); err != nil {
		return nil, err
	}
	if err := s.checkEnvironment(ctx, s.Read(by), environment); err != nil {
		return nil, err
	}
	if len(addresses) == 0 {
		return nil, fault.New(fault.Invalid, "placement.no_address", "no address is given").In("addresses").
			Do("say where the version runs with -at URL")
	}
	if servedAs == "" {
		servedAs = v.Model
	}
	p := &traffic.Placement{
		Project: v.Project, Version: v.Ref, Environment: environment, ServedAs: servedAs,
		Healthy: true, Addresses: []traffic.Address{},
	}
	for _, raw := range addresses {
		a, err := cleanAddress(raw)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(p.Addresses, func(o traffic.Address) bool { return o.URL == a }) {
			return nil, fault.New(fault.Invalid, "placement.address_twice", "%s is named twice", a).In("addresses").
				Do("name each address once")
		}
		at, err := s.inspect(ctx, v, environment, a, servedAs)
		if err != nil {
			return nil, err
		}
		if p.Declared != nil && !p.Declared.Equal(at.declared) {
			return nil, fault.New(fault.Refused, "placement.differ", "%s does not declare the same inputs and "+
				"outputs as %s", a, p.Addresses[0].URL).In("addresses").
				Do("serve the same version at all addresses of a placement")
		}
		p.Declared = &at.declared
		if p.Heard == nil {
			p.Heard = at.heard
		}
		p.Addresses = append(p.Addresses, traffic.Address{URL: a, Healthy: true, Since: s.Now()})
	}
	return act.Change(ctx, s.Base, by, access.Place, func(t *act.Tx) (*traffic.Placement, error) {
		if there, err := t.PlacementOf(ctx, v.Ref, environment); err == nil {
			return nil, fault.New(fault.Refused, "placement.exists", "%s is placed in %s already, at %s", v.Ref,
				environment, there.Addresses[0].URL).In("version").
				Do("take it away first with: innerladder unplace %s -env %s", v.Ref, environment)
		} else if !errors.Is(err, records.ErrNone) {
			return nil, err
		}
		if err := alone(ctx, t, p); err != nil {
			return nil, err
		}
		p.PlacedBy, p.PlacedAt = t.By.Name, t.Now
		if err := t.AddPlacement(ctx, p); err != nil {
			return nil, err
		}
		if p.Fits, err = s.fits(ctx, t.View, p, v.Model, p.Exactly(v.Signature)); err != nil {
			return nil, err
		}
		return p, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "placement.made", Subject: v.Ref,
			Sentence: fmt.Sprintf("%s was placed in %s at %s.", v.Ref, environment, strings.Join(addresses, ", ")),
			After:    p,
		})
	})
}

// alone refuses a placement where another version is placed already: at one address one name is
// one model, so answers of one of the two would bear the name of the other.
func alone(ctx context.Context, t *act.Tx, p *traffic.Placement) error {
	for _, a := range p.Addresses {
		// Whoever placed it, also where it is not seen.
		other, err := t.Within(records.Everything).PlacedAt(ctx, a.URL, p.ServedAs, p.Version)
		if errors.Is(err, records.ErrNone) {
			continue
		}
		if err != nil {
			return err
		}
		who := other.Version
		if !t.By.Rights.May(access.Read, other.Project) {
			who = "another version"
		}
		return fault.New(fault.Refused, "placement.taken", "%s at %s is where %s is placed", p.ServedAs, a.URL, who).
			In("addresses").
			Do("serve %s under a name of its own and give that with -as, or at another address", p.Version)
	}
	return nil
}

// placed finds the placement of a version in an environment, or says that there is none.
func placed(ctx context.Context, r records.View, ref, environment string) (*traffic.Placement, error) {
	p, err := r.PlacementOf(ctx, ref, environment)
	if errors.Is(err, records.ErrNone) {
		return nil, fault.New(fault.Unknown, "placement.unknown", "%s is not placed in %s", ref, environment).
			In("environment").Do("see where it is with: innerladder placements %s", ref)
	}
	return p, err
}

// Unplace says that a version runs in an environment no more.
func (s *Service) Unplace(ctx context.Context, by act.Actor, ref, environment string) (*traffic.Placement, error) {
	v, err := s.registry.Version(ctx, by, ref)
	if err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Place, func(t *act.Tx) (*traffic.Placement, error) {
		p, err := placed(ctx, t.View, v.Ref, environment)
		if err != nil {
			return nil, err
		}
		using, err := t.EndpointsUsing(ctx, v.Ref, environment)
		if err != nil {
			return nil, err
		}
		if len(using) > 0 {
			return nil, fault.New(fault.Refused, "placement.in_use", "%s answers for %s", v.Ref,
				strings.Join(using, ", ")).In("version").
				Do("take it out of the split first with: innerladder split %s …", using[0])
		}
		labels, err := t.View.Labels(ctx, v.Model)
		if err != nil {
			return nil, err
		}
		for _, l := range labels {
			if l.Version == v.Ref && l.Environment == environment {
				return nil, fault.New(fault.Refused, "placement.labelled", "%s@%s says that it is placed in %s",
					v.Model, l.Name, environment).In("version").
					Do("move the label first with: innerladder label MODEL@NUMBER %s -env %s", l.Name, environment)
			}
		}
		if err := t.RemovePlacement(ctx, p.ID, t.Now); err != nil {
			return nil, err
		}
		return p, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "placement.removed", Subject: v.Ref,
			Sentence: fmt.Sprintf("%s was taken away from %s.", v.Ref, environment), Before: p,
		})
	})
}

// Placements lists all placements, of one version when a ref is given.
func (s *Service) Placements(ctx context.Context, by act.Actor, ref string) (wire.Listed[traffic.Placement], error) {
	version := ""
	if ref != "" {
		v, err := s.registry.Version(ctx, by, ref)
		if err != nil {
			return wire.Listed[traffic.Placement]{}, err
		}
		version = v.Ref
	}
	return act.List(s.Base, by, func(r records.View) ([]traffic.Placement, string, error) {
		all, err := r.Placements(ctx, version)
		return all, "", err
	})
}

// Check asks an address of a placement whether it is ready; nil when it is.
func (s *Service) Check(ctx context.Context, p traffic.Placement, address string) error {
	servers, err := s.serversIn(ctx, p.Environment)
	if err != nil {
		return err
	}
	return servers.Ready(ctx, address, p.ServedAs)
}
