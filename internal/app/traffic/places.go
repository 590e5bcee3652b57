package traffic

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Place says that a version runs in an environment at some addresses, after making sure
// that it does: every address must speak the protocol, be ready, fit the signature, and answer
// the sample request as promised and the known answers as they are known.
// An empty name at the servers means the same name as here. What is to be run here is started first, and ends when it
// is not placed. What answers elsewhere is not asked anything.
func (s *Service) Place(ctx context.Context, by act.Actor, n wire.NewPlacement) (_ *traffic.Placement, failed error) {
	v, e, err := s.toPlace(ctx, by, n.Version, n.Environment)
	if err != nil {
		return nil, err
	}
	p := &traffic.Placement{
		Project: v.Project, Version: v.Ref, Environment: n.Environment, ServedAs: cmp.Or(n.ServedAs, v.Model),
		Healthy: true, Elsewhere: n.Elsewhere, Addresses: []traffic.Address{},
	}
	if n.Elsewhere && len(n.Addresses) > 0 {
		return nil, fault.New(fault.Invalid, "placement.elsewhere_at", "what answers elsewhere has no address here").
			In("addresses").Do("leave out the addresses, or elsewhere")
	}
	if n.Runner != nil {
		if n.Addresses, err = s.start(ctx, v, p, n); p.Runner != nil && s.runners != nil {
			defer func() {
				if failed != nil {
					s.runners.Forget(p.Runner.ID)
				} else {
					s.runners.Confirm(p.Runner.ID)
				}
			}()
		}
	}
	if err == nil && !n.Elsewhere {
		err = s.extend(ctx, v, e, p, n.Addresses)
	}
	if err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Place, func(t *act.Tx) (*traffic.Placement, error) {
		if there, err := t.PlacementOf(ctx, v.Ref, n.Environment); err == nil {
			return nil, fault.New(fault.Refused, "placement.exists", "%s is placed in %s already: %s", v.Ref,
				n.Environment, there.Where()).In("version").
				Do("change its addresses with: innerladder addresses %s -env %s -add URL -remove URL; or take it away "+
					"first with: innerladder unplace %s -env %s", v.Ref, n.Environment, v.Ref, n.Environment)
		} else if !errors.Is(err, records.ErrNone) {
			return nil, err
		}
		if err := s.mayRun(ctx, t, p); err != nil {
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
			Sentence: fmt.Sprintf("%s was placed in %s: %s.", v.Ref, n.Environment, p.Where()),
			After:    p,
		})
	})
}

// toPlace finds the version and the environment of a placement. Servers are asked only for those who
// may place there.
func (s *Service) toPlace(ctx context.Context, by act.Actor, ref, environment string) (v *registry.Version,
	e traffic.Environment, err error,
) {
	if err := by.May(access.Place); err != nil {
		return nil, e, err
	}
	if v, err = s.registry.Version(ctx, by, ref); err != nil {
		return nil, e, err
	}
	if err := by.Need(access.Place, v.Project); err != nil {
		return nil, e, err
	}
	if e, err = s.findEnvironment(ctx, s.Read(by), environment); err != nil {
		return nil, e, err
	}
	return v, e, e.CheckProject(v.Project)
}

// extend adds addresses to a placement, after making sure that the version runs at each.
func (s *Service) extend(ctx context.Context, v *registry.Version, e traffic.Environment, p *traffic.Placement,
	addresses []string,
) error {
	if len(p.Addresses)+len(addresses) == 0 {
		return fault.New(fault.Invalid, "placement.no_address", "no address is given").In("addresses").
			Do("say where the version runs with -at URL")
	}
	if len(p.Addresses)+len(addresses) > mostAddresses {
		return fault.New(fault.Invalid, "placement.addresses", "a placement of %d addresses is too large",
			len(p.Addresses)+len(addresses)).In("addresses").Do("name at most %d", mostAddresses)
	}
	for _, raw := range addresses {
		a, err := cleanAddress(raw)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(p.Addresses, func(o traffic.Address) bool { return o.URL == a }) {
			return fault.New(fault.Invalid, "placement.address_twice", "%s is named twice", a).In("addresses").
				Do("name each address once")
		}
		if err := e.CheckAddress(a); err != nil { // nothing is asked where nothing may be
			return err
		}
		at, err := s.inspect(ctx, v, p.Environment, a, p.ServedAs)
		if err != nil {
			return err
		}
		if p.Declared != nil && !p.Declared.Equal(at.declared) {
			return fault.New(fault.Refused, "placement.differ", "%s does not declare the same inputs and "+
				"outputs as the other addresses", a).In("addresses").
				Do("serve the same version at all addresses of a placement")
		}
		p.Declared = &at.declared
		if p.Heard == nil {
			p.Heard = at.heard
		}
		p.Addresses = append(p.Addresses, traffic.Address{URL: a, Healthy: true, Since: s.Now()})
	}
	return nil
}

// mostAddresses bounds the addresses of a placement.
const mostAddresses = 200

