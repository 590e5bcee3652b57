package traffic

import (
	"context"
	"errors"
	"fmt"
	"reflect"
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
func (s *Service) AddEnvironment(ctx context.Context, by act.Actor,
	n wire.NewEnvironment,
) (traffic.Environment, error) {
	if err := naming.Check("name", n.Name); err != nil {
		return traffic.Environment{}, err
	}
	rules, err := traffic.CheckRules("allowed", n.Allowed)
	if err != nil {
		return traffic.Environment{}, err
	}
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (e traffic.Environment, err error) {
		e = traffic.Environment{
			Name: n.Name, Description: n.Description, Allowed: rules, AddedBy: t.By.Name, AddedAt: t.Now,
		}
		if e.Project, err = s.people.ProjectFor(ctx, t, n.Project); err != nil {
			return e, err
		}
		if e.SharedWith, err = s.sharedWith(ctx, t, e.Project, n.SharedWith); err != nil {
			return e, err
		}
		if err := s.environmentFree(ctx, t, n.Name); err != nil {
			return e, err
		}
		if err := t.View.AddEnvironment(ctx, e); err != nil {
			return e, err
		}
		return e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "environment.added", Subject: e.Name,
			Sentence: "Environment " + e.Name + " was added" + sharing(e) + ".", After: e,
		})
	})
}

func sharing(e traffic.Environment) string {
	if len(e.SharedWith) == 0 {
		return " for " + e.Project
	}
	return " for " + e.Project + ", shared with " + strings.Join(e.SharedWith, ", ")
}

// environmentFree refuses the name of an environment that is there.
func (s *Service) environmentFree(ctx context.Context, t *act.Tx, name string) error {
	switch _, err := t.Environment(ctx, name); {
	case err == nil:
		return fault.New(fault.Refused, "environment.exists", "there is an environment %s already", name).
			In("name").Do("use it, or choose another name")
	case !errors.Is(err, records.ErrNone):
		return err
	}
	return act.NameFree(ctx, t.View, "environments", name)
}

// sharedWith reads the projects that an environment is shared with, each once. Only those in sight
// can be named.
func (s *Service) sharedWith(ctx context.Context, t *act.Tx, own string, named []string) ([]string, error) {
	out := []string{}
	for _, project := range named {
		if err := s.people.CheckProject(ctx, t.View, project); err != nil {
			return nil, err
		}
		if project != own && !slices.Contains(out, project) {
			out = append(out, project)
		}
	}
	slices.Sort(out)
	return out, nil
}

// EditEnvironment changes an environment. What runs there, and what its servers are sent, must be
// allowed afterwards too.
func (s *Service) EditEnvironment(ctx context.Context, by act.Actor, name string,
	edit wire.EditEnvironment,
) (traffic.Environment, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (traffic.Environment, error) {
		before, hidden, err := s.kept(ctx, t, name)
		if err != nil {
			return before, err
		}
		after, err := s.edited(ctx, t, before, edit)
		if err != nil {
			return before, err
		}
		if reflect.DeepEqual(before, after) {
			return before, nothingToChange("a rule, a project, a description")
		}
		whole := after
		whole.SharedWith = slices.Concat(after.SharedWith, hidden)
		if err := s.stillFits(ctx, t, name, whole); err != nil {
			return before, err
		}
		if after.Name != name {
			if err := s.environmentFree(ctx, t, after.Name); err != nil {
				return before, err
			}
			if err := s.follows(ctx, t, name, whole); err != nil {
				return before, err
			}
		}
		if err := t.SetEnvironment(ctx, name, whole); err != nil {
			return before, err
		}
		e := act.Entry{
			Project: after.Project, Kind: "environment.changed", Subject: after.Name,
			Sentence: fmt.Sprintf("Environment %s was changed.", name), Reason: edit.Reason, Before: before,
			After: after,
		}
		if after.Name != name {
			e.Sentence, e.Also = fmt.Sprintf("Environment %s was renamed to %s.", name, after.Name), []string{name}
		}
		return after, t.Note(ctx, e)
	})
}

// kept finds an environment that whoever acts may keep, and the projects that it is shared with
// but that they do not see.
func (s *Service) kept(ctx context.Context, t *act.Tx,
	name string,
) (e traffic.Environment, hidden []string, err error) {
	if e, err = s.findEnvironment(ctx, t.View, name); err != nil {
		return e, nil, err
	}
	if err := t.Need(e.Project); err != nil {
		return e, nil, err
	}
	whole, err := s.findEnvironment(ctx, t.Within(records.Everything), name)
	for _, project := range whole.SharedWith {
		if !slices.Contains(e.SharedWith, project) {
			hidden = append(hidden, project)
		}
	}
	return e, hidden, err
}

// follows has what names an environment name it as it is called from now on: its headers. What
// cannot follow, because it is immutable, refuses the new name.
func (s *Service) follows(ctx context.Context, t *act.Tx, old string, e traffic.Environment) error {
	for _, project := range append([]string{e.Project}, e.SharedWith...) {
		l, err := t.Ladder(ctx, project)
		if err != nil {
			return err
		}
		if l.Demands(old) {
			return fault.New(fault.Refused, "environment.in_use", "a gate of the ladder of %s names %s", project, old).
				In("name").Do("change the ladder first, or keep the name")
		}
	}
	headers, err := s.headersOf(ctx, t.View, old)
	if err != nil {
		return err
	}
	for _, h := range headers {
		if err := s.secrets.Put(ctx, t, headerSecret(e.Name, h.Name), []byte(h.Value)); err != nil {
			return err
		}
		if err := t.RemoveSecret(ctx, headerSecret(old, h.Name)); err != nil {
			return err
		}
	}
	return nil
}

