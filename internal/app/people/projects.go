package people

import (
	"context"
	"errors"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

// Projects lists the projects.
func (s *Service) Projects(ctx context.Context, by act.Actor) (wire.Listed[registry.Project], error) {
	return act.List(s.Base, by, func(r records.View) ([]registry.Project, string, error) {
		all, err := r.Projects(ctx)
		return all, "", err
	})
}

// AddProject adds a project.
func (s *Service) AddProject(ctx context.Context, by act.Actor, name, description string) (registry.Project, error) {
	if err := naming.Check("name", name); err != nil {
		return registry.Project{}, err
	}
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (registry.Project, error) {
		p := registry.Project{Name: name, Description: description, AddedBy: t.By.Name, AddedAt: t.Now}
		if s.CheckProject(ctx, t.View, name) == nil {
			return p, fault.New(fault.Refused, "project.exists", "there is a project %s already", name).In("name").
				Do("choose another name")
		}
		if err := t.View.AddProject(ctx, p); err != nil {
			return p, err
		}
		return p, t.Note(ctx, act.Entry{
			Kind: "project.added", Subject: name,
			Sentence: "The project " + name + " was added.", Reason: description, After: p,
		})
	})
}

// CheckProject says which projects there are when one is not among those in sight.
func (s *Service) CheckProject(ctx context.Context, r records.View, name string) error {
	all, err := r.Projects(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, p := range all {
		if p.Name == name {
			return nil
		}
		names = append(names, p.Name)
	}
	return fault.New(fault.Unknown, "project.unknown", "there is no project %q", name).In("project").
		Do("%s; add one with: innerladder project add %s", act.Exist("projects", names), name)
}

// ProjectFor is the project of something new: the one that is named, else the default if
// whoever acts may do so there, else the only one where they may.
func (s *Service) ProjectFor(ctx context.Context, t *act.Tx, named string) (string, error) {
	if named != "" {
		return named, s.CheckProject(ctx, t.View, named)
	}
	where, all := t.Allowed()
	if all || slices.Contains(where, DefaultProject) {
		return DefaultProject, nil
	}
	if len(where) == 1 {
		return where[0], nil
	} else if len(where) > 1 {
		slices.Sort(where)
		return "", fault.New(fault.Invalid, "project.which", "no project is named").In("project").
			Do("name one of %s", strings.Join(where, ", "))
	}
	return "", t.Need(DefaultProject)
}

// CheckPerson refuses the name of nobody; field is where it was given.
func (s *Service) CheckPerson(ctx context.Context, r records.View, field, name string) error {
	if _, err := r.PersonNamed(ctx, name); errors.Is(err, records.ErrNone) {
		return fault.New(fault.Unknown, "person.unknown", "there is nobody called %q", name).In(field).
			Do("see who there is with: innerladder people")
	} else if err != nil {
		return err
	}
	return nil
}

// DefaultProject is where models are that name no project.
const DefaultProject = "default"
