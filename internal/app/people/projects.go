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

// ProjectFor is the project of something new: the one that is named, else the one that whoever acts
// has chosen for such things, else the only one where they may. Where there are several, it is not
// guessed: what is in the wrong project is seen by the wrong people.
func (s *Service) ProjectFor(ctx context.Context, t *act.Tx, named string) (string, error) {
	return s.ChooseProject(ctx, t.View, t.By, t.Permission(), named)
}

// ChooseProject is the project of something new of somebody who needs a permission for it.
func (s *Service) ChooseProject(ctx context.Context, r records.View, by act.Actor, p access.Permission,
	named string,
) (string, error) {
	if named != "" {
		return named, s.CheckProject(ctx, r, named)
	}
	projects, err := r.Projects(ctx)
	if err != nil {
		return "", err
	}
	where, all := by.Rights.Where(p)
	var may []string
	for _, one := range projects {
		if all || slices.Contains(where, one.Name) {
			may = append(may, one.Name)
		}
	}
	if who, err := r.PersonNamed(ctx, by.Name); err == nil && slices.Contains(may, who.Project) {
		return who.Project, nil
	} else if err != nil && !errors.Is(err, records.ErrNone) {
		return "", err
	}
	switch len(may) {
	case 0:
		return "", by.Need(p, DefaultProject)
	case 1:
		return may[0], nil
	}
	return "", fault.New(fault.Invalid, "project.which", "no project is named").In("project").
		Do("name one of %s, or say once which is yours with: innerladder project use NAME", strings.Join(may, ", "))
}

// UseProject chooses the project in which somebody's new things are when they name none; empty
// chooses none.
func (s *Service) UseProject(ctx context.Context, by act.Actor, project string) (wire.Me, error) {
	if _, err := act.Change(ctx, s.Base, by, access.Own, func(t *act.Tx) (struct{}, error) {
		if project != "" {
			if err := s.CheckProject(ctx, t.View, project); err != nil {
				return struct{}{}, err
			}
		}
		if err := t.View.UseProject(ctx, t.By.Name, project); err != nil {
			return struct{}{}, err
		}
		return struct{}{}, t.Note(ctx, act.Entry{
			Kind: "person.choices", Subject: t.By.Name,
			Sentence: t.By.Name + " chose the project of what they add without naming one.", After: project,
		})
	}); err != nil {
		return wire.Me{}, err
	}
	return s.WhoAmI(ctx, by)
}

// EditProject changes what is said about a project.
func (s *Service) EditProject(ctx context.Context, by act.Actor, name, description,
	reason string,
) (registry.Project, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (registry.Project, error) {
		before, err := s.findProject(ctx, t.View, name)
		if err != nil {
			return before, err
		}
		after := before
		after.Description = description
		if err := t.View.DescribeProject(ctx, name, description); err != nil {
			return before, err
		}
		return after, t.Note(ctx, act.Entry{
			Project: name, Kind: "project.changed", Subject: name,
			Sentence: "The project " + name + " is described otherwise.", Reason: reason, Before: before, After: after,
		})
	})
}

// RemoveProject takes away a project in which nothing is. Its record stays.
func (s *Service) RemoveProject(ctx context.Context, by act.Actor, name, reason string) (registry.Project, error) {
	return act.Change(ctx, s.Base, by, access.Administer, func(t *act.Tx) (registry.Project, error) {
		p, err := s.findProject(ctx, t.View, name)
		if err != nil {
			return p, err
		}
		if name == DefaultProject {
			return p, fault.New(fault.Refused, "project.default", "the project %s cannot be taken away", name).
				In("project").Do("leave it empty")
		}
		uses, err := t.UsesOfProject(ctx, name)
		if err != nil {
			return p, err
		}
		if len(uses) > 0 {
			return p, fault.New(fault.Refused, "project.in_use", "%s is in use: it has %s", name,
				strings.Join(uses, ", ")).In("project").Do("move or take away what is in it first")
		}
		if err := t.View.RemoveProject(ctx, name); err != nil {
			return p, err
		}
		return p, t.Note(ctx, act.Entry{
			Kind: "project.removed", Subject: name,
			Sentence: "The project " + name + " was taken away.", Reason: reason, Before: p,
		})
	})
}

func (s *Service) findProject(ctx context.Context, r records.View, name string) (registry.Project, error) {
	all, err := r.Projects(ctx)
	if err != nil {
		return registry.Project{}, err
	}
	if i := slices.IndexFunc(all, func(p registry.Project) bool { return p.Name == name }); i >= 0 {
		return all[i], nil
	}
	return registry.Project{}, s.CheckProject(ctx, r, name)
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
