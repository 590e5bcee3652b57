package rollouts

import (
	"context"
	"fmt"
	"strings"

	"innerladder/internal/app/act"
	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/rollout"
	"innerladder/internal/intake"
	"innerladder/internal/records"
	"innerladder/internal/wire"
)

func builtIn(p rollout.Plan) wire.KeptPlan { return wire.KeptPlan{Plan: p, Text: intake.PlanText(p)} }

func shown(p records.StoredPlan) wire.KeptPlan {
	return wire.KeptPlan{
		Plan: p.Plan, Project: p.Project, Text: p.Text, Reason: p.Reason, Author: p.Author, MadeAt: p.MadeAt,
	}
}

// Plans lists the plans that there are: those that are built in, and the newest revisions of projects' own.
func (s *Service) Plans(ctx context.Context, by act.Actor) (wire.Listed[wire.KeptPlan], error) {
	return act.List(s.Base, by, func(r records.View) ([]wire.KeptPlan, string, error) {
		var out []wire.KeptPlan
		for _, p := range rollout.BuiltIn() {
			out = append(out, builtIn(p))
		}
		stored, err := r.Plans(ctx)
		for _, p := range stored {
			out = append(out, shown(p))
		}
		return out, "", err
	})
}

// Plan finds a plan by NAME or NAME#REVISION: one that is built in, or a project's own.
func (s *Service) Plan(ctx context.Context, by act.Actor, project, named string) (wire.KeptPlan, error) {
	if err := by.May(access.Read); err != nil {
		return wire.KeptPlan{}, err
	}
	r := s.Read(by)
	if name, _, _ := strings.Cut(named, "#"); project == "" && !rollout.IsBuiltIn(name) {
		all, err := r.Plans(ctx)
		if err != nil {
			return wire.KeptPlan{}, err
		}
		for _, p := range all {
			if p.Plan.Name != name {
				continue
			}
			if project != "" {
				return wire.KeptPlan{}, fault.New(fault.Invalid, "plan.which", "%s and %s both have a plan %s", project,
					p.Project, name).
					In("project").
					Do("name one of them with -project")
			}
			project = p.Project
		}
	}
	return s.plan(ctx, r, project, named)
}

// PutPlan keeps a new revision of a project's own plan, which is read as it was written.
func (s *Service) PutPlan(ctx context.Context, by act.Actor, project, text, reason string) (wire.KeptPlan, error) {
	p, err := intake.Plan([]byte(text))
	if err != nil {
		return wire.KeptPlan{}, err
	}
	if rollout.IsBuiltIn(p.Name) {
		return wire.KeptPlan{}, fault.New(fault.Refused, "plan.built_in", "%s is a plan that is built in", p.Name).
			In("text").
			Do("give yours another name")
	}
	return act.Change(ctx, s.Base, by, access.Route, func(t *act.Tx) (wire.KeptPlan, error) {
		project, err := s.people.ProjectFor(ctx, t, project)
		if err != nil {
			return wire.KeptPlan{}, err
		}
		stored := records.StoredPlan{
			Project: project, Plan: p, Text: text, Reason: reason, Author: t.By.Name, MadeAt: t.Now,
		}
		if before, err := t.Plan(ctx, project, p.Name, 0); err == nil && before.Text == text {
			return wire.KeptPlan{}, fault.New(fault.Refused, "plan.same", "%s#%d says the same", p.Name,
				before.Plan.Revision).
				In("text").
				Do("nothing needs doing")
		}
		if err := t.AddPlan(ctx, &stored); err != nil {
			return wire.KeptPlan{}, err
		}
		return shown(stored), t.Note(ctx, act.Entry{
			Project: project, Kind: "plan.made", Subject: p.Name,
			Sentence: fmt.Sprintf("Plan %s#%d was made.", p.Name, stored.Plan.Revision), Reason: reason,
			After: stored.Plan,
		})
	})
}