// edited is an environment with what an edit changes; its names are checked.
func (s *Service) edited(ctx context.Context, t *act.Tx, e traffic.Environment,
	edit wire.EditEnvironment,
) (traffic.Environment, error) {
	var err error
	if edit.Name != nil {
		if e.Name = *edit.Name; naming.Check("name", e.Name) != nil {
			return e, naming.Check("name", e.Name)
		}
	}
	if edit.Description != nil {
		e.Description = *edit.Description
	}
	if edit.Project != nil {
		if err := s.people.CheckProject(ctx, t.View, *edit.Project); err != nil {
			return e, err
		}
		e.Project = *edit.Project
	}
	if edit.SharedWith != nil {
		if e.SharedWith, err = s.sharedWith(ctx, t, e.Project, *edit.SharedWith); err != nil {
			return e, err
		}
	}
	e.SharedWith = slices.DeleteFunc(slices.Clone(e.SharedWith), func(p string) bool { return p == e.Project })
	if edit.Allowed != nil {
		if e.Allowed, err = traffic.CheckRules("allowed", *edit.Allowed); err != nil {
			return e, err
		}
	}
	return e, nil
}

// stillFits refuses a change of an environment by which something that is there, wherever it is
// seen, would be where it may not be.
func (s *Service) stillFits(ctx context.Context, t *act.Tx, name string, e traffic.Environment) error {
	all := t.Within(records.Everything)
	placements, err := all.Placements(ctx, "")
	if err != nil {
		return err
	}
	what := func(project, what string) string {
		if !t.By.Rights.May(access.Read, project) {
			return "something of another project"
		}
		return what
	}
	if e.Headers > 0 && len(e.Allowed) == 0 {
		return e.CheckAddress("")
	}
	for _, p := range placements {
		if p.Environment != name {
			continue
		}
		if !e.Serves(p.Project) {
			return inUse(e.Name, what(p.Project, p.Version), "placed there", "unplace it first, or go on sharing it")
		}
		for _, a := range p.Addresses {
			if e.CheckAddress(a.URL) != nil {
				return inUse(e.Name, what(p.Project, p.Version), "placed at "+what(p.Project, a.URL),
					"take the address away first, or allow it")
			}
		}
	}
	endpoints, err := all.Endpoints(ctx)
	if err != nil {
		return err
	}
	for _, n := range endpoints {
		if n.Environment == name && !e.Serves(n.Project) {
			return inUse(e.Name, what(n.Project, n.Name), "an endpoint there", "go on sharing it")
		}
	}
	return nil
}

// nothingToChange refuses an edit after which everything is as before.
func nothingToChange(such string) error {
	return fault.New(fault.Invalid, "edit.nothing", "nothing is to change").In("body").Do("say what, such as %s", such)
}

func inUse(environment, who, how, remedy string) error {
	return fault.New(fault.Refused, "environment.in_use", "%s cannot be changed so: %s is %s", environment, who, how).
		In("environment").Do("%s", remedy)
}

// RemoveEnvironment takes away an environment in which nothing runs, with its headers.
func (s *Service) RemoveEnvironment(ctx context.Context, by act.Actor,
	name, reason string,
) (traffic.Environment, error) {
	return act.Change(ctx, s.Base, by, access.Manage, func(t *act.Tx) (traffic.Environment, error) {
		e, _, err := s.kept(ctx, t, name)
		if err != nil {
			return e, err
		}
		uses, err := t.UsesOfEnvironment(ctx, name)
		if err != nil {
			return e, err
		}
		if len(uses) > 0 {
			return e, fault.New(fault.Refused, "environment.in_use", "%s is in use: %s", name,
				strings.Join(uses, "; ")).In("environment").
				Do("take away what runs there first with: innerladder unplace")
		}
		headers, err := t.Secrets(ctx, headerSecret(name, ""))
		if err != nil {
			return e, err
		}
		for _, h := range headers {
			if err := t.RemoveSecret(ctx, h.Name); err != nil {
				return e, err
			}
		}
		if err := t.View.RemoveEnvironment(ctx, name, t.Now); err != nil {
			return e, err
		}
		return e, t.Note(ctx, act.Entry{
			Project: e.Project, Kind: "environment.removed", Subject: name,
			Sentence: "Environment " + name + " was taken away.", Reason: reason, Before: e,
		})
	})
}

// Environments lists the environments of projects in sight, and those that are shared with them.
func (s *Service) Environments(ctx context.Context, by act.Actor) (wire.Listed[traffic.Environment], error) {
	return act.List(s.Base, by, func(r records.View) ([]traffic.Environment, string, error) {
		all, err := r.Environments(ctx)
		return all, "", err
	})
}

// findEnvironment finds an environment by name, or says which there are.
func (s *Service) findEnvironment(ctx context.Context, r records.View, name string) (traffic.Environment, error) {
	e, err := r.Environment(ctx, name)
	if err == nil {
		return *e, nil
	}
	if !errors.Is(err, records.ErrNone) {
		return traffic.Environment{}, err
	}
	all, err := r.Environments(ctx)
	if err != nil {
		return traffic.Environment{}, err
	}
	names := make([]string, len(all))
	for i, e := range all {
		names[i] = e.Name
	}
	return traffic.Environment{}, fault.New(fault.Unknown, "environment.unknown", "there is no environment %q", name).
		In("environment").
		Do("%s; add it with: innerladder environment add NAME", act.Exist("environments", names))
}