// mayRun refuses a placement that the environment does not allow, as it is now, or where another
// version is placed.
func (s *Service) mayRun(ctx context.Context, t *act.Tx, p *traffic.Placement) error {
	e, err := s.findEnvironment(ctx, t.View, p.Environment)
	if err != nil {
		return err
	}
	if err := e.CheckProject(p.Project); err != nil {
		return err
	}
	for _, a := range p.Addresses {
		if err := e.CheckAddress(a.URL); err != nil {
			return err
		}
	}
	return alone(ctx, t, p)
}

// ChangeAddresses adds addresses to a placement and takes others away, while the version answers.
// Those that are added are made sure of as at placement; those that are taken away finish what they
// have begun.
func (s *Service) ChangeAddresses(ctx context.Context, by act.Actor, ref, environment string,
	edit wire.EditAddresses,
) (*traffic.Placement, error) {
	v, e, err := s.toPlace(ctx, by, ref, environment)
	if err != nil {
		return nil, err
	}
	before, err := placed(ctx, s.Read(by), v.Ref, environment)
	if err == nil {
		err = before.CheckReached("environment")
	}
	if err != nil {
		return nil, err
	}
	switch {
	case edit.Replicas != "" && len(edit.Add)+len(edit.Remove) > 0, edit.Replicas == "" && before.Runner != nil:
		return nil, fault.New(fault.Invalid, "placement.run_at", "what is run here has addresses of its own").
			In("add").Do("change how many there are with: innerladder replicas %s NUMBER -env %s", v.Ref, environment)
	case edit.Replicas != "":
		return s.changeReplicas(ctx, by, before, edit)
	}
	next, err := before.Without(edit.Remove)
	if err != nil {
		return nil, err
	}
	if len(edit.Add)+len(edit.Remove) == 0 {
		return nil, fault.New(fault.Invalid, "placement.no_address", "no address is added or taken away").
			In("add").Do("name some with -add URL or -remove URL")
	}
	if err := s.extend(ctx, v, e, &next, edit.Add); err != nil {
		return nil, err
	}
	return act.Change(ctx, s.Base, by, access.Place, func(t *act.Tx) (*traffic.Placement, error) {
		now, err := placed(ctx, t.View, v.Ref, environment)
		if err != nil {
			return nil, err
		}
		if !now.SameAddresses(*before) {
			return nil, fault.New(fault.Stale, "placement.changed", "the addresses of %s in %s were changed meanwhile",
				v.Ref, environment).In("addresses").Do("look at them again, and say what is still to change")
		}
		kept, err := now.Without(edit.Remove) // as healthy as they are by now
		if err != nil {
			return nil, err
		}
		now = new(kept.With(next.Addresses[len(kept.Addresses):]...))
		next.Addresses, next.Healthy = now.Addresses, now.Healthy
		if err := s.mayRun(ctx, t, &next); err != nil {
			return nil, err
		}
		if err := stillAnswers(ctx, t, &next); err != nil {
			return nil, err
		}
		if err := t.SetAddresses(ctx, &next); err != nil {
			return nil, err
		}
		return &next, t.Note(ctx, act.Entry{
			Project: v.Project, Kind: "placement.changed", Subject: v.Ref,
			Sentence: fmt.Sprintf("%s in %s runs at %s now.", v.Ref, environment, strings.Join(next.URLs(), ", ")),
			Reason:   edit.Reason, Before: before.URLs(), After: next.URLs(),
		})
	})
}

// stillAnswers refuses addresses of which none is healthy, where the version answers.
func stillAnswers(ctx context.Context, t *act.Tx, p *traffic.Placement) error {
	using, err := t.EndpointsUsing(ctx, p.Version, p.Environment)
	if err != nil || len(using) == 0 || p.Healthy {
		return err
	}
	return fault.New(fault.Refused, "placement.in_use", "%s answers for %s, and no healthy address would be left",
		p.Version, strings.Join(using, ", ")).In("remove").Do("add one first, or with the same change")
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
		if err := s.rolling(ctx, t.View, v.Ref, environment); err != nil {
			return nil, err
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

// rolling refuses to take away what a rollout may need: its candidate, and the version that it must be able to
// go back to.
func (s *Service) rolling(ctx context.Context, r records.View, ref, environment string) error {
	open, err := r.Within(records.Everything).OpenRollouts(ctx)
	if err != nil {
		return err
	}
	for _, o := range open {
		if o.Candidate != ref && o.Incumbent != ref {
			continue
		}
		e, err := r.Within(records.Everything).Endpoint(ctx, o.Endpoint)
		if err != nil {
			return err
		}
		if e.Environment == environment {
			return fault.New(fault.Refused, "rollout.in_force", "%s moves %s from %s to %s", o.ID, o.Endpoint,
				o.Incumbent, o.Candidate).
				In("version").
				Do("wait until it is over, or end it with: innerladder rollout end %s", o.ID)
		}
	}
	return nil
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
	servers, err := s.serversIn(ctx, p.Environment, address)
	if err != nil {
		return err
	}
	return servers.Ready(ctx, address, p.ServedAs)
}
