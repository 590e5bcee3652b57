package registry

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/ladder"
	"innerladder/internal/core/naming"
	"innerladder/internal/core/registry"
	"innerladder/internal/core/traffic"
	"innerladder/internal/records"
)

// moveModel puts a model into another project, where everything that it stands on and runs in must
// be too. Whoever moves it manages both.
func (s *Service) moveModel(ctx context.Context, t *act.Tx, m registry.Model, project, reason string) error {
	if err := s.people.CheckProject(ctx, t.View, project); err != nil {
		return err
	}
	refuse := func(remedy, why string, args ...any) error {
		return fault.New(fault.Refused, "model.cannot_move", "%s cannot move to %s: %s", m.Name, project,
			fmt.Sprintf(why, args...)).In("project").Do("%s", remedy)
	}
	l, err := t.Ladder(ctx, project)
	if err != nil {
		return err
	}
	for rung, count := range m.Counts {
		if count > 0 && rung != ladder.Retired && l.Height(rung) < 0 {
			return refuse("give the ladder the rung first, or retire those versions",
				"versions stand on %s, and its ladder has no such rung", rung)
		}
	}
	open, err := t.OpenPromotionsOf(ctx, m.Name)
	if err != nil {
		return err
	}
	if len(open) > 0 {
		return refuse("decide or withdraw it first", "%s is open", strings.Join(open, ", "))
	}
	endpoints, err := s.endpointsOf(ctx, t.View, m.Name)
	if err != nil {
		return err
	}
	places, err := t.EnvironmentsOf(ctx, m.Name)
	if err != nil {
		return err
	}
	for _, e := range endpoints {
		if l.Height(e.Rung) < 0 {
			return refuse("change the endpoint first with: innerladder endpoint edit "+e.Name+" -rung RUNG",
				"%s demands %s, and its ladder has no such rung", e.Name, e.Rung)
		}
		places = append(places, e.Environment)
	}
	for _, name := range places {
		e, err := t.Within(records.Everything).Environment(ctx, name)
		if err != nil {
			return err
		}
		if !e.Serves(project) {
			return refuse("share the environment first", "it is in %s, which is not for %s", name, project)
		}
	}
	if err := t.MoveModel(ctx, m.Name, project); err != nil {
		return err
	}
	for _, where := range []string{m.Project, project} {
		if err := t.Note(ctx, act.Entry{
			Project: where, Kind: "model.moved", Subject: m.Name, Needs: access.Manage, Reason: reason,
			Sentence: fmt.Sprintf("%s was moved from %s to %s.", m.Name, m.Project, project),
			Before:   m.Project, After: project,
		}); err != nil {
			return err
		}
	}
	return nil
}

// endpointsOf lists the endpoints of a model.
func (s *Service) endpointsOf(ctx context.Context, r records.View, model string) ([]traffic.Endpoint, error) {
	all, err := r.Endpoints(ctx)
	return slices.DeleteFunc(all, func(e traffic.Endpoint) bool { return e.Model != model }), err
}

// renameModel gives a model another name, while nothing names it that could not follow: no signed
// statement, no model server, no endpoint.
func (s *Service) renameModel(ctx context.Context, t *act.Tx, m registry.Model, to, reason string) error {
	uses, err := t.NamedBy(ctx, m.Name)
	if err != nil {
		return err
	}
	if len(uses) > 0 {
		return fault.New(fault.Refused, "model.named", "%s cannot be renamed: %s", m.Name, strings.Join(uses, ", ")).
			In("name").Do("keep the name; what was signed, served and called names it")
	}
	if err := act.NameFree(ctx, t.View, "models", to); err != nil {
		return err
	}
	if err := t.RenameModel(ctx, m.Name, to); err != nil {
		return err
	}
	return t.Note(ctx, act.Entry{
		Project: m.Project, Kind: "model.renamed", Subject: to, Also: []string{m.Name}, Needs: access.Manage,
		Reason: reason, Sentence: fmt.Sprintf("%s was renamed to %s.", m.Name, to), Before: m.Name, After: to,
	})
}

// RemoveModel takes away a model that has no version any more. Its name is free again.
func (s *Service) RemoveModel(ctx context.Context, by act.Actor, name, reason string) (registry.Model, error) {
	if err := naming.CheckReason(reason, "say why; the name means something else from now on"); err != nil {
		return registry.Model{}, err
	}
	return s.changeModel(ctx, by, access.Manage, name, func(t *act.Tx, m registry.Model) (registry.Model, error) {
		if m.Versions > 0 {
			return m, fault.New(fault.Refused, "model.in_use", "%s has versions: %d", name, m.Versions).In("model").
				Do("delete them first with: innerladder delete %s@NUMBER -why REASON", name)
		}
		endpoints, err := s.endpointsOf(ctx, t.View, name)
		if err != nil {
			return m, err
		}
		if len(endpoints) > 0 {
			return m, fault.New(fault.Refused, "model.in_use", "the endpoint %s is for %s", endpoints[0].Name, name).
				In("model").Do("take it away first with: innerladder endpoint remove %s", endpoints[0].Name)
		}
		if err := t.View.RemoveModel(ctx, name, t.Now); err != nil {
			return m, err
		}
		return m, t.Note(ctx, act.Entry{
			Project: m.Project, Kind: "model.removed", Subject: name, Reason: reason, Before: m,
			Sentence: "The model " + name + " was taken away.",
		})
	})
}
