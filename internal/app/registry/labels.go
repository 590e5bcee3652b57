package registry

import (
	"context"
	"errors"
	"fmt"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Labels lists the labels of a model.
func (s *Service) Labels(ctx context.Context, by act.Actor, model string) (wire.Listed[registry.Label], error) {
	if _, err := s.Model(ctx, by, model); err != nil {
		return wire.Listed[registry.Label]{}, err
	}
	return act.List(s.Base, by, func(r records.View) ([]registry.Label, string, error) {
		all, err := r.Labels(ctx, model)
		return all, "", err
	})
}

// PutLabel puts a label on a version, from wherever it was. With an environment the
// version must be placed and healthy there, and stays so for as long as it has the
// label.
func (s *Service) PutLabel(ctx context.Context, by act.Actor, ref, label, environment,
	reason string,
) (registry.Label, error) {
	if err := registry.CheckLabel("label", label, nil); err != nil {
		return registry.Label{}, err
	}
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (registry.Label, error) {
		v, err := s.Resolve(ctx, t.View, "version", ref)
		if err != nil {
			return registry.Label{}, err
		}
		return s.putLabel(ctx, t, v, label, environment, reason)
	})
}

func (s *Service) putLabel(ctx context.Context, t *act.Tx, v *registry.Version, label, environment,
	reason string,
) (registry.Label, error) {
	l := registry.Label{Name: label, Version: v.Ref, Environment: environment, MovedBy: t.By.Name, MovedAt: t.Now}
	rungs, err := t.Ladder(ctx, v.Project)
	if err != nil {
		return l, err
	}
	if err := registry.CheckLabel("label", label, names(rungs)); err != nil {
		return l, err
	}
	if environment != "" {
		p, err := t.PlacementOf(ctx, v.Ref, environment)
		switch {
		case errors.Is(err, records.ErrNone):
			return l, fault.New(fault.Refused, "label.not_placed", "%s is not placed in %s", v.Ref, environment).
				In("environment").Do("place it first: innerladder place %s -env %s -at ADDRESS", v.Ref, environment)
		case err != nil:
			return l, err
		case !p.Healthy:
			return l, fault.New(fault.Refused, "label.not_healthy", "%s is not healthy in %s: %s", v.Ref, environment,
				p.Reason()).In("environment").Do("wait until it is, or mend it")
		}
	}
	before, err := t.Label(ctx, v.Model, label)
	if err != nil && !errors.Is(err, records.ErrNone) {
		return l, err
	}
	if before != nil && before.Version == l.Version && before.Environment == l.Environment {
		return *before, nil
	}
	if err := t.View.PutLabel(ctx, l); err != nil {
		return l, err
	}
	sentence := fmt.Sprintf("%s@%s now means %s.", v.Model, label, v.Ref)
	var was any
	also := []string{v.Ref}
	if before != nil {
		was = before
		also = append(also, before.Version)
		sentence = fmt.Sprintf("%s@%s now means %s, no longer %s.", v.Model, label, v.Ref, before.Version)
		if err := t.IndexVersions(ctx, before.Version); err != nil {
			return l, err
		}
	}
	if err := t.IndexVersions(ctx, v.Ref); err != nil {
		return l, err
	}
	return l, t.Note(ctx, act.Entry{
		Project: v.Project, Kind: "label.moved", Subject: v.Model + "@" + label,
		Sentence: sentence, Reason: reason, Also: also, Before: was, After: l,
	})
}

// RemoveLabel takes a label away.
func (s *Service) RemoveLabel(ctx context.Context, by act.Actor, model, label, reason string) (registry.Label, error) {
	return act.Change(ctx, s.Base, by, access.Register, func(t *act.Tx) (registry.Label, error) {
		m, err := s.FindModel(ctx, t.View, "model", model)
		if err != nil {
			return registry.Label{}, err
		}
		l, err := t.Label(ctx, model, label)
		if errors.Is(err, records.ErrNone) {
			return registry.Label{}, fault.New(fault.Unknown, "label.unknown", "%s has no label %q", model, label).
				In("label").Do("%s", describeLabels(m))
		}
		if err != nil {
			return registry.Label{}, err
		}
		if err := t.View.RemoveLabel(ctx, model, label); err != nil {
			return *l, err
		}
		if err := t.IndexVersions(ctx, l.Version); err != nil {
			return *l, err
		}
		return *l, t.Note(ctx, act.Entry{
			Project: m.Project, Kind: "label.removed", Subject: model + "@" + label,
			Sentence: fmt.Sprintf("%s@%s was removed; it meant %s.", model, label, l.Version), Reason: reason,
			Also: []string{l.Version}, Before: l,
		})
	})
}
